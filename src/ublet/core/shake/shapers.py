"""Impulse trains that shape motion: the five named ones, what they leave of a frame's ringing, and what they round."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.shake.frame import Floats, Mode

TOLERATED = 0.05
"""Vibration that the tolerant trains leave at their middle."""


@dataclass(frozen=True)
class Train:
    """Impulses (n): times in s from 0, and amplitudes that sum to one."""

    times: Floats
    amplitudes: Floats

    @property
    def duration_s(self) -> float:
        """From the first to the last."""
        return float(self.times[-1])

    @property
    def spread_s2(self) -> float:
        """Variance of the train in time: ``sum A (t - mean)^2``, s²."""
        mean = float(self.amplitudes @ self.times)
        return float(self.amplitudes @ (self.times - mean) ** 2)

    def rounding_mm(self, acceleration_mm_s2: float) -> float:
        """By how much it rounds a corner at an acceleration: ``a / 2 sum A (t - mean)^2`` (handbook, section 8)."""
        return acceleration_mm_s2 / 2 * self.spread_s2

    def highest_mm_s2(self, rounding_mm: float) -> float:
        """Largest acceleration at which it rounds no more than this."""
        return 2 * rounding_mm / self.spread_s2 if self.spread_s2 > 0 else math.inf


def residual(train: Train, modes: Sequence[Mode], moved: float = 0.0) -> float:
    """What a train leaves of a frame's ringing, all its frequencies moved by a share: ``sum p V / sum p``."""
    return float(residuals(train.times[None, :], train.amplitudes, modes, moved)[0])


def residuals(times: Floats, amplitudes: Floats, modes: Sequence[Mode], moved: float = 0.0) -> Floats:
    """The same of k trains of the same n amplitudes at once; times (k x n) in s."""
    whole = sum(abs(mode.share) for mode in modes)
    found = np.zeros(len(times))
    for mode in modes:
        found += abs(mode.share) / whole * _vibrations(times, amplitudes, mode.moved(moved))
    return found


def vibration(train: Train, mode: Mode) -> float:
    """What a train leaves of one mode: ``V = exp(-z w tn) |sum A exp(z w t) exp(j wd t)|`` (Singer & Seering 1990)."""
    return float(_vibrations(train.times[None, :], train.amplitudes, mode)[0])


def _vibrations(times: Floats, amplitudes: Floats, mode: Mode) -> Floats:
    w, z = mode.w, mode.damping_ratio
    turns = np.exp((z * w + 1j * w * math.sqrt(1 - z * z)) * (times - times[:, -1:]))
    return np.asarray(np.abs(turns @ amplitudes))


def _zv(k: float) -> list[float]:
    return [1, k]


def _zvd(k: float) -> list[float]:
    return [1, 2 * k, k * k]


def _ei(k: float) -> list[float]:
    v = TOLERATED
    return [(1 + v) / 4, (1 - v) / 2 * k, (1 + v) / 4 * k * k]


def _two_hump(k: float) -> list[float]:
    v = TOLERATED
    x = (v * v * (math.sqrt(1 - v * v) + 1)) ** (1 / 3)
    a = (3 * x * x + 2 * x + 3 * v * v) / (16 * x)
    return [a, (0.5 - a) * k, (0.5 - a) * k**2, a * k**3]


def _three_hump(k: float) -> list[float]:
    v = TOLERATED
    a = (1 + 3 * v + 2 * math.sqrt(2 * (v * v + v))) / 16
    b = (1 - v) / 4
    return [a, b * k, (1 - 2 * (a + b)) * k**2, b * k**3, a * k**4]


NAMED: Mapping[str, Callable[[float], list[float]]] = {
    "zv": _zv,
    "zvd": _zvd,
    "ei": _ei,
    "two-hump-ei": _two_hump,
    "three-hump-ei": _three_hump,
}
"""Amplitudes of the named trains, half a damped period apart, before they are made to sum to one; by
``K = exp(-z pi / sqrt(1 - z^2))`` (Singer & Seering 1990; Singhose et al. 1994, 1997).
"""


def named(name: str, frequency_hz: float, damping_ratio: float) -> Train:
    """A named train for an undamped frequency, Hz, and a damping ratio.

    Raises:
        KeyError: there is none of that name.
    """
    root = math.sqrt(1 - damping_ratio**2)
    amplitudes = np.array(NAMED[name](math.exp(-damping_ratio * math.pi / root)))
    half = 0.5 / (frequency_hz * root)
    return Train(half * np.arange(len(amplitudes), dtype=np.float64), np.asarray(amplitudes / amplitudes.sum()))
