"""Where a rising function crosses zero."""

from __future__ import annotations

from collections.abc import Callable

MOST = 200
"""Looks at the function at the most; ten are common."""

SLOW = 3
"""After so many looks that have not halved where it may lie, it is halved."""


def rising_root(of: Callable[[float], float], low: float, high: float, within: float = 1e-12) -> float:
    """Where a continuous rising function crosses zero; the end nearer to that where it does not between these.

    By the Illinois algorithm (Dowell and Jarratt 1971): the chord's zero replaces the end on its side, and an end that
    stays twice in a row counts half; it is halved where that is slow. within: of the root, as a share of the ends'
    distance. Halving alone needs three times as many looks, and the simulated board looks at every tick.
    """
    below, above = of(low), of(high)
    if below >= 0:
        return low
    if above <= 0:
        return high
    close = within * (high - low)
    stayed, looks, wide = 0, 0, high - low
    for _ in range(MOST):
        if high - low <= 2 * close:
            break
        looks += 1
        if looks > SLOW and high - low > wide / 2:
            middle, looks, stayed = (low + high) / 2, 0, 0
        else:
            chord = low - below * (high - low) / (above - below)
            middle = min(max(chord, low + close), high - close)
        if high - low <= wide / 2:
            looks, wide = 0, high - low
        value = of(middle)
        if value == 0:
            return middle
        if value < 0:
            low, below = middle, value
            above, stayed = (above / 2 if stayed < 0 else above), -1
        else:
            high, above = middle, value
            below, stayed = (below / 2 if stayed > 0 else below), 1
    return (low + high) / 2
