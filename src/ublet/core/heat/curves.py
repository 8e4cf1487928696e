"""Curves of temperature sensors in a divider with a pull-up: beta, Steinhart-Hart, platinum."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

ZERO_C = 273.15
"""Kelvin at 0 °C."""

OPEN_RATIO = 0.995
SHORT_RATIO = 0.004
"""Beyond these shares of the ADC's full scale a sensor reads open or shorted."""

GENERIC: Mapping[str, tuple[float, float]] = {
    "ntc-100k-3950": (100_000.0, 3950.0),
    "ntc-100k-4092": (100_000.0, 4092.0),
    "ntc-100k-4267": (100_000.0, 4267.0),
    "ntc-100k-4725": (100_000.0, 4725.0),
    "ntc-10k-3435": (10_000.0, 3435.0),
}
"""Generic curves by name: resistance at 25 °C in ohm and beta in kelvin, as stamped on parts of many makers."""

IEC_A, IEC_B = 3.9083e-3, -5.775e-7
"""Coefficients of platinum above 0 °C (Callendar-Van Dusen, IEC 60751), per °C and per °C²."""


class SensorCurve(Protocol):
    """A sensor under a pull-up, read as a ratio 0..1 of the ADC's full scale."""

    def ratio(self, celsius: float) -> float:
        """Divider ratio at a temperature in °C."""

    def celsius(self, ratio: float) -> float:
        """Temperature in °C for a divider ratio; ValueError at a rail."""


def divider_ohm(ratio: float, pullup_ohm: float) -> float:
    """Resistance below a pull-up, ohm: ``R = pullup * v / (1 - v)`` for the ratio v.

    Raises:
        ValueError: the ratio is not strictly between 0 and 1 (a short or an open circuit).
    """
    if not 0 < ratio < 1:
        raise ValueError(f"divider ratio {ratio:g} is at a rail: the sensor is shorted or open")
    return pullup_ohm * ratio / (1 - ratio)


@dataclass(frozen=True)
class Thermistor:
    """An NTC thermistor to ground under a pull-up, by the beta model.

    Args:
        r25_ohm: resistance at 25 °C, ohm.
        beta_k: beta of the curve, kelvin.
        pullup_ohm: the divider's upper resistor, ohm.

    The beta model is ``1/T = 1/T25 + ln(R/R25)/B`` in kelvin (the first-order form of Steinhart and Hart, 1968).
    """

    r25_ohm: float
    beta_k: float
    pullup_ohm: float

    def resistance(self, celsius: float) -> float:
        """Resistance in ohm at a temperature in °C."""
        kelvin = celsius + ZERO_C
        return self.r25_ohm * math.exp(self.beta_k * (1 / kelvin - 1 / (25 + ZERO_C)))

    def ratio(self, celsius: float) -> float:
        """Divider ratio 0..1 at a temperature in °C."""
        resistance = self.resistance(celsius)
        return resistance / (resistance + self.pullup_ohm)

    def celsius(self, ratio: float) -> float:
        """Temperature in °C for a divider ratio.

        Raises:
            ValueError: the ratio is at a rail.
        """
        resistance = divider_ohm(ratio, self.pullup_ohm)
        inverse = 1 / (25 + ZERO_C) + math.log(resistance / self.r25_ohm) / self.beta_k
        return 1 / inverse - ZERO_C

    def resolution(self, celsius: float, full_scale_counts: int) -> float:
        """Degrees per ADC count at a temperature, °C (positive): ``dT/dv / counts``."""
        ratio = self.ratio(celsius)
        slope = ratio * (1 - ratio) * self.beta_k / (celsius + ZERO_C) ** 2
        return 1 / (slope * full_scale_counts)


BETAS_K = (1200.0, 9000.0)
"""The local beta of any thermistor lies within these, K."""


def _must_be_physical(cold_c: float, warm_c: float, cold_ohm: float, warm_ohm: float) -> None:
    """Raises ValueError when no thermistor goes from one point to the next; the message names both."""
    where = f"from {cold_c:g} °C ({cold_ohm:g} Ω) to {warm_c:g} °C ({warm_ohm:g} Ω)"
    if warm_ohm >= cold_ohm:
        raise ValueError(f"the resistance must fall from each point to the next warmer one; {where} it does not")
    beta = math.log(cold_ohm / warm_ohm) / (1 / (cold_c + ZERO_C) - 1 / (warm_c + ZERO_C))
    if not BETAS_K[0] <= beta <= BETAS_K[1]:
        raise ValueError(
            f"{where} the resistance falls as no thermistor's does (beta {beta:.0f} K, {BETAS_K[0]:g} to "
            f"{BETAS_K[1]:g} are possible): is one of them misread?"
        )


@dataclass(frozen=True)
class SteinhartHart:
    """A thermistor by ``1/T = a + b ln R + c (ln R)^3`` in kelvin (Steinhart and Hart, 1968)."""

    a: float
    b: float
    c: float
    pullup_ohm: float

    @classmethod
    def through(cls, points: Sequence[tuple[float, float]], pullup_ohm: float) -> SteinhartHart:
        """The curve through (celsius, ohm) points: exactly for three, by least squares for more.

        Raises:
            ValueError: fewer than three different temperatures or resistances, or resistance does not fall with heat.
        """
        import numpy as np  # here: checking a machine file must not wait for it

        celsius, ohm = (np.array(column, dtype=np.float64) for column in zip(*points, strict=True))
        if len(set(celsius.tolist())) < 3 or len(set(ohm.tolist())) < 3:
            raise ValueError("a curve of its own needs three points of different temperature and resistance")
        order = np.argsort(celsius)
        celsius, ohm = celsius[order], ohm[order]
        for cold, warm, high, low in zip(celsius, celsius[1:], ohm, ohm[1:], strict=False):
            _must_be_physical(float(cold), float(warm), float(high), float(low))
        logs = np.log(ohm)
        terms = np.stack([np.ones_like(logs), logs, logs**3], axis=1)
        a, b, c = np.linalg.lstsq(terms, 1 / (celsius + ZERO_C), rcond=None)[0].tolist()
        curve = cls(a, b, c, pullup_ohm)
        for log in np.linspace(logs[0] + 1.0, logs[-1] - 1.0, 60).tolist():
            slope = b + 3 * c * log**2
            if not 1 / BETAS_K[1] < slope < 1 / BETAS_K[0]:
                near = int(np.argmin(np.abs(logs - log)))
                raise ValueError(
                    f"the curve through the points bends as no thermistor's does near {celsius[near]:g} °C: is one of "
                    "them misread?"
                )
        return curve

    def celsius(self, ratio: float) -> float:
        """Temperature in °C for a divider ratio; ValueError at a rail or far outside the points."""
        log = math.log(divider_ohm(ratio, self.pullup_ohm))
        inverse = self.a + self.b * log + self.c * log**3
        if not inverse > 0:
            raise ValueError("the reading lies outside the curve")
        return 1 / inverse - ZERO_C

    def ratio(self, celsius: float) -> float:
        """Divider ratio at a temperature in °C, by Newton's method on ln R."""
        wanted, log = 1 / (celsius + ZERO_C), math.log(1e4)
        for _ in range(60):
            change = (self.a + self.b * log + self.c * log**3 - wanted) / (self.b + 3 * self.c * log**2)
            log -= change
            if abs(change) < 1e-12:
                break
        ohm = math.exp(log)
        return ohm / (ohm + self.pullup_ohm)


@dataclass(frozen=True)
class Platinum:
    """A platinum sensor: ``R = R0 (1 + A t + B t^2)`` for t in °C (Callendar-Van Dusen, IEC 60751; above 0 °C)."""

    r0_ohm: float
    pullup_ohm: float

    def resistance(self, celsius: float) -> float:
        """Resistance in ohm at a temperature in °C."""
        return self.r0_ohm * (1 + IEC_A * celsius + IEC_B * celsius**2)

    def ratio(self, celsius: float) -> float:
        """Divider ratio at a temperature in °C."""
        resistance = self.resistance(celsius)
        return resistance / (resistance + self.pullup_ohm)

    def celsius(self, ratio: float) -> float:
        """Temperature in °C for a divider ratio; ValueError at a rail or beyond the curve."""
        fraction = divider_ohm(ratio, self.pullup_ohm) / self.r0_ohm
        inner = IEC_A**2 - 4 * IEC_B * (1 - fraction)
        if inner < 0:
            raise ValueError("the reading lies outside the curve")
        return (-IEC_A + math.sqrt(inner)) / (2 * IEC_B)


def curve_of(values: Mapping[str, object]) -> SensorCurve:
    """The curve that a sensor's settings give: ``kind`` and its keys, points as ``points.NAME.celsius`` and ``.ohm``.

    Raises:
        ValueError: what the kind needs is missing, or the points make no curve.
    """

    def number(key: str) -> float:
        value = values.get(key)
        if not isinstance(value, (int, float)):
            raise ValueError(f"{key} is missing")
        return float(value)

    kind, pullup = values.get("kind", "beta"), number("pullup_ohm")
    if kind == "steinhart":
        a, b, c = (number(f"steinhart_{term}") for term in "abc")
        if not b > 0:
            raise ValueError("steinhart_b must be above 0")
        return SteinhartHart(a, b, c, pullup)
    if kind == "curve" and values.get("curve") in GENERIC:
        return Thermistor(*GENERIC[str(values["curve"])], pullup)
    if kind == "platinum":
        return Platinum(number("r0_ohm"), pullup)
    if kind == "points":
        names = sorted({key.split(".")[1] for key in values if key.startswith("points.")})
        points = [(number(f"points.{name}.celsius"), number(f"points.{name}.ohm")) for name in names]
        if len(points) < 3:
            raise ValueError("a curve of its own needs three points")
        return SteinhartHart.through(points, pullup)
    return Thermistor(number("r25_ohm"), number("beta_k"), pullup)
