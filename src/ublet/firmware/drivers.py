"""What the board tells its motor drivers: which motors an axis has, their steps for each mm, and what caps a move."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.motion.kinematics import AXES, Kinematics, kinematics_of
from ublet.core.motion.planner import Cap
from ublet.core.settings import Value
from ublet.core.sockets import Steps
from ublet.firmware.live_values import number_in
from ublet.firmware.refusal import NOT_ALLOWED, Refused

EXTRUDER = "extruder.motor"


class Drivers:
    """The motors that the live settings declare, by their root in the settings."""

    def __init__(self, live: Mapping[str, Value], steps_per_s: float) -> None:
        self._live = live
        self._steps_per_s = steps_per_s
        self.of_axis = {axis: _roots(live, axis) for axis in AXES}
        self.kinematics: Kinematics = kinematics_of(str(live.get("machine.kinematics", "cartesian")), self.of_axis)

    def steps(self, travel: Mapping[str, float]) -> tuple[Steps, ...]:
        """Steps for each mm of a path on which motors, by their roots, travel so many mm for each mm of it."""
        return tuple(self._steps(root, mm) for root, mm in travel.items())

    def motors(self, way: Mapping[str, float]) -> dict[str, float]:
        """What every motor travels for each mm of a path in that direction; ``e`` is the extruder's filament."""
        travel = dict(self.kinematics.of_axes(way))
        if (filament := way.get("e", 0.0)) and f"{EXTRUDER}.socket" in self._live:
            travel[EXTRUDER] = filament
        return travel

    def caps(self, way: Mapping[str, float]) -> dict[str, Cap]:
        """What caps a path: its axes by their settings, and each motor by the steps that the board makes."""
        found = {part: self.cap(f"axes.{part}") for part in way if part in AXES}
        if "e" in way:
            found["e"] = self.cap("extruder")
        return found

    def cap(self, part: str) -> Cap:
        """The cap of an axis (``axes.x``) or of the extruder."""
        feed, acceleration = (
            number_in(self._live, f"{part}.{key}") for key in ("maximum_feed_mm_s", "acceleration_mm_s2")
        )
        return Cap(feed, acceleration, f"{part}.maximum_feed_mm_s")

    def step_cap(self, root: str) -> Cap | None:
        """The most that the board's step rate gives one motor, mm/s of its belt, screw or filament."""
        if not self._steps_per_s:
            return None
        return Cap(
            self._steps_per_s / number_in(self._live, f"{part_of(root)}.steps_per_mm"), float("inf"), "steps_per_s"
        )

    def must_have(self, root: str) -> None:
        """Raises Refused when there is no such motor."""
        if f"{root}.socket" not in self._live:
            known = ", ".join(name.removeprefix("axes.") for axis in AXES for name in self.of_axis[axis])
            raise Refused(NOT_ALLOWED, f"no motor “{root.removeprefix('axes.')}” on this board; known: {known}")

    def _steps(self, root: str, mm: float) -> Steps:
        per_mm = (
            mm * number_in(self._live, f"{part_of(root)}.steps_per_mm") * (-1 if self._live[f"{root}.reversed"] else 1)
        )
        microsteps = int(number_in(self._live, f"{root}.microsteps"))
        return Steps(str(self._live[f"{root}.socket"]), per_mm, microsteps, number_in(self._live, f"{root}.run_a"))


def part_of(root: str) -> str:
    """The axis, or the extruder, that a motor's settings stand below."""
    return root.partition(".motor")[0]


def _roots(live: Mapping[str, Value], axis: str) -> tuple[str, ...]:
    start, ending = f"axes.{axis}.motors.", ".microsteps"
    return tuple(path.removesuffix(ending) for path in live if path.startswith(start) and path.endswith(ending))
