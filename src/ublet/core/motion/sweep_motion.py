"""A carriage moved to and fro, ever faster: the course of its speed from standing to standing, where it began."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ublet.core.arrays import Floats
from ublet.core.motion.program import SWEEP_LEAD_S, SweepMove

LEAD_IN_S = 0.3
LEAD_OUT_S = SWEEP_LEAD_S - LEAD_IN_S
"""Before the sweep it is brought to the speed with which that begins, and after it back to where it began, s."""

GRID_HZ = 5000.0
"""Rate at which its speed is computed; between two values it changes evenly."""


class SweepCourse:
    """The speed of a swing along its way, computed ``GRID_HZ`` times a second and even between.

    Its acceleration is ``a = A f sin(2 pi (f0 t + r t^2 / 2))`` at the frequency ``f = f0 + r t``, so its speed is
    ``-A / (2 pi) cos(...)``: the same at every frequency. It is led in to that speed, and led out so that it stands
    where it began.
    """

    def __init__(self, sweep_move: SweepMove) -> None:
        self._sweep_move = sweep_move
        self._rate = (sweep_move.to_hz - sweep_move.from_hz) / sweep_move.seconds
        self._top = 1000 * sweep_move.per_hz_m_s2 / (2 * math.pi)
        self._swept = round(sweep_move.seconds * GRID_HZ)
        self._in, out = round(LEAD_IN_S * GRID_HZ), round(LEAD_OUT_S * GRID_HZ)
        self.count = self._in + self._swept + out
        self._last = float(self._sweep(np.array([self._swept]))[0])
        speeds = self.speeds(0, self._in + self._swept + 1)
        gone = float(np.sum(speeds[1:] + speeds[:-1])) / (2 * GRID_HZ)
        fraction = np.arange(out + 1) / out
        back = self._last * (1 - fraction)
        bump = fraction * (1 - fraction)
        size = -(gone + float(np.sum(back[1:] + back[:-1])) / (2 * GRID_HZ)) * GRID_HZ / float(np.sum(bump))
        self._out: Floats = back + size * bump

    @property
    def seconds(self) -> float:
        """How long it takes in all."""
        return self.count / GRID_HZ

    def speeds(self, first: int, count: int) -> Floats:
        """Speeds at so many points of the grid from one on, mm/s; behind its end it stands."""
        at = np.arange(first, first + count)
        speeds_mm_s = np.where(at < self._in, -self._top * at / self._in, 0.0)
        swept_s = (at >= self._in) & (at <= self._in + self._swept)
        speeds_mm_s[swept_s] = self._sweep(at[swept_s] - self._in)
        led_out = (at > self._in + self._swept) & (at <= self.count)
        if led_out.any():
            speeds_mm_s[led_out] = self._out[at[led_out] - self._in - self._swept]
        return speeds_mm_s

    def _sweep(self, at: NDArray[np.int64]) -> Floats:
        t = at / GRID_HZ
        turned: Floats = 2 * np.pi * (self._sweep_move.from_hz * t + self._rate * t * t / 2)
        return np.asarray(-self._top * np.cos(turned))
