"""How touches scatter: repeatability about a drift, outliers, what a few may claim; touches read from a table."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.small_samples import deviation_u, no_larger, student

FEW = 3
OUTLIER, OUTLIER_FEW = 4.5, 13.0
"""A touch is an outlier when its distance from the line of the others is more than ``OUTLIER (1 + (OUTLIER_FEW /
n)²)`` times their robust deviation: the median absolute deviation of few touches is often small by chance. By
simulation of normal touches that happens to less than 1 % of series of 6 or more.
"""

FROM_MAD = 1.4826
"""Deviation of a normal sample for each unit of its median absolute deviation."""

RESOLUTION_MM = 0.0005
"""Touches agree no better than the motor's steps and the line's digits let them, mm."""


@dataclass(frozen=True)
class Scatter:
    """n touches of one place, mm. deviation: about their drift, without outliers; uncertainties are standard ones.

    drift_mm: for each touch. outliers: numbers of touches from 0.
    """

    count: int
    mean_mm: float
    range_mm: float
    deviation_mm: float
    deviation_u_mm: float
    drift_mm: float
    drift_u_mm: float
    outliers: tuple[int, ...]

    @property
    def drifts(self) -> bool:
        """Whether the series moves as a whole, beyond twice what scatter explains."""
        return self.count > FEW and abs(self.drift_mm) > 2 * self.drift_u_mm


def scatter_of(heights_mm: Sequence[float] | Floats) -> Scatter:
    """Least-squares line through touches in their order, outliers left out (median absolute deviation about a robust
    line: Theil 1950, Sen 1968); deviation about it with n - 2 degrees of freedom.

    Raises:
        ValueError: fewer than three touches.
    """
    heights = np.asarray(heights_mm, dtype=np.float64)
    count = len(heights)
    if count < FEW:
        raise ValueError(f"{count} touches: at least three are needed for their repeatability")
    number = np.arange(count, dtype=np.float64)
    keep = ~_outliers(number, heights)
    x, y = number[keep], heights[keep]
    freedom = max(1, len(y) - 2)
    slope, at_zero = np.polyfit(x, y, 1) if len(y) > 2 else (0.0, float(y.mean()))
    deviation = float(np.sqrt(np.sum((y - at_zero - slope * x) ** 2) / freedom))
    spread = float(np.sqrt(np.sum((x - x.mean()) ** 2))) or 1.0
    return Scatter(
        count,
        float(y.mean()),
        float(np.ptp(y)),
        deviation,
        deviation_u(deviation, freedom),
        float(slope),
        max(deviation, RESOLUTION_MM) / spread * student(freedom),
        tuple(int(n) for n in np.flatnonzero(~keep)),
    )


@dataclass(frozen=True)
class Jump:
    """From touch ``number`` (from 0) on, the readings stand so much higher, mm."""

    number: int
    mm: float


def jump_of(heights_mm: Sequence[float] | Floats) -> Jump | None:
    """Where a series of touches jumps to another level and stays there; None: nowhere.

    The split that leaves least scatter on both sides. It counts when the step is many times its own error, and when it
    explains the series better than a steady drift does, by their likelihoods (Wilks 1938; the place of the step was
    sought, and costs more than one parameter).
    """
    heights = np.asarray(heights_mm, dtype=np.float64)
    best: Jump | None = None
    least = math.inf
    for at in range(FEW, len(heights) - FEW + 1):
        before, after = heights[:at], heights[at:]
        left = float(np.sum((before - before.mean()) ** 2) + np.sum((after - after.mean()) ** 2))
        if left < least:
            least, best = left, Jump(at, float(after.mean() - before.mean()))
    if best is None:
        return None
    freedom = max(1, len(heights) - 2)
    deviation = max(math.sqrt(least / freedom), RESOLUTION_MM)
    error = deviation * math.sqrt(1 / best.number + 1 / (len(heights) - best.number))
    number = np.arange(len(heights))
    drifting = heights - np.polyval(np.polyfit(number, heights, 1), number)
    steady = max(math.sqrt(float(np.sum(drifting**2)) / freedom), RESOLUTION_MM)
    better = 2 * len(heights) * math.log(steady / deviation)
    return best if abs(best.mm) > JUMPS * error * student(freedom) and better > BETTER else None


JUMPS, BETTER = 4.5, 6.0
"""A step counts when it is so many times its own error, and so much more likely than a drift (twice the logarithm)."""


def deviation_of(readings: Sequence[float]) -> float:
    """Sample standard deviation; 0 of a single reading."""
    return float(np.std(readings, ddof=1)) if len(readings) > 1 else 0.0


def scatter_beyond(known: float, deviation: float, count: int) -> float:
    """The deviation to reckon with for n readings: what is known to scatter; more where they clearly scatter more, and
    then widened for how few they are.
    """
    if count < 2 or deviation <= BEYOND * known:
        return known
    return deviation * student(count - 1)


BEYOND = 1.6
"""Ratio to the known scatter from which the machine takes part in it."""


def pooled_u_mm(series: Sequence[Sequence[float]]) -> float:
    """Standard uncertainty of one touch, mm, from several short series: their pooled deviation, widened for how few
    there are.
    """
    freedom = sum(len(one_series) - 1 for one_series in series)
    if freedom < 1:
        return SINGLE_MM
    squares = sum(
        float(np.sum((np.asarray(one_series) - np.mean(one_series)) ** 2))
        for one_series in series
        if len(one_series) > 1
    )
    return max(RESOLUTION_MM, math.sqrt(squares / freedom)) * student(freedom)


PLACE_MM = {"pin": 0.006, "inductive": 0.015, "coil": 0.008}
"""By how much a probe reads wrong from place to place, by its kind, standard, mm: a pin leans where the bed does, and
what senses metal reads the metal and not the sheet. No repeating at a place shows it.
"""


def height_u_mm(series: Sequence[Sequence[float]], samples: int, kind: str) -> float:
    """Standard uncertainty of a height that is the mean of so many touches, against that of another place, mm."""
    return math.hypot(pooled_u_mm(series) / math.sqrt(samples), PLACE_MM.get(kind, max(PLACE_MM.values())))


def range_of_noisy(left_mm: Sequence[float] | Floats, u_mm: float, freedom: int) -> tuple[float, float]:
    """The range of n values without what noise adds to it, and its standard uncertainty, mm.

    Values are drawn towards zero by the part of their mean square that noise explains (James & Stein 1961, positive
    part); the range of n normal values of deviation u is ``3.3 u`` for 12, ``4.5 u`` for 49 (Tippett 1925).
    """
    residuals = np.asarray(left_mm, dtype=np.float64)
    count = len(residuals)
    if count < 2 or freedom < 1:
        return float(np.ptp(residuals)) if count else 0.0, math.sqrt(2) * u_mm
    noise = u_mm**2 * freedom
    square = float(residuals @ residuals)
    kept = max(0.0, 1 - noise / square) if square > 0 else 0.0
    value = float(np.ptp(residuals)) * math.sqrt(kept)
    u = math.sqrt(2) * u_mm * max(math.sqrt(kept), math.sqrt(freedom / count))
    return value, u if kept > HALF_SIGNAL else max(u, value / 2, float(np.ptp(residuals)) / 2 * math.sqrt(1 - kept))


HALF_SIGNAL = 0.5

FEWEST_WITH_OUTLIERS = 6

SLOPES_OF = 400
"""The robust line goes through so many of the touches at the most."""

SINGLE_MM = 0.01
"""What is claimed of a single touch where nothing shows how they scatter, mm."""


def _outliers(number: Floats, heights: Floats) -> np.ndarray:
    """Which touches belong to none of the others (n truth values)."""
    count = len(heights)
    if count < FEWEST_WITH_OUTLIERS:
        return np.zeros(count, dtype=np.bool_)
    some = np.unique(np.linspace(0, count - 1, min(count, SLOPES_OF)).astype(int))  # all pairs of many are too many
    one, two = np.triu_indices(len(some), 1)
    slope = float(np.median((heights[some[two]] - heights[some[one]]) / (number[some[two]] - number[some[one]])))
    left = heights - slope * number
    left = left - np.median(left)
    width = max(FROM_MAD * float(np.median(np.abs(left))), RESOLUTION_MM)
    return np.abs(left) > OUTLIER * (1 + (OUTLIER_FEW / count) ** 2) * width


@dataclass(frozen=True)
class AtSpeed:
    """Touches at one speed."""

    speed_mm_s: float
    scatter: Scatter


@dataclass(frozen=True)
class Touches:
    """All touches by themselves, or speed by speed (slowest first), and the fastest that is good enough."""

    heights_mm: Floats
    whole: Scatter | None
    speeds: tuple[AtSpeed, ...]
    recommended_mm_s: float | None
    why: str


def not_worse(reference: Scatter, other: Scatter) -> bool:
    """Whether touches scatter no more than the reference, as far as can be decided."""
    freedoms = (reference.count - 2 - len(reference.outliers), other.count - 2 - len(other.outliers))
    return no_larger(reference.deviation_mm, other.deviation_mm, freedoms)


def analyse_touches(heights_mm: Floats, speeds_mm_s: Floats | None) -> Touches:
    """Deviation about the drift line without outliers; with speeds each by itself, and the fastest that is not
    significantly worse than the slowest.

    Raises:
        ValueError: fewer than three touches, at one speed or in all; a speed that is none.
    """
    if speeds_mm_s is None:
        return Touches(heights_mm, scatter_of(heights_mm), (), None, "")
    if np.any(speeds_mm_s <= 0):
        raise ValueError("a speed is not above 0")
    groups = []
    for speed in np.unique(speeds_mm_s):
        mine = heights_mm[speeds_mm_s == speed]
        if len(mine) < FEW:
            raise ValueError(
                f"{len(mine)} touches at {speed:g} mm/s: at least three are needed for their repeatability"
            )
        groups.append(AtSpeed(float(speed), scatter_of(mine)))
    reference = groups[0]
    good = [group for group in groups if not_worse(reference.scatter, group.scatter)]
    best = max(good, key=lambda choice: choice.speed_mm_s)
    why = (
        f"{best.speed_mm_s:g} mm/s scatters by {1000 * best.scatter.deviation_mm:.1f} µm, the slowest by "
        f"{1000 * reference.scatter.deviation_mm:.1f}: no significant difference"
    )
    return Touches(heights_mm, None, tuple(groups), best.speed_mm_s, why)
