"""Analyses of recorded files: read, analyse, report, draw."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.heat.analysis import HeatAnalysis, analyse_heat, fitted_response
from ublet.core.heat.model_fit import UnfitRecord
from ublet.core.heat.report import STEP_COLUMNS
from ublet.core.level.recorded_touches import Touches, analyse_touches
from ublet.core.motion.measuring import Instrument
from ublet.core.motion.recorded_steps import analyse_steps
from ublet.core.recorded import RecordError, Table, check_times, parse_table
from ublet.core.run import Series
from ublet.core.shake.choosing import Limits
from ublet.session.analysing_mesh import analyse_mesh
from ublet.session.analysing_shake import resonance, ripples

LATER = ("advance", "flow")

Draw = Callable[[Path], None]


@dataclass(frozen=True)
class Options:
    """What an analysis may be told besides its file; each kind looks at what concerns it. spread_mm: of one height;
    limits: of shapers.
    """

    instrument: Instrument = "callipers"
    machine: Path | None = None
    against: Path | None = None
    spread_mm: float | None = None
    limits: Limits = field(default_factory=Limits)


def analyse_file(kind: str, file: Path, options: Options = Options()) -> tuple[dict[str, Any], Draw]:
    """Analyse a recorded file; returns its report and what draws its figure to a path.

    Raises:
        RecordError: unknown kind, or the record cannot be used. DocumentError: nor the machine file. OSError: the file
            cannot be read.
    """
    if kind in LATER:
        raise RecordError(f"analyse {kind}: not built yet; built are {', '.join(KINDS)}.")
    if kind not in KINDS:
        raise RecordError(f"analyse {kind}: unknown; allowed: {', '.join((*KINDS, *LATER))}.")
    return KINDS[kind](_text(file), file, options)


def _text(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise RecordError(f"{file} is not text (byte {error.start}): export it as CSV in UTF-8.") from error


def _mesh(text: str, file: Path, options: Options) -> tuple[dict[str, Any], Draw]:
    from ublet.session.document import Document

    machine = Document(options.machine).machine if options.machine is not None else None
    other = (_text(options.against), options.against) if options.against is not None else None
    return analyse_mesh(text, file, machine, other, options.spread_mm)


def _heat(text: str, file: Path, options: Options) -> tuple[dict[str, Any], Draw]:
    table = parse_table(text, STEP_COLUMNS, str(file))
    check_times(table, "time_s", str(file))
    time_s, duty, celsius = (table.columns[name] for name in STEP_COLUMNS)
    time_s = time_s - time_s[0]
    try:
        found = analyse_heat(time_s, duty, celsius)
    except UnfitRecord as error:
        raise RecordError(f"{file}: {error}.") from error

    def draw(path: Path) -> None:
        from ublet.figures.heat import draw_heat

        used, fitted = found.record, np.stack(fitted_response(found), 1)
        shown = {
            "record": Series(STEP_COLUMNS, np.stack([used.time_s, used.duty, used.celsius], 1)),
            "predicted by the fitted model": Series(STEP_COLUMNS, fitted),
        }
        draw_heat(shown, f"{file.name} · {found.choice}: {found.why}", found.target_c, path)

    return _heat_report(found, table), draw


def _heat_report(found: HeatAnalysis, table: Table) -> dict[str, Any]:
    model, unsure = found.fit.model, found.fit.uncertainty
    return {
        "kind": "heat",
        "samples": len(found.record.time_s),
        "model": {
            "gain_c": model.held_gain_c,
            "time_constant_s": model.time_constant_s,
            "dead_time_s": model.dead_time_s,
            "second_lag_s": model.second_lag_s,
            "ambient_c": model.ambient_c,
            "residual_c": found.fit.residual_c,
            "gain_c_u": unsure.held_gain_c,
            "time_constant_s_u": unsure.time_constant_s,
            "dead_time_s_u": math.hypot(unsure.delay_s, model.second_lag_s / math.sqrt(3)),
            "delay_s": model.delay_s,
            "delay_s_u": unsure.delay_s,
            "loss_curve_per_c": model.curve,
            "loss_curve_per_c_u": unsure.curve,
            "ambient_c_u": found.ambient_u_c,
        },
        "target_c": found.target_c,
        "candidates": [
            {
                "name": each.name,
                "rule": each.note,
                "kp": each.gains.kp,
                "ki": each.gains.ki,
                "kd": each.gains.kd,
                "overshoot_c": each.step.measure.overshoot_c,
                "settle_s": each.step.measure.settle_s,
                "ripple_c": each.step.measure.ripple_c,
            }
            for each in found.made.values()
        ],
        "choice": found.choice,
        "why": found.why,
        "notes": [*table.notes, *found.notes],
    }


def _touches(text: str, file: Path, options: Options) -> tuple[dict[str, Any], Draw]:
    table = parse_table(text, ("z_mm",), str(file), ("speed_mm_s",))
    try:
        found = analyse_touches(table.columns["z_mm"], table.columns.get("speed_mm_s"))
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error
    whole, heights = found.whole, found.heights_mm

    def draw(path: Path) -> None:
        from ublet.figures.touches import draw_touches

        draw_touches(heights, table.columns.get("speed_mm_s"), file.name, path)

    return {
        "kind": "touches",
        "count": len(heights),
        "mean_mm": whole.mean_mm if whole is not None else float(heights.mean()),
        "range_mm": whole.range_mm if whole is not None else float(np.ptp(heights)),
        "deviation_mm": whole.deviation_mm if whole is not None else None,
        "deviation_u_mm": whole.deviation_u_mm if whole is not None else None,
        "drift_mm_per_touch": whole.drift_mm if whole is not None else None,
        "drift_u_mm_per_touch": whole.drift_u_mm if whole is not None else None,
        "outliers": list(whole.outliers) if whole is not None else _outliers(found, table),
        "speeds": [
            {
                "speed_mm_s": each.speed_mm_s,
                "count": each.scatter.count,
                "deviation_mm": each.scatter.deviation_mm,
                "deviation_u_mm": each.scatter.deviation_u_mm,
            }
            for each in found.speeds
        ],
        "recommended_speed_mm_s": found.recommended_mm_s,
        "choice": "touches",
        "why": found.why or (f"{len(heights)} touches of one place"),
        "notes": list(table.notes),
    }, draw


def _outliers(found: Touches, table: Table) -> list[int]:
    """Row numbers of the outliers at every speed."""
    speeds, rows = table.columns["speed_mm_s"], []
    for each in found.speeds:
        own = np.flatnonzero(speeds == each.speed_mm_s)
        rows += [int(own[number]) for number in each.scatter.outliers]
    return sorted(rows)


def _steps(text: str, file: Path, options: Options) -> tuple[dict[str, Any], Draw]:
    table = parse_table(text, ("commanded_mm", "measured_mm"), str(file))
    try:
        found = analyse_steps(table.columns["commanded_mm"], table.columns["measured_mm"], options.instrument)
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error

    def draw(path: Path) -> None:
        raise RecordError("steps has no figure: leave out --svg and --pdf.")

    return {
        "kind": "steps",
        "readings": table.rows,
        "instrument": options.instrument,
        "scale": found.scale,
        "scale_u": found.uncertainty,
        "steps_factor": 1 / found.scale if found.choice in ("change", "leave it") else None,
        "choice": found.choice,
        "why": found.why,
        "notes": list(table.notes),
    }, draw


Analyse = Callable[[str, Path, Options], tuple[dict[str, Any], Draw]]

KINDS: Mapping[str, Analyse] = {
    "heat": _heat,
    "mesh": _mesh,
    "resonance": lambda text, file, options: resonance(text, file, options.limits),
    "ripples": lambda text, file, options: ripples(text, file),
    "steps": _steps,
    "touches": _touches,
}
"""Every kind that is built, by its name."""
