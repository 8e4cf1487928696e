"""Filament in the simulated machine: a hob that pushes, a melt that resists, a grip that slips, a spool that ends."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from ublet.world.mechanics import MotorTruth
from ublet.world.roots import rising_root

REFERENCE_MM_S, REFERENCE_C = 2.0, 210.0
"""The melt's resistance is given at this speed of the filament and this temperature."""

STEP_S = 0.1
"""Longest step in which pushing and melting are followed, s."""

GLASSY_C = 140.0
"""Colder than this nothing flows, °C."""

STALL_FRACTION = 0.03
"""Within this share around its force a motor goes over from keeping all its steps to keeping none."""

BITES_MM = 5.0
"""The hob bites anew after so much filament, mm."""

PLUG_SOFTENS_C = 12.0
"""What blocks a nozzle softens by a factor e in so many °C."""

NEW_SPOOL_MM = 300_000.0

RELAXED_MM = 1e-3
"""Less than this presses no more: the last of it would ooze for hours."""


@dataclass(frozen=True)
class ExtruderTruth:
    """What lies between the extruder's motor and the nozzle's hole.

    grip_n: force at which 5 % slip at the hob; slip_power: how steeply slip rises with force. bite_share: scatter of
    what the hob takes, by the surface of the filament. resistance_n: force of the sound melt at 2 mm/s of filament and
    210 °C; thinning: its power of the speed (shear-thinning melts: below 1); softens_share_k: what it loses with each
    °C; melts_mm_s: speed at which unmelted cores double it. blocked: resistance that a plug in the nozzle adds, as a
    multiple of the sound melt's. spring_n_mm: stiffness of the filament between hob and melt. spool_mm: what is left of
    the filament, of diameter_mm.
    """

    grip_n: float = 60.0
    slip_power: float = 3.0
    bite_share: float = 0.002
    resistance_n: float = 8.0
    thinning: float = 0.5
    softens_share_k: float = 0.012
    melts_mm_s: float = 7.0
    blocked: float = 0.0
    spring_n_mm: float = 30.0
    spool_mm: float = 200_000.0
    diameter_mm: float = 1.75

    def force_n(self, mm_s: float, celsius: float) -> float:
        """Force that drives the melt out at a speed of the filament; infinite where it is glassy.

        A power law (Ostwald-de Waele) that softens with temperature, plus a cubic for cores that have no time to melt.
        """
        if celsius < GLASSY_C:
            return math.inf
        if mm_s <= 0:
            return 0.0
        warmer = celsius - REFERENCE_C
        thin = math.pow(mm_s / REFERENCE_MM_S, self.thinning) * math.exp(-self.softens_share_k * warmer)
        plug = self.blocked * math.exp(-warmer / PLUG_SOFTENS_C)
        return self.resistance_n * thin * (1 + plug + math.pow(mm_s / self.melts_mm_s, 3))

    def taken(self, force_n: float, motor_n: float) -> float:
        """Share of the hob's way that the filament follows at a force, where the motor can push with ``motor_n``."""
        slip: float = min(1.0, 0.05 * (max(0.0, force_n) / self.grip_n) ** self.slip_power)
        stalled = (force_n / motor_n - 1) / STALL_FRACTION if motor_n > 0 else math.inf
        kept = 1 / (1 + math.exp(min(60.0, max(-60.0, 4 * stalled))))
        return (1 - slip) * kept

    def delivered(self, mm_s: float, celsius: float, motor_n: float) -> float:
        """Share of what is commanded that arrives, when it goes on for long: taken in and driven out come out even."""
        if mm_s <= 0:
            return 1.0
        given = rising_root(lambda out: out - mm_s * self.taken(self.force_n(out, celsius), motor_n), 0.0, mm_s)
        return given / mm_s


class Filament:
    """The filament as it stands. fed_mm: what has gone in past the hob; pressed_mm: what is pressed together below it.

    What it had been pressed with goes out as melt while nothing is pushed.
    """

    def __init__(self, truth: ExtruderTruth, motor: MotorTruth | None, random: np.random.Generator) -> None:
        self.truth = truth
        self.fed_mm = 0.0
        self.pressed_mm = 0.0
        self._motor = motor
        self._random = random
        self._pushed_mm = self._amps = 0.0
        self._bite, self._bitten = 1.0, 0.0
        self._comes: dict[tuple[float, float, float], float] = {}

    def comes(self, mm_s: float, celsius: float, amps: float) -> float:
        """Share of what is commanded at a speed of the hob that comes out of the nozzle, when it goes on; nothing from
        an empty spool or a cold nozzle.
        """
        if self.left_mm <= 0 or celsius < GLASSY_C or mm_s <= 0:
            return 0.0
        rounded = (round(mm_s, 2), round(celsius), round(amps, 3))
        if rounded not in self._comes:
            motor_n = self._motor.force_n(amps, mm_s) if self._motor is not None else math.inf
            self._comes[rounded] = self.truth.delivered(mm_s, celsius, motor_n)
        return self._comes[rounded]

    @property
    def left_mm(self) -> float:
        """Filament that has not gone in yet."""
        return max(0.0, self.truth.spool_mm - self.fed_mm)

    def load(self) -> None:
        """A new spool as full as the first."""
        self.truth = replace(self.truth, spool_mm=self.fed_mm + NEW_SPOOL_MM)

    def push(self, mm: float, amps: float) -> None:
        """The hob turned so far, with so much current in its motor; followed when time passes."""
        self._pushed_mm += mm
        self._amps = amps

    def pass_time(self, seconds: float, celsius: float) -> None:
        """Follow what was pushed in this time, and what flows out."""
        if not self._pushed_mm and self.pressed_mm <= RELAXED_MM:
            self.pressed_mm = 0.0
            return
        pushed, self._pushed_mm = self._pushed_mm, 0.0
        steps = max(1, math.ceil(seconds / STEP_S))
        for _ in range(steps):
            self._step(pushed / steps, seconds / steps, celsius)

    def _step(self, hob_mm: float, seconds: float, celsius: float) -> None:
        truth, speed = self.truth, abs(hob_mm) / seconds
        if hob_mm < 0:
            self.fed_mm += hob_mm
            self.pressed_mm = max(0.0, self.pressed_mm + hob_mm)
            return
        motor_n = self._motor.force_n(self._amps, speed) if self._motor is not None else math.inf
        offered = min(hob_mm * self._bites(hob_mm), self.left_mm)

        hot = celsius >= GLASSY_C
        top = (self.pressed_mm + offered) / (seconds if hot else 1.0)

        def at(value: float) -> tuple[float, float, float]:
            """For a speed at which melt goes out (glassy: for what is pressed): what is pressed at the step's end, what
            went in, and what is too much of it all (implicit Euler).
            """
            pressed = truth.force_n(value, celsius) / truth.spring_n_mm if hot else value
            went = offered * truth.taken(pressed * truth.spring_n_mm, motor_n)
            return pressed, went, pressed + (value * seconds if hot else 0.0) - self.pressed_mm - went

        self.pressed_mm, went, _ = at(rising_root(lambda value: at(value)[2], 0.0, top))
        self.fed_mm += went

    def _bites(self, hob_mm: float) -> float:
        """How much the hob takes now, by the surface that it bites into."""
        self._bitten += hob_mm
        if self._bitten >= BITES_MM:
            self._bitten = 0.0
            self._bite = 1 + self.truth.bite_share * float(self._random.standard_normal())
        return self._bite
