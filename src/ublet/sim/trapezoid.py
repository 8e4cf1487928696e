"""A move with trapezoidal speed: how far it is, how fast and how hard it accelerates at any moment."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

from ublet.sim.motion import Effort, Leg, Mechanics

SUBSTEP_S = 0.005
"""A move is followed in steps of this length, so that what it asks of its motors is seen at every speed."""


@dataclass
class Move:
    """Legs, length in mm, top speed and acceleration; done: s since its start.

    axis and signed_mm: the axis that moves as a whole, and how far; empty for a motor by itself. capped_by: the setting
    that made it slower than asked for.
    """

    legs: tuple[Leg, ...]
    length_mm: float
    speed_mm_s: float
    acceleration_mm_s2: float
    done_s: float = 0.0
    axis: str = ""
    signed_mm: float = 0.0
    capped_by: str = ""

    @cached_property
    def ramp_s(self) -> float:
        """Time to reach the top speed, or the highest that the length allows, s."""
        return min(self.speed_mm_s / self.acceleration_mm_s2, math.sqrt(self.length_mm / self.acceleration_mm_s2))

    @cached_property
    def seconds(self) -> float:
        """Duration of the whole move, s: two ramps and what lies between."""
        top = self.ramp_s * self.acceleration_mm_s2
        return 2 * self.ramp_s + max(0.0, self.length_mm - top * self.ramp_s) / top if top else 0.0

    def share(self, at_s: float) -> float:
        """Share of the length covered after a time: the integral of the trapezoid."""
        total, ramp, a = self.seconds, self.ramp_s, self.acceleration_mm_s2
        t = min(max(at_s, 0.0), total)
        if not total:
            return 1.0
        if t < ramp:
            covered = a * t * t / 2
        elif t <= total - ramp:
            covered = a * ramp * ramp / 2 + a * ramp * (t - ramp)
        else:
            covered = self.length_mm - a * (total - t) ** 2 / 2
        return min(1.0, covered / self.length_mm)

    def effort(self, at_s: float) -> Effort:
        """Speed and acceleration at a time; braking is negative."""
        total, ramp, a = self.seconds, self.ramp_s, self.acceleration_mm_s2
        t = min(max(at_s, 0.0), total)
        if t < ramp:
            return Effort(self.axis, a * t, a)
        if t <= total - ramp:
            return Effort(self.axis, a * ramp, 0.0)
        return Effort(self.axis, a * (total - t), -a)

    def advance(self, seconds: float, mechanics: Mechanics) -> bool:
        """Let time pass: whole steps go to the motors; True when the move has ended."""
        end = self.done_s + seconds
        while self.done_s < end - 1e-12 and self.done_s < self.seconds:
            step_s = min(SUBSTEP_S, end - self.done_s)
            before, effort = self.share(self.done_s), self.effort(self.done_s + step_s / 2)
            self.done_s += step_s
            after = self.share(self.done_s)
            legs = (
                Leg(leg.socket, round(leg.steps * after) - round(leg.steps * before), leg.microsteps, leg.amps)
                for leg in self.legs
            )
            mechanics.turn(legs, effort)
        self.done_s = max(self.done_s, end)
        return self.done_s >= self.seconds
