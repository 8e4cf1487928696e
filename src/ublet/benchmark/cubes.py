"""Printed cubes and frames on machines made up at random: whether a planted cause is named, and a good one left."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.melts import BASE, made_up_melt, report_of
from ublet.core.extrude.advance_lines import LinesParameters
from ublet.core.machine.check import check_text
from ublet.core.machine.edit import edited
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.session.library import boards
from ublet.world.extrude_truth import evenest_line_s
from ublet.world.frame import OVER_THE_BED
from ublet.world.scenario import load_scenario
from ublet.world.world import World

SIZE_MM = 20.0


class CubeMachine:
    """A machine whose cube is good: feed, first layer, pressure advance and shapers are right; and what was planted
    then.
    """

    def __init__(self, folder: Path, number: int) -> None:
        self.path, machine = made_up_melt(folder, 2 * number)  # a direct drive: a tube's corners bulge at any value
        self._file = folder / "machines" / f"{BASE}.toml"
        self.random = np.random.default_rng([number, 41])
        self.skew_deg = 0.0
        self.advance_s = evenest_line_s(load_scenario(self.path), machine, LinesParameters())
        where = {"x": machine.bed.width_mm / 2, "y": machine.bed.depth_mm / 2}
        frame = World(load_scenario(self.path), machine).frame
        edits: dict[str, Value] = {"extruder.advance_s": round(self.advance_s, 4)}
        for axis in ("x", "y"):
            ring = frame.rings({axis: 1.0}, {axis: 1.0}, OVER_THE_BED, where)[0]
            edits |= {
                f"axes.{axis}.shaper.kind": "ei",
                f"axes.{axis}.shaper.frequency_hz": round(ring.frequency_hz, 2),
                f"axes.{axis}.shaper.damping": round(ring.damping_ratio, 4),
            }
        self.edit(edits)

    def edit(self, edits: Mapping[str, Value]) -> None:
        """Change the machine file."""
        self._file.write_text(edited(self._file.read_text(encoding="utf-8"), edits), encoding="utf-8")

    @property
    def machine(self) -> MachineFile:
        """The machine file as it is now."""
        checked = check_text(self._file.read_text(encoding="utf-8"), boards())
        assert checked.machine is not None, checked.problems
        return checked.machine

    def scenario(self, pattern: str, by: str) -> None:
        """Change the scenario: what a pattern finds first."""
        text = self.path.read_text(encoding="utf-8")
        changed, count = re.subn(pattern, by, text, count=1, flags=re.MULTILINE)
        assert count == 1, pattern
        self.path.write_text(changed, encoding="utf-8")

    def printed(self, skew_deg: float = 0.0, shrinks_percent: float = 0.0) -> None:
        """What becomes of a print."""
        self.skew_deg = skew_deg
        text = self.path.read_text(encoding="utf-8")
        more = f"\n[printed]\nskew_deg = {skew_deg:.4f}\nshrinks_percent = {shrinks_percent:.4f}\n"
        self.path.write_text(text + more, encoding="utf-8")


def _skewed(made: CubeMachine) -> None:
    made.printed(skew_deg=float(made.random.choice((-1, 1)) * made.random.uniform(0.3, 0.8)))


def _shrinks(made: CubeMachine) -> None:
    made.printed(shrinks_percent=float(made.random.uniform(0.6, 1.5)))


def _wrong_pulley(made: CubeMachine) -> None:
    steps = effective(made.machine)["axes.x.steps_per_mm"]
    assert isinstance(steps, float)
    made.edit({"axes.x.steps_per_mm": round(steps * float(made.random.choice((0.95, 1.05))), 3)})


def _jumps(made: CubeMachine) -> None:
    """The belt of an axis jumps over a tooth while the walls are printed."""
    axis, mm = str(made.random.choice(("x", "y"))), float(made.random.choice((-2.0, 2.0)))
    text = made.path.read_text(encoding="utf-8")
    event = f'\n[[events]]\nkind = "belt-jumps"\nof = "{axis}"\nmm = {mm}\nat_s = {made.random.uniform(300, 450):.0f}\n'
    made.path.write_text(text + event, encoding="utf-8")


def _rings(made: CubeMachine) -> None:
    made.edit({"axes.x.shaper.kind": "none", "axes.y.shaper.kind": "none"})
    made.edit({"axes.x.acceleration_mm_s2": 4000, "axes.y.acceleration_mm_s2": 4000})


def _late(made: CubeMachine) -> None:
    """A softer filament than the one whose value is live, which is 0 then."""
    made.scenario(r"^spring_n_mm = [\d.]+", f"spring_n_mm = {made.random.uniform(12.0, 20.0):.3f}")
    made.edit({"extruder.advance_s": 0.0})


def _early(made: CubeMachine) -> None:
    made.edit({"extruder.advance_s": round(made.advance_s + float(made.random.uniform(0.15, 0.3)), 3)})


def _starves(made: CubeMachine) -> None:
    made.scenario(r"^grip_n = [\d.]+", f"grip_n = {made.random.uniform(2.0, 3.0):.3f}")


def _overfull(made: CubeMachine) -> None:
    steps = effective(made.machine)["extruder.steps_per_mm"]
    assert isinstance(steps, float)
    made.edit({"extruder.steps_per_mm": round(steps * float(made.random.uniform(1.25, 1.5)), 2)})


def _too_high(made: CubeMachine) -> None:
    made.scenario(r"^at_mm = -1$", f"at_mm = {-1 + made.random.uniform(0.12, 0.2):.3f}")


CAUSES: Mapping[str, tuple[Callable[[CubeMachine], None], str]] = {
    "skew": (_skewed, "are skewed by"),
    "shrinkage": (_shrinks, "shrinkage, no steps error"),
    "one axis": (_wrong_pulley, "than the other axes"),
    "lost steps": (_jumps, "rows that shift"),
    "ringing": (_rings, "ghosts beside edges"),
    "advance too low": (_late, "bulges at corners"),
    "advance too high": (_early, "gaps at corners"),
    "flow": (_starves, "holes in the walls"),
    "feed": (_overfull, "overfull walls"),
    "first layer": (_too_high, "a ragged first line"),
}
"""How a cause is planted, and the words that name it."""

ACCUSES = tuple(words for cause, (_, words) in CAUSES.items() if cause != "shrinkage")


def cubes(good: int, planted: int) -> dict[str, Any]:
    """Good cubes that are accused of something, and how many of each planted cause are named."""
    accused: list[str] = []
    for number in range(good):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            made = CubeMachine(Path(name), number)
            made.printed(shrinks_percent=float(made.random.uniform(0.0, 0.4)))
            why = report_of("piece-measured", [f"size_mm={SIZE_MM}"], made.path, number)["why"]
        if any(words in why for words in ACCUSES):
            accused.append(f"{number}: {why}")
    named: dict[str, float] = {}
    missed: list[str] = []
    for cause, (plant, words) in CAUSES.items():
        hits = 0
        for number in range(planted):
            with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
                made = CubeMachine(Path(name), 1000 + number)
                plant(made)
                report = report_of("piece-measured", [f"size_mm={SIZE_MM}"], made.path, number)
            hits += words in report["why"]
            if words not in report["why"]:
                missed.append(f"{cause} {number}: {report['why']}")
        named[cause] = hits / planted
    return {"good": good, "accused": accused, "planted": planted, "named": named, "missed": missed}


def skews(machines: int) -> dict[str, Any]:
    """Skew by a flat frame of 100 mm: error in degrees, and how often two standard uncertainties cover it."""
    off, covered = [], []
    for number in range(machines):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            made = CubeMachine(Path(name), 2000 + number)
            made.printed(float(made.random.uniform(-0.5, 0.5)), float(made.random.uniform(0.0, 0.6)))
            report = report_of("piece-measured", ["shape=flat frame", "looks=false"], made.path, number)
        skew = next(finding for finding in report["findings"] if finding["id"] == "skew")
        off.append(abs(skew["value"] - made.skew_deg))
        covered.append(off[-1] <= 2 * skew["uncertainty"])
    return {
        "machines": machines,
        "within_0.03_deg": round(float(np.mean(np.array(off) <= 0.03)), 3),
        "median_deg": round(float(np.median(off)), 4),
        "covered_2u": round(float(np.mean(covered)), 3),
    }
