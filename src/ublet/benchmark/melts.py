"""Extruders and materials made up at random, level beds under them: whether what prints and pushes show is right."""

from __future__ import annotations

import math
import re
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ublet.core.acts import Seen
from ublet.core.extrude.advance import AdvanceEstimate, finer_range
from ublet.core.extrude.advance_lines import LinesParameters, layout_of
from ublet.core.extrude.advance_tower import AdvanceTowerParameters
from ublet.core.extrude.retraction import CLEAN, RetractionParameters, pairs_of
from ublet.core.machine.check import check_text
from ublet.core.machine.schema import MachineFile
from ublet.core.observations import JudgePosts, Observation, post_words
from ublet.session.library import boards
from ublet.world.extrude_truth import evenest_line_s, evenest_tower_s
from ublet.world.hands import Hands
from ublet.world.scenario import load_scenario

BASE, HOB_MM = "wren-180", 10.6


def made_up_melt(folder: Path, number: int) -> tuple[Path, MachineFile]:
    """The scenario and the machine file of an extruder and a material of their own, every second one with a tube, on a
    frame whose bed is nearly flat and whose feed is right.
    """
    from ublet.session.library import DATA

    random = np.random.default_rng([number, 33])
    for name in ("machines", "scenarios"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    tube = number % 2 == 1
    tube_mm = round(float(random.uniform(280, 620))) if tube else 0
    machine = (DATA / "machines" / f"{BASE}.toml").read_text(encoding="utf-8")
    nozzle_c = round(float(random.uniform(195, 235)))
    for before, after in (
        ("tube_mm = 420", f"tube_mm = {tube_mm}"),
        ("retract_mm = 4.5", f"retract_mm = {4.5 if tube else 0.8}"),
        ("nozzle_c = 205", f"nozzle_c = {nozzle_c}"),
    ):
        machine = machine.replace(before, after)
    (folder / "machines" / f"{BASE}.toml").write_text(machine, encoding="utf-8")
    text = (DATA / "scenarios" / f"{BASE}.toml").read_text(encoding="utf-8")
    for table in (r"\[bed", r"\[\[bed", r"\[motors\.MD\]", r"\[extruder\]", r"\[nozzle\]", r"\[switches\.z\]"):
        text = re.sub(rf"^{table}.*?(?=^\[|\Z)", "", text, flags=re.DOTALL | re.MULTILINE)
    spring = random.uniform(2000, 3600) / tube_mm if tube else random.uniform(35, 90)
    extruder = {
        "grip_n": random.uniform(40, 70),
        "slip_power": random.uniform(2.5, 4.0),
        "bite_share": random.uniform(0.0005, 0.002),
        "resistance_n": random.uniform(5.5, 11.0),
        "thinning": random.uniform(0.4, 0.65),
        "softens_share_k": random.uniform(0.008, 0.016),
        "melts_mm_s": random.uniform(6.0, 9.0),
        "spring_n_mm": spring,
        "play_mm": random.uniform(0.1, 0.5) if tube else 0.0,
        "drips_mm_s": random.uniform(0.02, 0.08),
        "drip_holds_mm": random.uniform(0.2, 0.5),
        "wander_mm": random.uniform(0.0, 0.02),
        "spool_mm": 100_000.0,
    }
    text += f'\n[motors.MD]\nrole = "extruder"\nturn_mm = {np.pi * HOB_MM:.4f}\ntorque_nm_a = 0.4\n\n[extruder]\n'
    text += "".join(f"{key} = {value:.5g}\n" for key, value in extruder.items())
    text += f"\n[bed]\nbow_mm = {random.uniform(-0.02, 0.02):.4f}\n"
    text += '\n[switches.z]\nsocket = "IC"\nnormally_closed = false\naxis = "z"\nside = "low"\nat_mm = -1\n'
    path = folder / "scenarios" / f"{BASE}.toml"
    path.write_text(text, encoding="utf-8")
    checked = check_text(machine, boards())
    assert checked.machine is not None, checked.problems
    return path, checked.machine


@dataclass(frozen=True)
class AdvanceRead:
    """What one way of reading gave on one machine: its kind, the truth, value and uncertainty (s), or why none."""

    kind: str
    true_s: float
    value_s: float
    uncertainty_s: float
    why_none: str = ""


def advances(machines: int) -> dict[str, Any]:
    """Lines by eye, once more in a finer bracket where that is worth it, by widths, and towers by eye: errors against
    what is evenest in the world, and how often two standard uncertainties cover it.
    """
    read, predicted = list[AdvanceRead](), list[float]()
    for number in range(machines):
        of, times = advances_of(number)
        read += of
        predicted += times
    return advance_figures(read, predicted)


def advances_of(number: int) -> tuple[list[AdvanceRead], list[float]]:
    """What each kind of reading gives on one made-up machine, and by which share each print's time was foreseen."""
    read, predicted = list[AdvanceRead](), list[float]()
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        path, machine = made_up_melt(Path(name), number)
        scenario = load_scenario(path)
        lines_s = evenest_line_s(scenario, machine, LinesParameters())
        tower_s = evenest_tower_s(scenario, machine, AdvanceTowerParameters())
        for kind, (trial, true_s, sets) in {
            "eye": ("advance-lines", lines_s, []),
            "widths": ("advance-lines", lines_s, ["by_widths=true"]),
            "tower": ("advance-tower", tower_s, []),
        }.items():
            report, advance = _bracketed(trial, sets, path, machine, number, predicted)
            if advance is None:
                read.append(AdvanceRead(kind, true_s, math.nan, math.nan, f"{number}: {report['why']}"))
            else:
                read.append(AdvanceRead(kind, true_s, advance["value"], advance["uncertainty"]))
    return read, predicted


def _bracketed(
    trial: str, always: list[str], path: Path, machine: MachineFile, number: int, predicted: list[float]
) -> tuple[dict[str, Any], dict[str, Any] | None]:
    """The report of a pattern and its pressure advance: gone on beyond where it says so, then once more finer."""
    sets, advance, finer = always, None, False
    for _ in range(4):
        report = report_of(trial, sets, path, number)
        by_id = {finding["id"]: finding for finding in report["findings"]}
        if "taken" in by_id:
            predicted.append(by_id["predicted"]["value"] / by_id["taken"]["value"] - 1)
        now = next((of for key, of in by_id.items() if key.startswith("advance.")), None)
        if report["outcome"] != "proven" or now is None:
            widest = now["value"] if now is not None else layout_of(machine, LinesParameters()).lines[-1].value_s
            sets = [*sets, f"last_s={min(2.9, 2.5 * widest):.3f}"]
            continue
        advance = now
        estimate = AdvanceEstimate(now["value"], now["uncertainty"])
        if finer or not estimate.worth_finer:
            break
        low, high, step = finer_range(estimate)
        sets, finer = [*always, f"first_s={low}", f"last_s={high}", f"step_s={step}"], True
    return report, advance


def advance_figures(read: Sequence[AdvanceRead], predicted: Sequence[float]) -> dict[str, Any]:
    """For each kind of reading: median error, share within its limit, share covered at 2u; times; what gave none."""
    figures: dict[str, Any] = {"without_a_value": [f"{row.kind} {row.why_none}" for row in read if row.why_none]}
    for kind in dict.fromkeys(row.kind for row in read):
        rows = [row for row in read if row.kind == kind and not row.why_none]
        if not rows:
            continue
        true, value, error = (
            np.array([getattr(row, of) for row in rows]) for of in ("true_s", "value_s", "uncertainty_s")
        )
        limit_s = 0.05 * true if kind == "widths" else eye_limit_s(true)
        figures[kind] = {"of": len(true), **errors_of(true, value, error, limit_s)}
    figures["time_off_most"] = round(float(np.max(np.abs(predicted))), 4) if predicted else None
    return figures


def eye_limit_s(true_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far off an eye may be: 10 %, or 0.004 s."""
    return np.maximum(0.004, 0.1 * true_s)


def errors_of(
    true: NDArray[np.float64], value: NDArray[np.float64], error: NDArray[np.float64], limit: NDArray[np.float64]
) -> dict[str, float]:
    """Of n values with their truths and standard uncertainties: median error as a share of the truth, share within a
    limit, share whose truth two uncertainties cover.
    """
    off = np.abs(value - true)
    return {
        "median_error": round(float(np.median(off / true)), 4),
        "within_limit": round(float(np.mean(off <= limit)), 3),
        "covered_2u": round(float(np.mean(off <= 2 * error)), 3),
    }


def flows(machines: int) -> dict[str, Any]:
    """The flow limit of each: its error, and how often two standard uncertainties cover it."""
    off, covered, fell = [], [], []
    for number in range(machines):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            path, _ = made_up_melt(Path(name), number)
            report = report_of("flow-limit", [], path, number)
        true = report["truth"].get("flow_limit.pla")
        limit = next((finding for finding in report["findings"] if finding["id"] == "flow_limit.pla"), None)
        if limit is None or true is None:
            fell.append(f"{number}: {report['why']}")
            continue
        off.append(abs(limit["value"] / true - 1))
        covered.append(abs(limit["value"] - true) <= 2 * limit["uncertainty"])
    return {
        "machines": machines,
        "without_a_value": fell,
        "within_8_percent": round(float(np.mean(np.array(off) <= 0.08)), 3),
        "median_error": round(float(np.median(off)), 4),
        "covered_2u": round(float(np.mean(covered)), 3),
    }


def retractions(machines: int) -> dict[str, Any]:
    """The shortest clean retraction of each, beside the shortest that really is clean on those posts."""
    within, fell, predicted = [], [], []
    for number in range(machines):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            path, machine = made_up_melt(Path(name), number)
            looks: list[tuple[float, float]] = []
            with _posts_noted(looks):
                report = report_of("retraction", [], path, number)
        pairs = pairs_of(machine, RetractionParameters())
        clean = [post_words(oozed, lacks) == CLEAN for oozed, lacks in looks]
        true = next((at for at in range(len(clean)) if clean[at] and all_clean_on(clean, at)), None)
        by_id = {finding["id"]: finding["value"] for finding in report["findings"]}
        if "taken" in by_id:
            predicted.append(by_id["predicted"] / by_id["taken"] - 1)
        value = by_id.get("retraction.pla")
        if value is None or true is None:
            fell.append(f"{number}: {report['why']}")
            continue
        step = pairs[1].length_mm - pairs[0].length_mm
        within.append(abs(value - pairs[true].length_mm) <= step * 1.001)
    return {
        "machines": machines,
        "without_a_value": fell,
        "within_one_step": round(float(np.mean(within)), 3),
        "time_off_most": round(float(np.max(np.abs(predicted))), 4) if predicted else None,
    }


def all_clean_on(clean: Sequence[bool], at: int) -> bool:
    """Whether the pair after a clean one is clean, too, or it is the last."""
    return at + 1 >= len(clean) or clean[at + 1]


@contextmanager
def _posts_noted(looks: list[tuple[float, float]]) -> Iterator[None]:
    """Note what posts are really like whenever they are looked at, without an eye's error."""
    honest = Hands.observe

    def noting(self: Hands, observation: Observation) -> Seen:
        seen = honest(self, observation)
        if isinstance(observation, JudgePosts):
            felt = [mm or 0.0 for mm in seen.felt_mm]
            looks[:] = list(zip(felt[::2], felt[1::2], strict=True))
        return seen

    Hands.observe = noting  # type: ignore[method-assign]
    try:
        yield
    finally:
        Hands.observe = honest  # type: ignore[method-assign]


def report_of(trial: str, sets: Sequence[str], path: Path, number: int) -> dict[str, Any]:
    """A trial on a scenario, headless, with a seed."""
    from ublet.session.headless import run_on_scenario
    from ublet.session.orders import order_for

    order = order_for(trial, list(sets), keep=False, save=False)
    report: dict[str, Any] = run_on_scenario(order, path, None, number, lambda progress: None).report
    return report
