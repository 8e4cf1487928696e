"""Repeated homing: the spread of an end, and whether it is small enough."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Spread:
    """How well an end repeats: n readings, sample standard deviation and range in mm, and the former's uncertainty."""

    count: int
    deviation_mm: float
    range_mm: float

    @property
    def uncertainty_mm(self) -> float:
        """Standard uncertainty of the standard deviation of n normal readings: ``s / sqrt(2 (n - 1))``."""
        return self.deviation_mm / math.sqrt(2 * (self.count - 1))


def spread_of(shifts_mm: Sequence[float]) -> Spread:
    """The spread of an end from how much the position was off at each repeat, mm.

    Each shift is the difference of two triggers, the one before and this one: its variance is twice an end's.

    Raises:
        ValueError: fewer than two.
    """
    count = len(shifts_mm)
    if count < 2:
        raise ValueError("a spread needs two repeats")
    # the ends themselves, from the first on: each is where the former one was, plus the shift
    ends, at = [0.0], 0.0
    for shift in shifts_mm:
        at += shift
        ends.append(at)
    mean = sum(ends) / len(ends)
    deviation = math.sqrt(sum((end - mean) ** 2 for end in ends) / (len(ends) - 1))
    return Spread(len(ends), deviation, max(ends) - min(ends))
