"""Choosing between curves through the same readings: by what they may be off where the sensor is used, not by scatter
alone, and never the one that would let a block run hotter than it shows.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.heat.curve_fit import CurveFit
from ublet.core.heat.curves import ZERO_C

BETA_DRIFT = 3e-4
"""A thermistor's local beta changes by about this share of it per °C (tables of B25/50 beside B25/85 and B25/100)."""

FAR_C = 40.0
"""A working point so far beyond the warmest reading wants a reference of its own, °C."""


@dataclass(frozen=True)
class Judged:
    """A curve at the working point: how far it may be off, and by how much it reads above the other curve there (None:
    there is no other), °C; differs: by more than either claims.
    """

    fit: CurveFit
    uncertainty_c: float
    above_other_c: float | None = None
    differs: bool = False


def claimed_c(fit: CurveFit, celsius: float, pullup_ohm: float) -> float:
    """What a curve by itself claims at a temperature: the scatter of its references and, for a beta curve beyond them,
    the drift of beta, ``T² |1/T - 1/T_last| BETA_DRIFT (T - T_first) / 2`` (kelvin).
    """
    low, high = fit.span_c
    if fit.kind != "beta" or low <= celsius <= high:
        return fit.uncertainty_c(celsius, pullup_ohm)
    kelvin, end = celsius + ZERO_C, (high if celsius > high else low) + ZERO_C
    far = celsius - low if celsius > high else high - celsius
    form = kelvin**2 * abs(1 / kelvin - 1 / end) * BETA_DRIFT * far / 2
    return math.hypot(fit.uncertainty_c(celsius, pullup_ohm), form)


def judged(fits: Sequence[CurveFit], hot_c: float, pullup_ohm: float) -> tuple[Judged, ...]:
    """Every curve at the working point. Where two differ by more than they claim, that is the uncertainty."""
    claims = [claimed_c(fit, hot_c, pullup_ohm) for fit in fits]
    if len(fits) != 2:
        return tuple(Judged(fit, claim) for fit, claim in zip(fits, claims, strict=True))
    found = []
    for fit, other, claim in ((fits[0], fits[1], claims[0]), (fits[1], fits[0], claims[1])):
        try:
            above = fit.curve.celsius(other.curve.ratio(hot_c)) - hot_c
        except (ValueError, OverflowError):
            above = math.inf  # the other curve has no such temperature: it cannot be used there
        differs = abs(above) > max(claims)
        found.append(Judged(fit, max(claim, abs(above)) if differs and math.isfinite(above) else claim, above, differs))
    return tuple(found)


def recommended(choices: Sequence[Judged]) -> Judged | None:
    """The surest of those that the readings do not contradict; where two differ, the one that reads higher, since with
    that one the block is not hotter than it shows. None: there is no curve.
    """
    good = [each for each in choices if each.fit.fits] or list(choices)
    if any(each.differs for each in good):
        return max(good, key=lambda each: each.above_other_c or 0.0)
    return min(good, key=lambda each: each.uncertainty_c, default=None)
