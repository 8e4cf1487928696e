"""Filament in the simulated machine: a hob that pushes, a melt that resists, a grip that slips, a spool that ends."""

from __future__ import annotations

import math
from bisect import bisect_right
from dataclasses import dataclass, replace

import numpy as np

from ublet.world.mechanics import MotorTruth
from ublet.world.roots import rising_root

REFERENCE_MM_S, REFERENCE_C = 2.0, 210.0
"""The melt's resistance is given at this speed of the filament and this temperature."""

FINE_S, IDLE_S = 0.004, 0.02
"""Longest steps in which pushing and melting are followed, while the hob turns and while it stands, s."""

STEADY_MM = 1e-6
"""While what is pressed together changes by no more than this in a step, nothing changes any more, mm."""

SLOWEST_MM_S, FASTEST_MM_S, TABLE_POINTS = 1e-3, 120.0, 400
"""Range and number of speeds in a melt's table, mm/s."""

GLASSY_C = 140.0
"""Colder than this nothing flows, °C."""

STALL_FRACTION = 0.03
"""Within this share around its force a motor goes over from keeping all its steps to keeping none."""

BITES_MM = 5.0
"""The hob bites anew after so much filament, mm."""

PLUG_SOFTENS_C = 12.0
"""What blocks a nozzle softens by a factor e in so many °C."""

WANDERS_MM = 700.0
"""The diameter of the filament goes to and fro over so much of it, mm."""

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
    multiple of the sound melt's. spring_n_mm: stiffness of the filament between hob and melt, its tube's too. play_mm:
    how far it shifts in the tube before it pushes or pulls. drips_mm_s: what drips from a hot nozzle while nothing
    presses, mm/s of filament; drawn back by drip_holds_mm it does not. draws_mm: drawn back further than this, air
    comes into the melt. spool_mm: what is left of the filament, of diameter_mm that
    wanders by wander_mm.
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
    play_mm: float = 0.0
    drips_mm_s: float = 0.0
    drip_holds_mm: float = 0.3
    draws_mm: float = 4.0
    spool_mm: float = 200_000.0
    diameter_mm: float = 1.75
    wander_mm: float = 0.0

    def section_mm2(self, mm: float) -> float:
        """The filament's section after so much of it."""
        diameter = self.diameter_mm + self.wander_mm * math.sin(2 * math.pi * mm / WANDERS_MM)
        return math.pi * diameter**2 / 4

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


@dataclass(frozen=True)
class MeltTable:
    """The melt's force over its speed at one temperature, to be read both ways: n forces (N) and speeds of the
    filament (mm/s), both rising.
    """

    forces_n: list[float]
    speeds_mm_s: list[float]

    def speed(self, force_n: float) -> tuple[float, float]:
        """How fast melt goes out at a force, mm/s, and how that rises with the force, mm/s/N."""
        at = min(max(1, bisect_right(self.forces_n, force_n)), len(self.forces_n) - 1)
        low, high = self.forces_n[at - 1], self.forces_n[at]
        slope = (self.speeds_mm_s[at] - self.speeds_mm_s[at - 1]) / (high - low)
        return max(0.0, self.speeds_mm_s[at - 1] + slope * (force_n - low)), slope


def melt_table(truth: ExtruderTruth, celsius: float) -> MeltTable:
    """The table of a melt that flows."""
    ratio = (FASTEST_MM_S / SLOWEST_MM_S) ** (1 / TABLE_POINTS)
    speeds = [0.0, *(SLOWEST_MM_S * ratio**number for number in range(TABLE_POINTS + 1))]
    return MeltTable([truth.force_n(speed, celsius) for speed in speeds], speeds)


class Filament:
    """The filament as it stands. fed_mm: what has gone in past the hob; pressed_mm: what is pressed together below it,
    negative where it was drawn back from the melt; slack_mm: how far it must shift in its tube before it pushes.

    What it had been pressed with goes out as melt while nothing is pushed.
    """

    def __init__(self, truth: ExtruderTruth, motor: MotorTruth | None, random: np.random.Generator) -> None:
        self.truth = truth
        self.fed_mm = self.out_mm = 0.0
        self.pressed_mm = self.slack_mm = self.air_mm = 0.0
        self._motor = motor
        self._random = random
        self._pushed_mm = self._amps = self._followed_s = 0.0
        self._bite, self._bitten = 1.0, 0.0
        self._tables: dict[float, MeltTable] = {}

    @property
    def left_mm(self) -> float:
        """Filament that has not gone in yet."""
        return max(0.0, self.truth.spool_mm - self.fed_mm)

    def oozes(self, celsius: float) -> bool:
        """Whether anything may come out of it while nothing is pushed."""
        return celsius >= GLASSY_C and (self.pressed_mm > RELAXED_MM or self.truth.drips_mm_s > 0)

    def load(self) -> None:
        """A new spool as full as the first."""
        self.truth = replace(self.truth, spool_mm=self.fed_mm + NEW_SPOOL_MM)

    def turn(self, mm_s: float, mm_s2: float, seconds: float, melt: tuple[float, float]) -> list[tuple[float, float]]:
        """The hob turns at a speed, mm/s, with an even acceleration; melt: the block's temperature, °C, and the current
        in the motor, A. Returns what came out of the nozzle: pieces of time, s, each with filament, mm.
        """
        self._amps = melt[1]
        self._followed_s += seconds
        return self._followed(mm_s, mm_s2, seconds, melt[0], FINE_S)

    def push(self, mm: float, amps: float) -> None:
        """The hob turned so far in the time that passes next, evenly, with so much current in its motor."""
        self._pushed_mm += mm
        self._amps = amps

    def pass_time(self, seconds: float, celsius: float) -> None:
        """Follow what flows out in the part of this time in which the hob was not followed already."""
        left, self._followed_s = max(0.0, seconds - self._followed_s), 0.0
        pushed, self._pushed_mm = self._pushed_mm, 0.0
        rests = abs(self.pressed_mm) <= RELAXED_MM and not (self.truth.drips_mm_s and celsius >= GLASSY_C)
        if not pushed and (rests or not left):
            self.pressed_mm = 0.0 if 0 < self.pressed_mm <= RELAXED_MM else self.pressed_mm
            return
        self._followed(pushed / left if left else 0.0, 0.0, left, celsius, FINE_S if pushed else IDLE_S)

    def _followed(
        self, mm_s: float, mm_s2: float, seconds: float, celsius: float, step_s: float
    ) -> list[tuple[float, float]]:
        pieces, gone = [], 0.0
        while seconds - gone > 1e-9:
            piece_s, before = min(step_s, seconds - gone), self.pressed_mm
            speed = mm_s + mm_s2 * (gone + piece_s / 2)
            pieces.append((piece_s, self._step(speed, piece_s, celsius)))
            gone += piece_s
            if not mm_s2 and abs(self.pressed_mm - before) < STEADY_MM and seconds - gone > 1e-9:
                pieces.append((seconds - gone, self._step(mm_s, seconds - gone, celsius)))  # nothing changes any more
                break
        return pieces

    def _step(self, mm_s: float, seconds: float, celsius: float) -> float:
        """One step of time with the hob at a speed; returns what came out, mm.

        ``dp/dt = in - out(p)``, out linearised about p and the step then exact (exponential Euler): stable however
        stiff the melt is.
        """
        truth, hot = self.truth, celsius >= GLASSY_C
        force = max(0.0, self.pressed_mm) * truth.spring_n_mm
        hob = mm_s * seconds
        if hob >= 0:
            bitten = min(hob * self._bites(hob), self.left_mm)
            motor_n = self._motor.force_n(self._amps, mm_s) if self._motor is not None else math.inf
            went = bitten * truth.taken(force, motor_n) if hob else 0.0
            shifted = min(self.slack_mm, went)
            self.slack_mm -= shifted
            pressing = went - shifted
        else:
            went = hob
            shifted = min(truth.play_mm - self.slack_mm, -hob)
            self.slack_mm += shifted
            pressing = went + shifted
            drawn = min(0.0, self.pressed_mm + pressing + truth.draws_mm)
            self.air_mm -= drawn  # comes in at the nozzle
        self.fed_mm += went
        out_mm_s, falls_s = self._flows(force, celsius) if hot else (0.0, 0.0)
        held = -math.expm1(-falls_s * seconds) / falls_s if falls_s > 1e-9 else seconds
        change = (pressing / seconds - out_mm_s) * held
        out = max(0.0, pressing - change)
        self.pressed_mm = max(-truth.draws_mm, self.pressed_mm + pressing - out)
        if hob > 0 and self.air_mm > 0:  # what was drawn in comes out again, first of all
            blown = min(self.air_mm, out)
            self.air_mm -= blown
            out -= blown
        self.out_mm += out
        return out

    def _flows(self, force_n: float, celsius: float) -> tuple[float, float]:
        """How fast melt goes out, mm/s, and how that rises with what is pressed together, 1/s."""
        truth = self.truth
        if force_n <= 0:
            left = 1 + self.pressed_mm / truth.drip_holds_mm if truth.drip_holds_mm else 0.0
            if self.pressed_mm < 0:
                return truth.drips_mm_s * max(0.0, left), 0.0
        warm = round(2 * celsius) / 2
        if (table := self._tables.get(warm)) is None:
            table = self._tables[warm] = melt_table(truth, warm)
        speed, slope = table.speed(force_n)
        return speed + truth.drips_mm_s, slope * truth.spring_n_mm

    def _bites(self, hob_mm: float) -> float:
        """How much the hob takes now, by the surface that it bites into."""
        self._bitten += hob_mm
        if self._bitten >= BITES_MM:
            self._bitten = 0.0
            self._bite = 1 + self.truth.bite_share * float(self._random.standard_normal())
        return self._bite
