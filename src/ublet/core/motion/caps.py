"""What caps a move: feed and acceleration of its axes and filament, step rates of its motors; what caps a wish."""

from __future__ import annotations

import math
from collections.abc import Mapping
from copy import copy
from dataclasses import dataclass
from functools import partial

from ublet.core.machine.layouts import AXES, LAYOUTS
from ublet.core.motion.kinematics import Kinematics, kinematics_of
from ublet.core.motion.planner import Cap, Corner, LinearMove, by_deviation, by_jerk, line_of
from ublet.core.settings import Value

EXTRUDER = "extruder.motor"
"""The extruder's motor; those of axes go by ``axes.AXIS.motors.NAME``."""

Values = Mapping[str, Value]
"""Settings by their paths: those of the machine file, or those that are live."""

LEAST_LED_MM_S2, LEAST_LED_MM_S = 50.0, 1.0
"""However large the pressure advance is, lines are not slower than this."""

UNHOMED_MM, UNHOMED_MM_S = 20.0, 20.0
"""A board moves an axis that is not homed by no more at once, and no faster (docs/protocol.md)."""


class Caps:
    """The caps of a machine by its settings. A board plans by them, and so does whoever predicts what a board will do.

    steps_per_s: the most that the board makes on one motor; 0: no limit.
    """

    def __init__(self, values: Values, steps_per_s: float = 0.0, advance_s: float | None = None) -> None:
        self._values = values
        self.advance_s = self._number("extruder.advance_s") if advance_s is None else advance_s
        """Pressure advance, s."""
        self._steps_per_s = steps_per_s
        self.of_axis = {axis: _roots(values, axis) for axis in AXES}
        self.kinematics: Kinematics = kinematics_of(
            LAYOUTS[str(values.get("machine.kinematics", "cartesian"))], self.of_axis
        )
        self.corner: Corner = self._corner()

    def with_advance(self, seconds: float) -> Caps:
        """The same with another pressure advance, s."""
        other = copy(self)
        other.advance_s = seconds
        return other

    def led_acceleration_mm_s2(self, filament_per_mm: float) -> float:
        """The acceleration of a path at which the extruder still leads it, pushing so much filament for a mm of it,
        mm/s²: where the acceleration changes, its speed jumps by ``r k a``, within its jerk.
        """
        lead = abs(filament_per_mm) * self.advance_s
        return max(LEAST_LED_MM_S2, self._number("extruder.jerk_mm_s") / lead) if lead > 0 else math.inf

    @property
    def print_acceleration_mm_s2(self) -> float:
        """The most that an axis may have while filament is pushed, mm/s²; 0: no less than else."""
        return self._number("motion.print_acceleration_mm_s2")

    @property
    def deviation_mm(self) -> float:
        """By how much a corner may be left when it is rounded, mm."""
        return self._number("motion.junction_deviation_mm")

    @property
    def jerks(self) -> Mapping[str, float] | None:
        """Changes of speed that are taken without a ramp, mm/s by axis and ``e``; None: corners go by deviation."""
        if self._values.get("motion.cornering") != "jerk":
            return None
        parts = {axis: f"axes.{axis}.jerk_mm_s" for axis in AXES} | {"e": "extruder.jerk_mm_s"}
        return {part: self._number(path) for part, path in parts.items() if path in self._values}

    @property
    def pushes(self) -> bool:
        """Whether there is a motor for the filament."""
        return f"{EXTRUDER}.socket" in self._values

    def motors(self, travel: Mapping[str, float]) -> dict[str, float]:
        """What every motor travels, mm, when the axes and the filament (``e``) travel so far."""
        distances = dict(self.kinematics.of_axes(travel))
        if (filament := travel.get("e", 0.0)) and self.pushes:
            distances[EXTRUDER] = filament
        return distances

    def line(self, travel: Mapping[str, float], feed: float) -> LinearMove:
        """A line of axes and filament, mm, within every cap; ``capped_by`` names what makes it slower than ``feed``.

        Raises:
            ValueError: nothing travels.
        """
        caps = {part: self.of_part(f"axes.{part}") for part in travel if part in AXES}
        caps |= {"e": self.of_part("extruder")} if "e" in travel else {}
        if travel.get("e", 0.0) > 0 and (gentle := self.print_acceleration_mm_s2):
            caps = {
                part: Cap(cap.speed, min(cap.acceleration, gentle), cap.setting) if part in AXES else cap
                for part, cap in caps.items()
            }
        motors = self.motors(travel)
        caps |= {root: cap for root in motors if (cap := self.of_steps(root)) is not None}
        line = line_of({**motors, **travel}, feed, caps)
        direction = {part: fraction for part, fraction in line.direction.items() if part in travel}
        top, acceleration, capped_by = line.top, line.acceleration, line.capped_by
        if self.advance_s > 0 and (led := direction.get("e", 0.0)) > 0 and any(axis in direction for axis in AXES):
            acceleration = min(acceleration, self.led_acceleration_mm_s2(led))
            extruder = self.of_part("extruder")
            if (fastest := extruder.speed / led - self.advance_s * acceleration) < top * (1 - 1e-12):
                top, capped_by = max(fastest, LEAST_LED_MM_S), extruder.setting
        return LinearMove(direction, line.length, top, acceleration, capped_by)

    def motor_line(self, motors: Mapping[str, float], feed: float) -> LinearMove:
        """A line of single motors, mm, that no axis follows as a whole; ``feed`` is that of the one that goes furthest.

        Raises:
            ValueError: nothing travels.
        """
        caps: dict[str, Cap] = {}
        for root in motors:
            own, steps = self.of_part(part_of(root)), self.of_steps(root)
            slower = steps is not None and steps.speed < own.speed
            caps[root] = Cap(steps.speed, own.acceleration, steps.setting) if steps is not None and slower else own
        line = line_of(motors, feed, caps)
        return LinearMove({}, line.length, line.top, line.acceleration, line.capped_by)

    def of_part(self, part: str) -> Cap:
        """The cap of an axis (``axes.x``) or of the extruder."""
        feed = f"{part}.maximum_feed_mm_s"
        return Cap(self._number(feed), self._number(f"{part}.acceleration_mm_s2"), feed)

    def of_steps(self, root: str) -> Cap | None:
        """The most that the board's step rate gives one motor, mm/s of its belt, screw or filament."""
        steps = self._number(f"{part_of(root)}.steps_per_mm")
        return Cap(self._steps_per_s / steps, math.inf, "steps_per_s") if self._steps_per_s and steps else None

    def _corner(self) -> Corner:
        if (jerks := self.jerks) is not None:
            return partial(by_jerk, jerks=jerks)
        return partial(by_deviation, deviation=self.deviation_mm)

    def _number(self, path: str) -> float:
        value = self._values.get(path)
        return float(value) if isinstance(value, (int, float)) else 0.0


def part_of(root: str) -> str:
    """The axis, or the extruder, that a motor's settings stand below."""
    return root.partition(".motor")[0]


def _roots(values: Values, axis: str) -> tuple[str, ...]:
    start, ending = f"axes.{axis}.motors.", ".microsteps"
    return tuple(path.removesuffix(ending) for path in values if path.startswith(start) and path.endswith(ending))


@dataclass(frozen=True)
class Speed:
    """A speed in mm/s; capped_by names what made it less than asked for (empty: nothing)."""

    mm_s: float
    asked_mm_s: float
    capped_by: str = ""

    @property
    def words(self) -> str:
        """``40 mm/s``, or ``6 mm/s (not 40: maximum feed, stored)``."""
        phrase = f"{self.mm_s:g} mm/s"
        return f"{phrase} (not {self.asked_mm_s:g}: {self.capped_by})" if self.capped_by else phrase


def capped(asked_mm_s: float, caps: Mapping[str, float]) -> Speed:
    """The asked speed under several caps, each with its name; the lowest one counts.

    >>> capped(40, {"maximum feed, stored": 6.0}).words
    '6 mm/s (not 40: maximum feed, stored)'
    """
    name = min(caps, key=lambda cap: caps[cap], default="")
    if not name or caps[name] >= asked_mm_s:
        return Speed(asked_mm_s, asked_mm_s)
    return Speed(caps[name], asked_mm_s, name)
