"""What the board commands its motor drivers: steps for each mm, microsteps and current, by live settings."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.machine.layouts import AXES
from ublet.core.motion.caps import EXTRUDER, Caps, part_of
from ublet.core.settings import Value
from ublet.core.sockets import Steps
from ublet.firmware.live_values import number_in
from ublet.firmware.refusal import NOT_ALLOWED, Refused


class Drivers:
    """The motors that the live settings declare, by their root in the settings; and what caps them."""

    def __init__(self, live: Mapping[str, Value], steps_per_s: float) -> None:
        self.live = live
        self.caps = Caps(live, steps_per_s)

    def steps(self, motors: Mapping[str, float], length: float) -> tuple[Steps, ...]:
        """Steps for each mm of a path of ``length`` mm, on which motors travel so far."""
        return tuple(self._steps(root, mm / length) for root, mm in motors.items())

    def extruder_limit(self) -> tuple[str, float]:
        """The socket of the extruder's motor (empty: there is none), and the most steps a second that it may make."""
        if f"{EXTRUDER}.socket" not in self.live or "extruder.steps_per_mm" not in self.live:
            return "", 0.0
        most = self.caps.of_part("extruder").speed * number_in(self.live, "extruder.steps_per_mm")
        return str(self.live[f"{EXTRUDER}.socket"]), most

    def must_have(self, root: str) -> None:
        """Raises Refused when there is no such motor."""
        if f"{root}.socket" not in self.live:
            known = ", ".join(name.removeprefix("axes.") for axis in AXES for name in self.caps.of_axis[axis])
            raise Refused(NOT_ALLOWED, f"no motor “{root.removeprefix('axes.')}” on this board; known: {known}")

    def _steps(self, root: str, mm: float) -> Steps:
        direction = -1 if self.live[f"{root}.reversed"] else 1
        per_mm = mm * number_in(self.live, f"{part_of(root)}.steps_per_mm") * direction
        microsteps = int(number_in(self.live, f"{root}.microsteps"))
        amps = number_in(self.live, f"{root}.run_a")
        quiet = f"{root}.quiet_to_mm_s"  # images of older firmware have none
        quiet_to = number_in(self.live, quiet) if quiet in self.live else 0.0
        return Steps(str(self.live[f"{root}.socket"]), per_mm, microsteps, amps, quiet_to)
