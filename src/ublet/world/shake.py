"""An accelerometer in the simulated machine: gravity, how the frame shakes it, noise, a mount, a clock of its own."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.arrays import Floats
from ublet.core.machine.layouts import AXES
from ublet.core.streams import Readings
from ublet.world.frame import Frame

GRAVITY_M_S2 = 9.80665
COUNT_M_S2 = 0.0024
"""What one count of it stands for, m/s²."""

MOST_MISSED = 12
"""An overflow loses up to so many readings."""


@dataclass(frozen=True)
class AccelerometerTruth:
    """noise_m_s2: standard deviation of a reading; offset_m_s2: of each column; clock_error: share by which it takes
    readings too often; reads: which way each column points (``x``, ``-y``); lean_deg: it leans over to the front;
    range_m_s2: readings end there; loose: a mount that rattles gives noise of this share of what shakes it;
    cable_share: what its cable adds to the head's mass, new each time that it is listened to, standard; on: where it
    sits at first, ``head`` or ``bed``; held_hz, held_damping: how what holds it rings with it (0: it is rigid);
    overflows_s: so often a second its own memory overflows, and some readings are lost.
    """

    noise_m_s2: float = 0.12
    offset_m_s2: tuple[float, float, float] = (0.0, 0.0, 0.0)
    clock_error: float = 0.005
    reads: tuple[str, str, str] = ("x", "y", "z")
    lean_deg: float = 0.0
    range_m_s2: float = 78.0
    loose: float = 0.0
    cable_share: float = 0.0
    overflows_s: float = 0.0
    on: str = "head"
    held_hz: float = 0.0
    held_damping: float = 0.1


def accelerometer_at_rest_truth(truth: AccelerometerTruth, rate_hz: float) -> dict[str, float]:
    """What readings at rest are: gravity with its offsets, noise with that of rounding, and the rate that it keeps."""
    noise = math.hypot(truth.noise_m_s2, COUNT_M_S2 / math.sqrt(12))
    still = turned(truth) @ np.array([0.0, 0.0, GRAVITY_M_S2]) + truth.offset_m_s2
    return {
        "gravity": float(np.linalg.norm(still)),
        "rate": rate_hz * (1 + truth.clock_error),
        **({} if truth.overflows_s else {"lost": 0.0}),
        "range": 32767 * COUNT_M_S2,
        **{f"noise.{axis}": noise for axis in AXES},
    }


def turned(truth: AccelerometerTruth) -> Floats:
    """From the machine's axes to the sensor's columns (3 x 3)."""
    lean = math.radians(truth.lean_deg)
    leans = np.array([[1, 0, 0], [0, math.cos(lean), -math.sin(lean)], [0, math.sin(lean), math.cos(lean)]])
    points = np.zeros((3, 3))
    for row, word in enumerate(truth.reads):
        points[row, AXES.index(word[-1])] = -1.0 if word.startswith("-") else 1.0
    return np.asarray(points @ leans)


class Accelerometer:
    """On a part that moves; it takes readings while it is listened to, and only then the frame is worked out."""

    def __init__(self, truth: AccelerometerTruth, frame: Frame, random: np.random.Generator) -> None:
        self.truth, self.frame = truth, frame
        self.on = truth.on
        self.unplugged = False
        self.missed = 0
        self._random = random
        self._rate_hz = 0.0
        self._ahead_s = 0.0
        self._turned = turned(truth)
        self._taken: list[NDArray[np.int16]] = []
        self._speeds: Mapping[str, Floats] = {}
        self._mount, self._felt = np.zeros((2, 2)), np.zeros(2)

    def listen(self, rate_hz: float) -> None:
        """Take so many readings a second by its own clock, from now on; at 0 none."""
        self._rate_hz = rate_hz * (1 + self.truth.clock_error)
        self._ahead_s = 0.0 if rate_hz == 0 else float(self._random.uniform(0, 1 / self._rate_hz))
        self._taken.clear()
        self._mount, self._felt = np.zeros((2, 2)), np.zeros(2)
        if rate_hz:
            self.frame.heavier = (
                self.truth.cable_share * float(self._random.normal()) if self.truth.cable_share else 0.0
            )
            self.frame.rest()

    def course(self, speeds: Mapping[str, Floats]) -> None:
        """How the axes are stepped in the time that passes next."""
        self._speeds = speeds

    def pass_time(self, seconds: float, where: Mapping[str, float]) -> None:
        """Take the readings of a step of time in which axes were stepped as commanded."""
        speeds, self._speeds = self._speeds, {}
        if not self._rate_hz:
            return
        period = 1 / self._rate_hz
        count = max(0, int((seconds - self._ahead_s) / period) + 1) if seconds >= self._ahead_s else 0
        times = self._ahead_s + period * np.arange(count)
        self._ahead_s += period * count - seconds
        if self.unplugged:
            self._taken.append(np.zeros((count, 3), dtype=np.int16))
            return
        felt = np.zeros((count, 3))
        if speeds:
            nodes = len(speeds["x"]) - 1
            shaken = self.frame.shake(speeds, seconds / nodes, where, self.on)
            if self.truth.held_hz:
                shaken = self._through_mount(shaken, seconds / nodes)
            at = np.linspace(0.0, seconds, nodes + 1)
            for column in range(2):
                felt[:, column] = np.interp(times, at, shaken[:, column])
            push = np.diff(speeds["z"]) / (seconds / nodes) / 1000
            felt[:, 2] = push[np.minimum((times / seconds * nodes).astype(int), nodes - 1)]
        if self.truth.loose:
            hits = self.truth.loose * np.linalg.norm(felt, axis=1, keepdims=True)
            felt = felt + hits * self._random.standard_normal(felt.shape)
        felt[:, 2] += GRAVITY_M_S2
        true = felt @ self._turned.T + self.truth.offset_m_s2
        true += self.truth.noise_m_s2 * self._random.standard_normal(true.shape)
        true = np.clip(true, -self.truth.range_m_s2, self.truth.range_m_s2)
        self._taken.append(np.clip(np.rint(true / COUNT_M_S2), -32768, 32767).astype(np.int16))

    def _through_mount(self, shaken: Floats, step_s: float) -> Floats:
        """What a sensor on a spring feels of what its part does (n + 1 x 2, in even steps that begin where the last
        ones ended): ``(2 z w s + w^2) / (s^2 + 2 z w s + w^2)``, what shakes it taken as straight from one to the
        next.
        """
        from scipy.signal import cont2discrete, lfilter

        w, z = 2 * math.pi * self.truth.held_hz, self.truth.held_damping
        (above,), below, _ = cont2discrete(([2 * z * w, w * w], [1.0, 2 * z * w, w * w]), step_s, method="foh")
        through, self._mount = lfilter(np.asarray(above), np.asarray(below), shaken[1:, :2], axis=0, zi=self._mount)
        began, self._felt = self._felt, through[-1]
        return np.vstack([began, through])

    def readings(self) -> Readings:
        """What it took since it was asked last; where its memory overflowed, without the first of them."""
        counts = np.concatenate(self._taken) if self._taken else np.empty((0, 3), dtype=np.int16)
        self._taken.clear()
        missed, often = 0, self.truth.overflows_s
        if often and len(counts) > 1 and self._random.uniform() < -math.expm1(-often * len(counts) / self._rate_hz):
            missed = min(len(counts) - 1, int(self._random.integers(1, MOST_MISSED + 1)))
            self.missed += missed
        return Readings(counts[missed:], 1 / self._rate_hz - self._ahead_s if self._rate_hz else 0.0, missed)
