"""Analyses of recorded files: heat, mesh, steps, touches, resonance, ripples; read, analysed, reported, drawn."""

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
from ublet.core.level.mesh.check_trials import Compared, compare
from ublet.core.level.mesh.mesh import Described, Mesh, describe, mesh_of
from ublet.core.level.scatter import Touches, analyse_touches
from ublet.core.level.support.screws import screw_heights, shape_for, staying, turns_for
from ublet.core.level.surface import fit_surface
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.measuring import Instrument
from ublet.core.motion.steps import analyse_steps
from ublet.core.recorded import RecordError, Table, check_times, parse_table
from ublet.core.run import Series
from ublet.core.shake.choosing import Limits, ShaperCandidate
from ublet.core.shake.recorded_shake import Shaken, analyse_resonance
from ublet.core.shake.tower import frequency_of
from ublet.session.analysing_filament import advance, flow

DrawFigure = Callable[[Path], None]
RIPPLES = ("ripples", "distance_mm", "speed_mm_s")


def resonance(text: str, file: Path, limits: Limits) -> tuple[dict[str, Any], DrawFigure]:
    """Report of a recorded acceleration, and what draws it.

    Raises:
        RecordError: it cannot be used.
    """
    analysis = analyse_resonance(text, str(file), limits)

    def draw(path: Path) -> None:
        from ublet.figures.resonance import draw_resonance

        draw_resonance(analysis.axes, limits, file.name, path)

    chosen = {axis: shaken.choice.chosen.name for axis, shaken in analysis.axes.items()}
    report = {
        "kind": "resonance",
        "axes": {axis: _axis(shaken, limits) for axis, shaken in analysis.axes.items()},
        "problems": list(analysis.problems),
        "seconds_of_data": analysis.seconds,
        "choice": ", ".join(f"{axis} {name}" for axis, name in chosen.items()),
        "why": "; ".join(f"{axis}: {shaken.choice.why}" for axis, shaken in analysis.axes.items()),
        "notes": list(analysis.problems),
    }
    return report, draw


def _axis(shaken: Shaken, limits: Limits) -> dict[str, Any]:
    return {
        "modes": [
            {
                "frequency_hz": mode.frequency_hz,
                "frequency_u": mode.frequency_u,
                "damping_ratio": mode.damping_ratio,
                "damping_u": mode.damping_u,
                "share": mode.modal_share,
            }
            for mode in shaken.modes
        ],
        "shapers": [_shaper(shaper, limits) for shaper in shaken.choice.shapers],
        "choice": shaken.choice.chosen.name,
        "why": shaken.choice.why,
    }


def _shaper(shaper: ShaperCandidate, limits: Limits) -> dict[str, Any]:
    impulses = shaper.impulses
    return {
        "name": shaper.name,
        "frequency_hz": shaper.frequency_hz,
        "impulses": [[float(t), float(a)] for t, a in zip(impulses.times, impulses.amplitudes, strict=True)],
        "residual": shaper.residual,
        "residual_drifted": shaper.drifted,
        "rounding_mm": shaper.rounds(limits),
        "acceleration_mm_s2": limits.acceleration_mm_s2,
        "max_acceleration_mm_s2": impulses.highest_mm_s2(limits.rounding_mm),
    }


def ripples(text: str, file: Path) -> tuple[dict[str, Any], DrawFigure]:
    """Report of ripples read off a part; there is nothing to draw of it.

    Raises:
        RecordError: it cannot be used.
    """
    header, axes = _split(text, file)
    rows_by_axis, problems = {}, []
    for axis, lines in axes.items():
        table = parse_table("\n".join([header, *lines, *([lines[0]] if len(lines) == 1 else [])]), RIPPLES, str(file))
        rows = list(zip(*(table.columns[name].tolist() for name in RIPPLES), strict=True))[: len(lines)]
        try:
            reading = frequency_of(rows)
        except ValueError as error:
            raise RecordError(f"{file}: axis {axis}: {error}.") from error
        rows_by_axis[axis] = {"frequency_hz": reading.frequency_hz, "frequency_u": reading.frequency_u}
        problems += [f"{axis}: {problem}" for problem in reading.problems]

    def draw(path: Path) -> None:
        raise ValueError(f"{path.name}: there is nothing to draw of ripples")

    words = ", ".join(
        f"{axis} {axis_rows['frequency_hz']:.1f} ±{2 * axis_rows['frequency_u']:.1f} Hz"
        for axis, axis_rows in rows_by_axis.items()
    )
    why = "counting ripples gives no damping: choose a shaper that tolerates 0.05 to 0.15, and verify it"
    return {
        "kind": "ripples",
        "axes": rows_by_axis,
        "problems": problems,
        "choice": words,
        "why": why,
        "notes": problems,
    }, draw


def _split(text: str, file: Path) -> tuple[str, dict[str, list[str]]]:
    """The header, and the rows by the axis that they are about; all of x where no column shows it."""
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip() and not line.startswith("#")]
    if len(lines) < 2:
        raise RecordError(f"{file} has no rows: it needs a header line {','.join(RIPPLES)} and a row for each band.")
    header = [cell.strip().lower() for cell in lines[0].split(",")]
    if "axis" not in header:
        return lines[0], {"x": lines[1:]}
    at = header.index("axis")
    columns_by_axis: dict[str, list[str]] = {}
    for number, line in enumerate(lines[1:], start=2):
        cells = line.split(",")
        axis = cells[at].strip().lower() if at < len(cells) else ""
        if axis not in ("x", "y", "z"):
            raise RecordError(f"{file}: row {number}: axis: found “{axis}”; allowed: x, y, z.")
        cells[at] = "0"
        columns_by_axis.setdefault(axis, []).append(",".join(cells))
    return lines[0], columns_by_axis


COLUMNS = ("x_mm", "y_mm", "z_mm")


def mesh_from(text: str, file: Path) -> tuple[Mesh, Table]:
    """A mesh from a table of points in any order.

    Raises:
        RecordError: the table is none, or its points make no grid.
    """
    table = parse_table(text, COLUMNS, str(file))
    try:
        return mesh_of(*(table.columns[name] for name in COLUMNS)), table
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error


def analyse_mesh(
    text: str, file: Path, machine: MachineFile | None, other: tuple[str, Path] | None, spread_mm: float | None
) -> tuple[dict[str, Any], DrawFigure]:
    """Report of a mesh, and what draws it. machine: turns are computed for its screws; other: the text of a mesh to
    compare with, and its file.

    Raises:
        RecordError: one of the two cannot be used, or they have too little in common.
    """
    mesh, table = mesh_from(text, file)
    try:
        figures = describe(mesh)
        compared = None
        if other is not None:
            compared = compare(mesh, mesh_from(*other)[0], spread_mm)
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error

    def draw(path: Path) -> None:
        from ublet.figures.mesh import draw_mesh

        draw_mesh(compared.difference if compared is not None else mesh, figures.outliers, file.name, path)

    report: dict[str, Any] = {
        "kind": "mesh",
        "columns": mesh.columns,
        "rows": mesh.rows,
        "range_mm": figures.range_mm,
        "rms_mm": figures.rms_mm,
        "tilt_x_mm": figures.tilt_x_mm,
        "tilt_y_mm": figures.tilt_y_mm,
        "warp_range_mm": figures.warp_range_mm,
        "warp_rms_mm": figures.warp_rms_mm,
        "holes": [list(place) for place in mesh.holes],
        "outliers": [list(place) for place in figures.outliers],
        "choice": compared.verdict if compared is not None else "mesh",
        "why": compared.words if compared is not None else _words(figures),
        "notes": list(table.notes),
    }
    if machine is not None:
        report["screws"] = _screws(machine, figures, file)
    if compared is not None:
        report["against"] = _against(compared)
    return report, draw


def _words(figures: Described) -> str:
    """Whether it is good enough to print on, in words."""
    flat = figures.warp_range_mm
    words = "as flat as a first layer needs" if flat < 0.05 else "a mesh is worth it" if flat < 0.4 else "warped"
    return (
        f"{figures.range_mm:.3f} mm from lowest to highest; without its tilt {flat:.3f}, {words}; screws can only take "
        "out the tilt"
    )


def _screws(machine: MachineFile, figures: Described, file: Path) -> list[dict[str, Any]]:
    if not machine.bed.screws:
        raise RecordError(
            f"{file}: the machine file declares no screws of the bed: leave out --machine, or add [bed.screws]."
        )
    screws = machine.bed.screws
    good = figures.mesh.without(figures.outliers)
    there = [(place, mm) for place, mm in zip(good.places, good.heights.ravel().tolist(), strict=True) if mm == mm]
    surface = fit_surface([place for place, _ in there], [mm for _, mm in there], shape_for(screws))
    heights = screw_heights(screws, surface)
    stays = staying(heights)
    return [
        {
            "name": name,
            "turns": 0.0 if turn.rests or name == stays else turn.turns,
            "direction": "clockwise" if turn.clockwise else "counter-clockwise",
            "effect": "stays" if name == stays else turn.words,
        }
        for name, turn in turns_for(screws, heights, stays).items()
    ]


def _against(compared: Compared) -> dict[str, Any]:
    return {
        "verdict": compared.verdict,
        "shift_mm": compared.shift_mm,
        "tilt_x_mm": compared.tilt_x_mm,
        "tilt_y_mm": compared.tilt_y_mm,
        "shape_rms_mm": compared.shape_rms_mm,
        "spread_mm": compared.spread_mm,
        "points": compared.points,
    }


@dataclass(frozen=True)
class Options:
    """What an analysis may be given besides its file; each kind looks at what concerns it. spread_mm: of one height;
    limits: of shapers.
    """

    instrument: Instrument = "callipers"
    machine: Path | None = None
    against: Path | None = None
    spread_mm: float | None = None
    limits: Limits = field(default_factory=Limits)


def analyse_file(kind: str, file: Path, options: Options = Options()) -> tuple[dict[str, Any], DrawFigure]:
    """Analyse a recorded file; returns its report and what draws its figure to a path.

    Raises:
        RecordError: unknown kind, or the record cannot be used. DocumentError: nor the machine file. OSError: the file
            cannot be read.
    """
    if kind not in KINDS:
        raise RecordError(f"analyse {kind}: unknown; allowed: {', '.join(KINDS)}.")
    return KINDS[kind](_text(file), file, options)


def _text(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise RecordError(f"{file} is not text (byte {error.start}): export it as CSV in UTF-8.") from error


def _mesh(text: str, file: Path, options: Options) -> tuple[dict[str, Any], DrawFigure]:
    from ublet.session.document import Document

    machine = Document(options.machine).machine if options.machine is not None else None
    other = (_text(options.against), options.against) if options.against is not None else None
    return analyse_mesh(text, file, machine, other, options.spread_mm)


def _heat(text: str, file: Path, options: Options) -> tuple[dict[str, Any], DrawFigure]:
    table = parse_table(text, STEP_COLUMNS, str(file))
    check_times(table, "time_s", str(file))
    time_s, duty, celsius = (table.columns[name] for name in STEP_COLUMNS)
    time_s = time_s - time_s[0]
    try:
        analysis = analyse_heat(time_s, duty, celsius)
    except UnfitRecord as error:
        raise RecordError(f"{file}: {error}.") from error

    def draw(path: Path) -> None:
        from ublet.figures.heat import draw_heat

        used, fitted = analysis.record, np.stack(fitted_response(analysis), 1)
        shown = {
            "record": Series(STEP_COLUMNS, np.stack([used.time_s, used.duty, used.celsius], 1)),
            "predicted by the fitted model": Series(STEP_COLUMNS, fitted),
        }
        draw_heat(shown, f"{file.name} · {analysis.choice}: {analysis.why}", analysis.target_c, path)

    return _heat_report(analysis, table), draw


def _heat_report(analysis: HeatAnalysis, table: Table) -> dict[str, Any]:
    model, unconfirmed = analysis.fit.model, analysis.fit.uncertainty
    return {
        "kind": "heat",
        "samples": len(analysis.record.time_s),
        "model": {
            "gain_c": model.held_gain_c,
            "time_constant_s": model.time_constant_s,
            "dead_time_s": model.dead_time_s,
            "second_lag_s": model.second_lag_s,
            "ambient_c": model.ambient_c,
            "residual_c": analysis.fit.residual_c,
            "gain_c_u": unconfirmed.held_gain_c,
            "time_constant_s_u": unconfirmed.time_constant_s,
            "dead_time_s_u": math.hypot(unconfirmed.delay_s, model.second_lag_s / math.sqrt(3)),
            "delay_s": model.delay_s,
            "delay_s_u": unconfirmed.delay_s,
            "loss_curve_per_c": model.curve,
            "loss_curve_per_c_u": unconfirmed.curve,
            "ambient_c_u": analysis.ambient_u_c,
        },
        "target_c": analysis.target_c,
        "candidates": [
            {
                "name": segment.name,
                "rule": segment.note,
                "kp": segment.gains.kp,
                "ki": segment.gains.ki,
                "kd": segment.gains.kd,
                "overshoot_c": segment.step.measure.overshoot_c,
                "settle_s": segment.step.measure.settle_s,
                "ripple_c": segment.step.measure.ripple_c,
            }
            for segment in analysis.made.values()
        ],
        "choice": analysis.choice,
        "why": analysis.why,
        "notes": [*table.notes, *analysis.notes],
    }


def _touches(text: str, file: Path, options: Options) -> tuple[dict[str, Any], DrawFigure]:
    table = parse_table(text, ("z_mm",), str(file), ("speed_mm_s",))
    try:
        analysis = analyse_touches(table.columns["z_mm"], table.columns.get("speed_mm_s"))
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error
    whole, heights = analysis.whole, analysis.heights_mm

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
        "outliers": list(whole.outliers) if whole is not None else _outliers(analysis, table),
        "speeds": [
            {
                "speed_mm_s": speed.speed_mm_s,
                "count": speed.scatter.count,
                "deviation_mm": speed.scatter.deviation_mm,
                "deviation_u_mm": speed.scatter.deviation_u_mm,
            }
            for speed in analysis.speeds
        ],
        "recommended_speed_mm_s": analysis.recommended_mm_s,
        "choice": "touches",
        "why": analysis.why or (f"{len(heights)} touches of one place"),
        "notes": list(table.notes),
    }, draw


def _outliers(analysis: Touches, table: Table) -> list[int]:
    """Row numbers of the outliers at every speed."""
    speeds, rows = table.columns["speed_mm_s"], []
    for speed in analysis.speeds:
        own = np.flatnonzero(speeds == speed.speed_mm_s)
        rows += [int(own[number]) for number in speed.scatter.outliers]
    return sorted(rows)


def _steps(text: str, file: Path, options: Options) -> tuple[dict[str, Any], DrawFigure]:
    table = parse_table(text, ("commanded_mm", "measured_mm"), str(file))
    try:
        analysis = analyse_steps(table.columns["commanded_mm"], table.columns["measured_mm"], options.instrument)
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error

    def draw(path: Path) -> None:
        raise RecordError("steps has no figure: leave out --svg and --pdf.")

    return {
        "kind": "steps",
        "readings": table.rows,
        "instrument": options.instrument,
        "scale": analysis.scale,
        "scale_u": analysis.uncertainty,
        "steps_factor": 1 / analysis.scale if analysis.choice in ("change", "leave it") else None,
        "choice": analysis.choice,
        "why": analysis.why,
        "notes": list(table.notes),
    }, draw


Analyse = Callable[[str, Path, Options], tuple[dict[str, Any], DrawFigure]]

KINDS: Mapping[str, Analyse] = {
    "heat": _heat,
    "mesh": _mesh,
    "resonance": lambda text, file, options: resonance(text, file, options.limits),
    "ripples": lambda text, file, options: ripples(text, file),
    "steps": _steps,
    "touches": _touches,
    "advance": lambda text, file, options: advance(text, file, options.instrument),
    "flow": lambda text, file, options: flow(text, file, options.instrument),
}
"""Every kind that is built, by its name."""
