"""A sensor's own curve through reference readings: beta or Steinhart-Hart, and how sure it is.

Of several curves through the same readings one is chosen by its error where the sensor is used, not by scatter alone,
and never one that would let a block run hotter than it shows.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.heat.curves import ZERO_C, SensorCurve, SteinhartHart, Thermistor

T25_K = 25 + ZERO_C
TERMS = {"beta": 2, "steinhart": 3}
"""Parameters of each kind: so many readings at different temperatures it needs."""

CHI_99 = (6.63, 9.21, 11.34, 13.28, 15.09, 16.81)
"""99 % points of chi² for 1, 2, ... degrees of freedom (Abramowitz & Stegun 1964, table 26.8)."""


@dataclass(frozen=True)
class CurveFit:
    """A fitted curve: its kind and settings, what is left at each reading (°C), and the covariance of its terms.

    chi2 is the sum of squared residuals in units of the reference's uncertainty, over ``spare`` degrees of freedom;
    span_c the coldest and the warmest reading.
    """

    kind: str
    settings: Mapping[str, float]
    curve: SensorCurve
    residuals_c: tuple[float, ...]
    chi2: float
    spare: int
    covariance: Floats
    span_c: tuple[float, float]

    @property
    def fits(self) -> bool:
        """Whether the residuals are no larger than the reference's uncertainty explains (chi² test, 1 %)."""
        return self.spare == 0 or self.chi2 <= CHI_99[min(self.spare, len(CHI_99)) - 1]

    def uncertainty_c(self, celsius: float, pullup_ohm: float) -> float:
        """Standard uncertainty of a reading at a temperature, from that of the references alone, °C."""
        ratio = self.curve.ratio(celsius)
        terms = _terms(np.array([math.log(pullup_ohm * ratio / (1 - ratio))]), TERMS[self.kind])[0]
        return float((celsius + ZERO_C) ** 2 * math.sqrt(max(0.0, float(terms @ self.covariance @ terms))))


def fit_curve(points: Sequence[tuple[float, float]], kind: str, error_c: float, pullup_ohm: float) -> CurveFit:
    """The curve of a kind through (celsius, ohm) points: exactly through as many as it has terms, else least squares.

    ``1/T = a + b ln R (+ c (ln R)^3)`` in kelvin, linear in its terms: for two terms the beta model with
    ``beta = 1/b`` and ``r25 = exp((1/T25 - a)/b)``, for three Steinhart & Hart (1968). error_c: standard uncertainty of
    each reference, °C; in 1/T it weighs as ``error/T²``.

    Raises:
        ValueError: too few different temperatures, or a resistance that does not fall with heat.
    """
    count = TERMS[kind]
    celsius, ohm = (np.array(column, dtype=np.float64) for column in zip(*points, strict=True))
    if len(set(np.round(celsius, 3).tolist())) < count:
        raise ValueError(f"this curve needs readings at {'two' if count == 2 else 'three'} different temperatures")
    if np.any(np.diff(ohm[np.argsort(celsius)]) > 0):
        raise ValueError("the resistance must fall from each reading to the next warmer one")
    kelvin = celsius + ZERO_C
    terms, weight = _terms(np.log(ohm), count), kelvin**2 / error_c
    solution = np.linalg.lstsq(terms * weight[:, None], weight / kelvin, rcond=None)[0]
    residuals = 1 / (terms @ solution) - kelvin
    weighted = terms * weight[:, None]
    covariance = np.asarray(np.linalg.pinv(weighted.T @ weighted, rcond=1e-20), dtype=np.float64)
    spare, chi2 = len(points) - count, float(np.sum((residuals / error_c) ** 2))
    span = (float(celsius.min()), float(celsius.max()))
    if count == 2:
        a, b = solution.tolist()
        beta = Thermistor(math.exp((1 / T25_K - a) / b), 1 / b, pullup_ohm)
        settings = {"r25_ohm": beta.r25_ohm, "beta_k": beta.beta_k}
        return CurveFit(kind, settings, beta, tuple(residuals.tolist()), chi2, spare, covariance, span)
    a, b, c = solution.tolist()
    own = SteinhartHart(a, b, c, pullup_ohm)
    settings = {"steinhart_a": own.a, "steinhart_b": own.b, "steinhart_c": own.c}
    return CurveFit(kind, settings, own, tuple(residuals.tolist()), chi2, spare, covariance, span)


def _terms(logs: Floats, count: int) -> Floats:
    return np.stack([np.ones_like(logs), logs, logs**3][:count], axis=1)


BETA_DRIFT = 3e-4
"""A thermistor's local beta changes by about this share of it per °C (tables of B25/50 beside B25/85 and B25/100)."""

FAR_C = 40.0
"""A working point so far beyond the warmest reading wants a reference of its own, °C."""


@dataclass(frozen=True)
class CurveAssessment:
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


def judged(fits: Sequence[CurveFit], hot_c: float, pullup_ohm: float) -> tuple[CurveAssessment, ...]:
    """Every curve at the working point. Where two differ by more than they claim, that is the uncertainty."""
    claims = [claimed_c(fit, hot_c, pullup_ohm) for fit in fits]
    if len(fits) != 2:
        return tuple(CurveAssessment(fit, claim) for fit, claim in zip(fits, claims, strict=True))
    assessments = []
    for fit, other, claim in ((fits[0], fits[1], claims[0]), (fits[1], fits[0], claims[1])):
        try:
            above = fit.curve.celsius(other.curve.ratio(hot_c)) - hot_c
        except (ValueError, OverflowError):
            above = math.inf  # the other curve has no such temperature: it cannot be used there
        differs = abs(above) > max(claims)
        assessments.append(
            CurveAssessment(fit, max(claim, abs(above)) if differs and math.isfinite(above) else claim, above, differs)
        )
    return tuple(assessments)


def recommended(choices: Sequence[CurveAssessment]) -> CurveAssessment | None:
    """The surest of those that the readings do not contradict; where two differ, the one that reads higher, since with
    that one the block is not hotter than it shows. None: there is no curve.
    """
    good = [choice for choice in choices if choice.fit.fits] or list(choices)
    if any(fit.differs for fit in good):
        return max(good, key=lambda assessment: assessment.above_other_c or 0.0)
    return min(good, key=lambda assessment: assessment.uncertainty_c, default=None)
