"""How long a trial takes at the machine, before it starts: moves by their speeds, heating by the heater's model.

What a person does meanwhile is not counted.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ublet.core.heat.demands import preheats
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import Axis, MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.program import Program, timetable

AXES = ("x", "y", "z")
USUAL_C_S: Mapping[str, float] = {"hotend": 1.4, "bed": 0.28, "chamber": 0.02}
"""How fast a heater that was never tuned warms, °C/s."""

ROOM_C = 20.0

SEEK_FRACTION = 0.5
"""An axis that is not homed seeks its end over this fraction of its travel, on average."""

Z_SEEK_MM, HOMED_MM = 40.0, 20.0
"""How far Z seeks its end with a probe, and how far a homed axis stands from its end, mm."""

AGAIN_MM = 2.0
"""Distance above the last trigger at which a repeated touch begins, mm."""

TOUCH_OVERHEAD_S = 1.4
"""Between two touches: accelerating, the answer of the line, the pin, s."""


@dataclass(frozen=True)
class TrialTimes:
    """What is known of the machine now: seconds to heat a heater to a temperature, from now and from the room (None:
    not known); which axes are not homed; how much longer a touch over a way, mm, at a speed, mm/s, takes where it is
    watched step by step, s.
    """

    heat_s: Callable[[str, float], float]
    unhomed: Collection[str] = ()
    from_room_s: Callable[[str, float], float] | None = None
    watched_s: Callable[[float, float], float] = lambda mm, mm_s: 0.0

    def cooled(self) -> TrialTimes:
        """The same once every heater has been off for long."""
        return self if self.from_room_s is None else replace(self, heat_s=self.from_room_s)

    def warm_s(self, warm: Mapping[str, float], soak_s: float = 0.0) -> float:
        """Heating several heaters at once, and the soak after it."""
        return max((self.heat_s(heater, celsius) for heater, celsius in warm.items()), default=0.0) + soak_s

    def home_s(self, machine: MachineFile, axes: Collection[str] = AXES) -> float:
        """Homing those of the axes that are not homed, with what is heated before Z."""
        return sum(self.axis_s(machine, axis) for axis in axes if axis in self.unhomed)

    def axis_s(self, machine: MachineFile, axis: str) -> float:
        """Homing one axis from where it stands, with what is heated before."""
        part: Axis = getattr(machine.axes, axis)
        homing = part.homing
        travel = part.maximum_mm - part.minimum_mm
        seek = Z_SEEK_MM if homing.end == "probe" else SEEK_FRACTION * travel if axis in self.unhomed else HOMED_MM
        heats = max((self.heat_s(heater, celsius) for heater, celsius in preheats(machine).items()), default=0.0)
        return seek / homing.fast_mm_s + backs_s(part) + 1.0 + (heats if axis == "z" else 0.0)

    def touches_s(self, machine: MachineFile, points: int, touches: int, apart_mm: float) -> float:
        """Touching points, `touches` times each, `apart_mm` apart on average, s."""
        probe = machine.probe
        if probe is None:
            return 0.0
        down = probe.lift_mm / probe.approach_mm_s
        again = (touches - 1) * (AGAIN_MM / probe.approach_mm_s + TOUCH_OVERHEAD_S)
        once_s = down + probe.lift_mm / 10 + again + TOUCH_OVERHEAD_S + apart_mm / probe.travel_mm_s
        return points * once_s + self.watching_s(machine, points, touches)

    def watching_s(self, machine: MachineFile, points: int, touches: int) -> float:
        """How much longer such touches take where they are watched, s."""
        probe = machine.probe
        if probe is None:
            return 0.0
        again_s = (touches - 1) * self.watched_s(AGAIN_MM, probe.approach_mm_s)
        return points * (self.watched_s(probe.lift_mm, probe.approach_mm_s) + again_s)


def backs_s(axis: Axis) -> float:
    """Backing off from the end and approaching it slowly, which is all of homing an axis that stands at its end, s."""
    homing = axis.homing
    return 3 * homing.back_off_mm / homing.fast_mm_s + 2 * homing.back_off_mm / homing.slow_mm_s


Lasts = Callable[[MachineFile, Any, TrialTimes], float]
"""Seconds of a trial, on a machine with its parameters."""


def usual_times(machine: MachineFile, read: Callable[[str], float | None], unhomed: Collection[str]) -> TrialTimes:
    """Times of a machine whose heaters were never tuned, from the latest readings by sensor."""

    def from_s(heater: str, celsius: float, begin_c: float) -> float:
        return max(0.0, celsius - begin_c) / USUAL_C_S[machine.heaters[heater].part]

    def heat_s(heater: str, celsius: float) -> float:
        return from_s(heater, celsius, read(machine.heaters[heater].sensor) or ROOM_C)

    return TrialTimes(heat_s, unhomed, lambda heater, celsius: from_s(heater, celsius, ROOM_C))


def program_s(machine: MachineFile, program: Program) -> float:
    """A program by the planner, with the values of the machine, s."""
    start = {axis: max(0.0, getattr(machine.axes, axis).minimum_mm) + (10.0 if axis == "z" else 0.0) for axis in AXES}
    return timetable(program, start, Caps(effective(machine))).seconds
