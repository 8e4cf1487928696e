"""Pressure advance from what an eye picks and what widths show: value, uncertainty, whether finer is worth it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.observations import WidthPlace
from ublet.core.small_samples import student

EYE_LINES = 1.0
"""An eye may be off by so many lines at each side of what looks even, at most."""

MODEL_FRACTION = 0.03
"""A melt follows the pressure by no single time constant: what is even at one speed is off by this share at another,
standard.
"""

SLOWING_FRACTION = 0.06
"""Widths of the slow stretches alone, before and after, are alike at a value that is off by this share, standard."""

TOWER_FRACTION = 0.06
"""Corners of a tower fade unevenly to both sides of the right value: what looks even there is off by this share."""

WORTH_FRACTION, WORTH_S = 0.04, 0.0025
"""A finer bracket is worth it while the uncertainty is more than this share, and more than this, s."""

FINER_LINES, FINER_FRACTION = 12, 0.2
"""Number of steps of a finer bracket, and the least share of the value that it reaches to both sides: over a narrower
one widths hardly change, and callipers do not show where they are even.
"""


@dataclass(frozen=True)
class AdvanceEstimate:
    """A pressure advance with its standard uncertainty, s. at_end: -1, 1 where it lies at the first or last line;
    spans: all lines look even, from the first to the last.
    """

    advance_s: float
    uncertainty_s: float
    at_end: int = 0
    spans: bool = False

    @property
    def worth_finer(self) -> bool:
        """Whether a finer bracket would narrow it."""
        return self.uncertainty_s > max(WORTH_S, WORTH_FRACTION * self.advance_s)


def from_pick(
    values_s: Sequence[float], first: int, last: int, model_fraction: float = MODEL_FRACTION
) -> AdvanceEstimate:
    """The value between two lines that were picked, by their places from 0 (the same one twice: one line).

    What looks even is centred on the right value; the value is taken to lie within the range equally likely.
    model_fraction: standard error of an even look itself, as a share of the value.
    """
    low, high = sorted((first, last))
    step = values_s[1] - values_s[0]
    middle = (values_s[low] + values_s[high]) / 2
    half = (values_s[high] - values_s[low]) / 4 + EYE_LINES * step
    first_one, last_one = low == 0, high == len(values_s) - 1
    spans = first_one and last_one
    at_end = 0 if spans else -1 if first_one else 1 if last_one else 0
    return AdvanceEstimate(middle, math.hypot(half / math.sqrt(3), model_fraction * middle), at_end, spans)


def together(picks: Sequence[AdvanceEstimate]) -> AdvanceEstimate:
    """What several looks at the same print make together: their mean; what they differ by counts."""
    values, errors = np.array([pick.advance_s for pick in picks]), np.array([pick.uncertainty_s for pick in picks])
    mean = float(values.mean())
    scatter = float(values.std(ddof=1)) / math.sqrt(len(picks)) if len(picks) > 1 else 0.0
    uncertainty = max(float(np.sqrt((errors**2).mean() / len(picks))), scatter, MODEL_FRACTION * mean)
    ends = {pick.at_end for pick in picks}
    return AdvanceEstimate(mean, uncertainty, ends.pop() if len(ends) == 1 else 0, all(pick.spans for pick in picks))


def uneven_mm(widths_mm: Sequence[float], places: Sequence[WidthPlace]) -> float:
    """How uneven a line is: the standard deviation of its widths at places, mm."""
    widths, weights = np.array(widths_mm), _weights(places)
    return math.sqrt(float(weights @ (widths - weights @ widths) ** 2))


def _weights(places: Sequence[WidthPlace]) -> NDArray[np.float64]:
    whole = sum(place.counts_mm for place in places)
    return np.array([place.counts_mm / whole for place in places])


class NoZero(Exception):
    """The widths show no zero: the message says why."""


def from_widths(
    values_s: Sequence[float],
    differences_mm: Sequence[float],
    reading_u_mm: float,
    model_fraction: float = MODEL_FRACTION,
) -> AdvanceEstimate:
    """The zero of a straight line through n width differences (after slowing down less before) over their values.

    model_fraction: standard error of widths that are alike, as a share of the value.

    Ordinary least squares; the zero's uncertainty is that of an inverse regression,
    ``u = s / |b| sqrt(1/n + (k - mean)² / Sxx)``, s the larger of the scatter about the line and of the readings.

    Raises:
        NoZero: fewer than three readings, no slope that reading errors could not make, or a wrong sign.
    """
    values, differences = np.array(values_s), np.array(differences_mm)
    if len(values) < 3:
        raise NoZero("three lines at the least must be measured")
    mean = float(values.mean())
    spread = float(((values - mean) ** 2).sum())
    slope = float(((values - mean) * differences).sum()) / spread
    level = float(differences.mean())
    left = differences - level - slope * (values - mean)
    scatter = math.sqrt(float((left**2).sum()) / (len(values) - 2)) if len(values) > 2 else 0.0
    noise = max(scatter, reading_u_mm)
    if slope >= 0 or -slope < 2 * noise / math.sqrt(spread):
        why = "grow" if slope > 0 else "do not change by more than they are read to"
        raise NoZero(f"the widths after slowing down {why} from line to line: they contradict one another")
    zero = mean - level / slope
    factor = student(len(values) - 2) if scatter > reading_u_mm else 1.0
    error = factor * noise / abs(slope) * math.sqrt(1 / len(values) + (zero - mean) ** 2 / spread)
    at_end = -1 if zero <= values.min() else 1 if zero >= values.max() else 0
    return AdvanceEstimate(zero, math.hypot(error, model_fraction * zero), at_end)


def evenest(
    values_s: Sequence[float],
    widths_mm: Sequence[Sequence[float]],
    places: Sequence[WidthPlace],
    reading_u_mm: float,
    model_fraction: float = MODEL_FRACTION,
) -> AdvanceEstimate:
    """The value at which the widths of a line at m places differ least, from those of n lines.

    With each place's width a straight line over the value, ``w_j = a_j + b_j (k - mean)``, both less their weighted
    means over the places, the variance ``sum c_j w_j²`` is least at ``k = mean - sum(c a b) / sum(c b²)``. The
    uncertainty is that of all a and b, which do not depend on one another: from the scatter about the lines, or the
    reading's error where that is larger.

    Raises:
        NoZero: fewer than three lines; behind the second stroke their widths do not fall against those behind the
            first one, or by less than they are read to.
    """
    values, widths = np.array(values_s), np.array(widths_mm)
    count = len(values)
    if count < 3:
        raise NoZero("three lines at the least must be measured")
    weights, apart = _weights(places), values - values.mean()
    spread = float((apart**2).sum())
    slopes, levels = apart @ widths / spread, widths.mean(axis=0)
    left = widths - levels - np.outer(apart, slopes)
    free = (count - 2) * len(weights)
    noise = max(reading_u_mm, math.sqrt(float((left**2).sum()) / free))
    behind = {stroke: [at for at, of in enumerate(places) if of.stroke == stroke and of.mm > 0] for stroke in (1, 2)}
    grows = float(slopes[behind[2]].mean() - slopes[behind[1]].mean())
    slopes, levels = slopes - weights @ slopes, levels - weights @ levels
    if -grows < 2 * noise / math.sqrt(spread) * math.sqrt(sum(1 / len(at) for at in behind.values())):
        why = "grow" if grows > noise / math.sqrt(spread) else "do not change by more than they are read to"
        raise NoZero(f"the widths after slowing down {why} from line to line: they contradict one another")
    steep = float(weights @ slopes**2)
    beyond = -float(weights @ (levels * slopes)) / steep
    of_levels = weights * slopes / steep
    of_slopes = weights * (levels + 2 * beyond * slopes) / steep
    error = noise * math.sqrt(float((of_levels**2).sum()) / count + float((of_slopes**2).sum()) / spread)
    value = float(values.mean()) + beyond
    at_end = -1 if value <= values.min() else 1 if value >= values.max() else 0
    return AdvanceEstimate(value, math.hypot(error, model_fraction * value), at_end)


def finer_range(estimate: AdvanceEstimate) -> tuple[float, float, float]:
    """First value, last value and step of a finer bracket around an estimate, s."""
    half = max(3 * estimate.uncertainty_s, FINER_FRACTION * estimate.advance_s, 0.002)
    first = max(0.0, estimate.advance_s - half)
    step = float(f"{(estimate.advance_s + half - first) / FINER_LINES:.1g}")
    first = math.floor(first / step) * step
    return round(first, 6), round(first + FINER_LINES * step, 6), step
