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
        """Standard uncertainty of the standard deviation of n normal readings, mm.

        Two of them reach up to where the true deviation still gives so little in 2.3 % of cases: the quantile of chi
        squared over its n - 1 degrees of freedom by Wilson and Hilferty (1931). It tends to ``s / sqrt(2 (n - 1))``
        for many readings; for the few of a homing that covers too seldom, because small spreads are the likely ones.
        """
        ninth = 2 / (9 * (self.count - 1))
        low = (1 - ninth - 2 * math.sqrt(ninth)) ** 3
        return self.deviation_mm * (1 / math.sqrt(low) - 1) / 2


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
