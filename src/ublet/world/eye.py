"""An eye that looks at widths: what it just sees, how it tires, and which of many lines it calls even."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

TIRES_LINES = 80
"""Number of lines after which an eye errs twice as much."""

ALL_BULGE, ALL_THIN = "all bulge", "all are thin"


class Eye:
    """An eye that just sees a difference of widths, mm. It errs by half of that, and by more as it tires."""

    def __init__(self, sees_mm: float, random: np.random.Generator) -> None:
        self.sees_mm = sees_mm
        self._random = random
        self._looked = 0

    def seen(self, mm: float) -> float:
        """A difference of widths as it is seen, mm."""
        self._looked += 1
        tired = 1 + min(1.0, self._looked / TIRES_LINES)
        return mm + float(self._random.normal(0.0, self.sees_mm / 2 * tired))

    def even(self, differences_mm: Sequence[float | None]) -> tuple[int, int] | str:
        """The first and the last line that look even, by their places from 0, or between which they change over; else
        ``ALL_BULGE`` or ``ALL_THIN``. differences_mm: of each line, wider after slowing down above zero; None: bare.
        """
        seen = {number: self.seen(mm) for number, mm in enumerate(differences_mm) if mm is not None}
        bulged = [number for number, mm in seen.items() if mm > self.sees_mm]
        thin = [number for number, mm in seen.items() if mm < -self.sees_mm]
        if not thin and bulged:
            return ALL_BULGE
        if not bulged and thin:
            return ALL_THIN
        even = [number for number in seen if number not in bulged and number not in thin]
        return _widest_run(even) if even else (max(bulged), min(thin))


def _widest_run(numbers: Sequence[int]) -> tuple[int, int]:
    """The longest run of numbers, where single ones may be missing."""
    best = (numbers[0], numbers[0])
    start = last = numbers[0]
    for number in numbers[1:]:
        start = number if number - last > 2 else start
        last = number
        best = (start, last) if last - start > best[1] - best[0] else best
    return best
