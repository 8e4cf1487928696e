"""Lengths read by people: instruments with their errors, and what repeated readings tell."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

Instrument = Literal["rule", "callipers", "dial-gauge"]

HALF_WIDTH_MM: dict[Instrument, float] = {"rule": 0.5, "callipers": 0.05, "dial-gauge": 0.01}
"""The largest error of one reading with each instrument, mm; errors within are equally likely."""

REACH_MM: dict[Instrument, float] = {"rule": 300.0, "callipers": 150.0, "dial-gauge": 10.0}
"""The longest travel that each can read, mm."""

STUTTERS = 3.0
"""Readings that scatter so many times more than their instrument explains come from the machine."""


@dataclass(frozen=True)
class Length:
    """What n readings of the same length tell: mean and its standard uncertainty, sample deviation, in mm.

    Each reading is a new placing of the instrument, so its error is drawn anew and the mean of n is better by sqrt(n).
    """

    count: int
    mean_mm: float
    deviation_mm: float
    uncertainty_mm: float
    half_width_mm: float

    @property
    def stutters(self) -> bool:
        """Whether the readings scatter more than reading them explains: the machine does not repeat."""
        return self.count > 1 and self.deviation_mm > STUTTERS * self.half_width_mm / math.sqrt(3)


def length_of(readings_mm: Sequence[float], instrument: Instrument) -> Length:
    """Mean of repeated readings and its standard uncertainty.

    The instrument's error is uniform in ``±a``, so that one reading has ``u = a / sqrt(3)`` (GUM, JCGM 100:2008,
    4.3.7). Scatter beyond that is the machine's and is added in squares; scatter within it is not counted twice.

    Raises:
        ValueError: no readings.
    """
    count = len(readings_mm)
    if not count:
        raise ValueError("no readings")
    half = HALF_WIDTH_MM[instrument]
    mean = sum(readings_mm) / count
    deviation = math.sqrt(sum((r - mean) ** 2 for r in readings_mm) / (count - 1)) if count > 1 else 0.0
    read = half**2 / 3
    machine = max(0.0, deviation**2 - read)
    return Length(count, mean, deviation, math.sqrt((read + machine) / count), half)
