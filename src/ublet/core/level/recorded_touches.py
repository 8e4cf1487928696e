"""Touches from a table: how they scatter, whether they drift, which speed is good enough."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ublet.core.level.scatter import FEW, Scatter, scatter_of
from ublet.core.level.surface import Floats

SURE = 2.0
"""A speed is worse when its deviation is larger by more than so many standard uncertainties of the difference."""


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
    """Whether touches scatter no more than the reference, as far as can be told: by the ratio of their variances, whose
    logarithm has the standard error ``sqrt(2/f1 + 2/f2)`` for f degrees of freedom (Bartlett & Kendall 1946).
    """
    one, two = max(reference.deviation_mm, 1e-9), max(other.deviation_mm, 1e-9)
    freedoms = (max(1, each.count - 2 - len(each.outliers)) for each in (reference, other))
    error = math.sqrt(sum(2 / freedom for freedom in freedoms))
    return 2 * math.log(two / one) <= SURE * error


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
    found = []
    for speed in np.unique(speeds_mm_s):
        mine = heights_mm[speeds_mm_s == speed]
        if len(mine) < FEW:
            raise ValueError(f"{len(mine)} touches at {speed:g} mm/s: three are the fewest that tell how they scatter")
        found.append(AtSpeed(float(speed), scatter_of(mine)))
    reference = found[0]
    good = [each for each in found if not_worse(reference.scatter, each.scatter)]
    best = max(good, key=lambda each: each.speed_mm_s)
    why = (
        f"{best.speed_mm_s:g} mm/s scatters by {1000 * best.scatter.deviation_mm:.1f} µm, the slowest by "
        f"{1000 * reference.scatter.deviation_mm:.1f}: no difference that these touches could tell"
    )
    return Touches(heights_mm, None, tuple(found), best.speed_mm_s, why)
