"""How much an axis stands: the search between what holds and what does not, and the margin kept from it."""

from __future__ import annotations

import math
from collections.abc import Awaitable, Callable
from dataclasses import dataclass

UP, DOWN = 1.25, 0.8
"""Each try is so many times the one before."""

STEPS_LOST = 2.0
"""An axis that is off by more than so many full steps has lost some: a slip is never less than four."""

SPREADS = 6.0
"""It must also be off by more than so many times the spread of its end."""


@dataclass(frozen=True)
class Bracket:
    """Where a limit lies: the last value that held (None: not even the least), and the next, that did not (None: all
    that was tried held).
    """

    holds: float | None
    fails: float | None

    @property
    def limit(self) -> float | None:
        """The middle of the two: the limit lies anywhere between them."""
        if self.holds is None:
            return None
        return self.holds if self.fails is None else (self.holds + self.fails) / 2

    @property
    def uncertainty(self) -> float | None:
        """Standard uncertainty of the middle: uniform between the two, ``|difference| / sqrt(12)``."""
        if self.holds is None or self.fails is None:
            return None
        return abs(self.fails - self.holds) / math.sqrt(12)

    def times(self, unit: float) -> Bracket:
        """The same bracket of what was tried in these units."""
        return Bracket(*(None if tried_at is None else tried_at * unit for tried_at in (self.holds, self.fails)))


Holds = Callable[[float], Awaitable[bool | None]]
"""Tries a value; True when no step was lost, None when it is not to be tried: then the search ends there."""


async def highest(holds: Holds, start: float, most: float, least: float) -> Bracket:
    """The highest value that holds: from ``start`` up while it holds, or down until it does; the rest halved once."""
    return await _edge(holds, start, most, least, UP)


async def lowest(holds: Holds, start: float, least: float, most: float) -> Bracket:
    """The lowest value that holds: from ``start`` down while it holds, or up until it does; the rest halved once."""
    return await _edge(holds, start, least, most, DOWN)


async def _edge(holds: Holds, start: float, far: float, back: float, ratio: float) -> Bracket:
    """Towards ``far`` by ``ratio`` while it holds, else towards ``back`` until it does."""
    sign = 1 if ratio > 1 else -1
    good: float | None = None
    bad: float | None = None
    held = await holds(start)
    if held is None:
        return Bracket(None, None)
    if held:
        good = start
        while bad is None and sign * (far - good) > 1e-9:
            tried = sign * min(sign * far, sign * good * ratio)
            held = await holds(tried)
            if held is None:
                break
            good, bad = (tried, None) if held else (good, tried)
        if bad is None:
            return Bracket(good, None)
    else:
        tried = start
        while good is None:
            bad, tried = tried, tried / ratio
            held = await holds(tried) if sign * (back - tried) <= 1e-9 else None
            if held is None:
                return Bracket(None, bad)
            good = tried if held else None
    assert bad is not None
    middle = (good + bad) / 2
    held = await holds(middle)
    if held is None:
        return Bracket(good, bad)
    return Bracket(middle, bad) if held else Bracket(good, middle)


def tolerance_mm(full_step_mm: float, spread_mm: float) -> float:
    """By how much an axis may be off after a pattern without having lost a step, mm."""
    return max(STEPS_LOST * full_step_mm, SPREADS * spread_mm)


def tidy(value: float, down: bool) -> float:
    """A value to two digits, rounded away from the limit."""
    unit = 10.0 ** (math.floor(math.log10(value)) - 1)
    count = math.floor(value / unit + 1e-9) if down else math.ceil(value / unit - 1e-9)
    return float(f"{count * unit:.6g}")
