"""An accelerometer in the simulated machine: gravity, what the carriages do, noise, and a clock of its own."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.motion.kinematics import AXES
from ublet.core.streams import Readings

GRAVITY_M_S2 = 9.80665
COUNT_M_S2 = 0.0024
"""What one count of it stands for, m/s²."""

Shove = tuple[float, float, Mapping[str, float]]
"""From when to when in a step of time, s, and the acceleration of axes meanwhile, mm/s²."""


@dataclass(frozen=True)
class AccelerometerTruth:
    """noise_m_s2: standard deviation of a reading; offset_m_s2: of each column; clock_error: share by which it takes
    readings too often.
    """

    noise_m_s2: float = 0.12
    offset_m_s2: tuple[float, float, float] = (0.0, 0.0, 0.0)
    clock_error: float = 0.005


def accelerometer_at_rest_truth(truth: AccelerometerTruth, rate_hz: float) -> dict[str, float]:
    """What readings at rest are: gravity with its offsets, noise with that of rounding, and the rate that it keeps."""
    noise = math.hypot(truth.noise_m_s2, COUNT_M_S2 / math.sqrt(12))
    still = np.array([0.0, 0.0, GRAVITY_M_S2]) + truth.offset_m_s2
    return {
        "gravity": float(np.linalg.norm(still)),
        "rate": rate_hz * (1 + truth.clock_error),
        "lost": 0.0,
        **{f"noise.{axis}": noise for axis in AXES},
    }


class Accelerometer:
    """On the moving part, its axes along the machine's; it takes readings while it is listened to."""

    def __init__(self, truth: AccelerometerTruth, random: np.random.Generator) -> None:
        self.truth = truth
        self._random = random
        self._rate_hz = 0.0
        self._ahead_s = 0.0
        self._taken: list[NDArray[np.int16]] = []

    @property
    def listening(self) -> bool:
        """Whether it takes readings."""
        return self._rate_hz > 0

    def listen(self, rate_hz: float) -> None:
        """Take so many readings a second by its own clock, from now on; at 0 none."""
        self._rate_hz = rate_hz * (1 + self.truth.clock_error)
        self._ahead_s = 0.0 if rate_hz == 0 else float(self._random.uniform(0, 1 / self._rate_hz))
        self._taken.clear()

    def pass_time(self, seconds: float, shoves: Sequence[Shove]) -> None:
        """Take the readings of a step of time in which carriages were shoved about."""
        if not self.listening:
            return
        period = 1 / self._rate_hz
        count = max(0, int((seconds - self._ahead_s) / period) + 1) if seconds >= self._ahead_s else 0
        times = self._ahead_s + period * np.arange(count)
        self._ahead_s += period * count - seconds
        true = np.tile(np.array([0.0, 0.0, GRAVITY_M_S2]) + self.truth.offset_m_s2, (count, 1))
        for start, end, axes in shoves:
            inside = (times >= start) & (times < end)
            for axis, mm_s2 in axes.items():
                true[inside, AXES.index(axis)] += mm_s2 / 1000
        true += self.truth.noise_m_s2 * self._random.standard_normal(true.shape)
        self._taken.append(np.clip(np.rint(true / COUNT_M_S2), -32768, 32767).astype(np.int16))

    def heard(self) -> Readings:
        """What it took since it was asked last."""
        counts = np.concatenate(self._taken) if self._taken else np.empty((0, 3), dtype=np.int16)
        self._taken.clear()
        return Readings(counts, 1 / self._rate_hz - self._ahead_s if self.listening else 0.0)
