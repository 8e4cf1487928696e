"""What finds the bed: where the probe really sits, when it triggers, and what throws it off."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from ublet.core.machine.schema import MachineFile
from ublet.core.sockets import Pace
from ublet.world.bed import TrueBed, waves
from ublet.world.bed_parts import ProbeTruth
from ublet.world.coil import EDGES, Coil
from ublet.world.scenario import SwitchPart
from ublet.world.switches import Switch

SLOPE_MM = 5.0
"""The bed's slope below the probe is taken over so much, mm."""


class ProbeSwitch(Switch):
    """The probe's switch: pressed by the bed, wherever that stands below it.

    at_mm of its part is how high the nozzle's carriage stands over the bed below the probe when it triggers.
    """

    def __init__(
        self, part: SwitchPart, truth: ProbeTruth, machine: MachineFile, bed: TrueBed, random: np.random.Generator
    ) -> None:
        super().__init__(part)
        self._truth, self._bed, self._random = truth, bed, random
        declared = machine.probe
        offset = (declared.offset_x_mm, declared.offset_y_mm) if declared is not None else (0.0, 0.0)
        own = (truth.offset_x_mm, truth.offset_y_mm)
        self.offset = tuple(mine if mine is not None else its for mine, its in zip(own, offset, strict=True))
        self._metal = waves(truth.metal, bed.width, bed.depth)
        self._warm_k = 0.0
        self.touches = 0
        self.humming = 0.0
        """The duty of the heaters beside it now, 0 to 1."""
        self._hum = 0.0
        self._shaken = self._pin = 0.0  # drawn anew at each touch, and each time that the pin comes down
        self.lowered_mm = 0.0
        """How much lower than on arrival hands have set it in its mount."""

    def place(self, where: Mapping[str, float]) -> tuple[float, float]:
        """Where over the bed it stands."""
        return where["x"] + self.offset[0], where["y"] + self.offset[1]

    def height(self, where: Mapping[str, float]) -> float:
        """How high the nozzle's carriage stands over the bed below the probe, mm."""
        x, y = self.place(where)
        return where["z"] - self._bed.height(x, y)

    @property
    def shakes_s(self) -> float:
        """By how much its delay differs from touch to touch, s, standard."""
        return self._truth.shakes_s

    @property
    def pin_mm(self) -> float:
        """By how much its pin's length differs from one deploying to the next, mm, standard."""
        return self._truth.pin_mm

    def triggers_at(self, where: Mapping[str, float]) -> float:
        """The height at which it triggers there, without its scatter, mm."""
        truth, (x, y) = self._truth, self.place(where)
        height = self._senses_mm() + self.lowered_mm + truth.drift_mm_k * self._warm_k - self._metal(x, y)
        if truth.lean_mm:
            rise = self._bed.height(x + SLOPE_MM, y) - self._bed.height(x - SLOPE_MM, y)
            height += truth.lean_mm * rise / (2 * SLOPE_MM)
        return height

    def stowed_gap(self, where: Mapping[str, float]) -> float:
        """Between its end, stowed, and the bed below it, mm."""
        return self.height(where) + self._truth.stowed_mm - self.lowered_mm

    def deployed(self) -> bool:
        """It is commanded down: whether it does this time."""
        self._pin = float(self._random.normal(0.0, self._truth.pin_mm)) if self._truth.pin_mm else 0.0
        return not self._truth.stays_up or float(self._random.random()) >= self._truth.stays_up

    def pass_time(self, seconds: float, bed_k: float) -> None:
        """The bed is so much warmer than the room."""
        warm = self._truth.warms_share * bed_k
        self._warm_k += (warm - self._warm_k) * -math.expm1(-seconds / self._truth.warms_s)

    def press(self, down: bool) -> None:
        """Counts the touches."""
        if down and not self.pressed:
            self.touches += 1
            self._bed.touched(self.touches)
            self._shaken = float(self._random.normal()) if self._truth.shakes_s else 0.0
            self._hum = float(self._random.normal(0.0, self._truth.hum_mm)) if self._truth.hum_mm else 0.0
        super().press(down)

    def _senses_mm(self) -> float:
        """The height at which it triggers over flat metal, cold and as it was mounted on arrival, mm."""
        return self.part.at_mm

    def _beyond(self, where: Mapping[str, float]) -> float:
        if self._truth.dies_after and self.touches >= self._truth.dies_after:
            return 1.0
        late = self.towards_mm_s * (self._truth.delay_s + self._truth.shakes_s * self._shaken)
        return self.height(where) - self.triggers_at(where) - self._pin - self._hum * self.humming + late


class CoilSwitch(ProbeSwitch):
    """The line by which a coil signals that it rings faster than its threshold."""

    def __init__(
        self,
        part: SwitchPart,
        truth: ProbeTruth,
        machine: MachineFile,
        bed: TrueBed,
        random: np.random.Generator,
        coil: Coil,
    ) -> None:
        super().__init__(part, truth, machine, bed, random)
        self.coil = coil

    def over(self, x: float, y: float, z: float) -> float:
        """How high the coil hangs over the bed with the carriages there: the mean over what it sees of it, mm."""
        mid_x, mid_y = x + self.offset[0], y + self.offset[1]
        wide = self.coil.truth.outer_mm
        sees = [self._bed.height(mid_x + wide * u, mid_y + wide * v) for u, v in EDGES]
        return z + self._hangs_mm - sum(sees) / len(sees)

    def passed(
        self,
        began_s: float,
        pace: Pace,
        ends_mm: tuple[float, float],
        before: Mapping[str, float],
        after: Mapping[str, float],
    ) -> None:
        """The carriages went along a part of a path, from one of its ends to the other, that began then."""
        start, end = (began_s + pace.reached(mm) for mm in ends_mm)
        self.coil.passed((start, end, *ends_mm, before, after, lambda at: pace.gone(at - began_s)))

    def take(self, seconds: float, where: Mapping[str, float]) -> None:
        """Readings of a step of time that has passed."""
        self.coil.take(seconds, where, self.over, self._truth.shakes_s)

    def now(self, where: Mapping[str, float]) -> tuple[float, float, float]:
        """A reading just now."""
        return self.coil.now(self.over(where["x"], where["y"], where["z"]))

    def stowed_gap(self, where: Mapping[str, float]) -> float:
        """A coil is not stowed: it hangs where it hangs."""
        return self.height(where) + self._hangs_mm

    def pass_time(self, seconds: float, bed_k: float) -> None:
        """It warms as its truth says."""
        self.coil.pass_time(seconds, bed_k)

    @property
    def _hangs_mm(self) -> float:
        return self.coil.truth.hangs_mm - self.lowered_mm

    def _senses_mm(self) -> float:
        return self.coil.height_at(self.coil.alert_hz) - self.coil.truth.hangs_mm
