"""A finding over its runs: whether it creeps, or stepped once, or only scatters.

A straight line and a step at the best place are fitted by least squares; the larger share of the variance that either
explains is compared with what it explains of the same values in random orders (a permutation test): however the noise
is like, as few as :data:`INVENTED` of series that only scatter are called a trend.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ublet.core.arrays import Floats

INVENTED = 0.04
"""Fraction of series without a trend that may be called one."""

ORDERS = 1999
"""Random orders that a series is compared with."""

FEWEST, MOST = 5, 60
"""A trend is looked for in as many values at least, and in the newest of them at most."""


@dataclass(frozen=True)
class Trend:
    """What a series of values does. slope: change from one run to the next, with its standard uncertainty; step: the
    change at a step, with its own; at: the number of the first value behind the step. scatter: standard deviation about
    what was fitted. chance: how often values that only scatter look so.
    """

    kind: Literal["creeps", "stepped", "scatters"]
    count: int
    slope: float = 0.0
    slope_u: float = 0.0
    step: float = 0.0
    step_u: float = 0.0
    at: int = 0
    scatter: float = 0.0
    chance: float = 1.0


def trend(values: Sequence[float]) -> Trend | None:
    """What values do in the order of their runs, oldest first; None: there are too few to say."""
    y = np.asarray(values, dtype=np.float64)[-MOST:]
    count = len(y)
    if count < FEWEST:
        return None
    centred = y - y.mean()
    if not float(np.max(np.abs(centred))) > 1e-12 * max(1.0, float(np.max(np.abs(y)))):
        return Trend("scatters", count)
    line, steps = _explained(centred[None, :])
    best = max(float(line[0]), float(steps[0].max()))
    random = np.random.default_rng(count)
    shuffled = random.permuted(np.tile(centred, (ORDERS, 1)), axis=1)
    lines, all_steps = _explained(shuffled)
    chance = (1 + int(np.sum(np.maximum(lines, all_steps.max(axis=1)) >= best * (1 - 1e-12)))) / (ORDERS + 1)
    if chance > INVENTED:
        return Trend("scatters", count, scatter=float(np.std(y, ddof=1)), chance=chance)
    at = int(np.argmax(steps[0])) + 1
    if _penalty(1 - float(steps[0].max()), count, 3) < _penalty(1 - float(line[0]), count, 2):
        before, after = y[:at], y[at:]
        scatter = math.sqrt((np.sum((before - before.mean()) ** 2) + np.sum((after - after.mean()) ** 2)) / (count - 2))
        step_u = scatter * math.sqrt(1 / at + 1 / (count - at))
        step = float(after.mean() - before.mean())
        return Trend("stepped", count, step=step, step_u=step_u, at=at, scatter=scatter, chance=chance)
    x = np.arange(count) - (count - 1) / 2
    spread = float(x @ x)
    slope = float(x @ centred) / spread
    scatter = math.sqrt(float(np.sum((centred - slope * x) ** 2)) / (count - 2))
    return Trend("creeps", count, slope=slope, slope_u=scatter / math.sqrt(spread), scatter=scatter, chance=chance)


def _explained(rows: Floats) -> tuple[Floats, Floats]:
    """The fraction of the variance of k centred rows of n values that a line explains (k), and a step before each value
    but the first (k x n-1).
    """
    count = rows.shape[1]
    whole = np.sum(rows**2, axis=1)
    x = np.arange(count) - (count - 1) / 2
    line = (rows @ x) ** 2 / float(x @ x) / whole
    before = np.arange(1, count)
    sums = np.cumsum(rows, axis=1)[:, :-1]
    steps = sums**2 * (1 / before + 1 / (count - before)) / whole[:, None]
    return line, steps


def _penalty(left: float, count: int, parameters: int) -> float:
    """The Bayesian information criterion of a fit that leaves a fraction of the variance."""
    return count * math.log(max(left, 1e-12)) + parameters * math.log(count)
