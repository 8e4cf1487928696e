"""Thermistor curves: the beta model in a divider with a pull-up resistor."""

from __future__ import annotations

import math
from dataclasses import dataclass

ZERO_C = 273.15
"""Kelvin at 0 °C."""


@dataclass(frozen=True)
class Thermistor:
    """An NTC thermistor to ground under a pull-up, read as a ratio of the ADC's full scale.

    Args:
        r25_ohm: resistance at 25 °C, ohm.
        beta_k: beta of the curve, kelvin.
        pullup_ohm: the divider's upper resistor, ohm.

    The beta model is ``1/T = 1/T25 + ln(R/R25)/B`` in kelvin, and the divider gives
    ``R = pullup * v / (1 - v)`` for the ratio v (the first-order form of Steinhart and Hart, 1968).
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
            ValueError: the ratio is not strictly between 0 and 1 (a short or an open circuit).
        """
        if not 0 < ratio < 1:
            raise ValueError(f"divider ratio {ratio:g} is at a rail: the sensor is shorted or open")
        resistance = self.pullup_ohm * ratio / (1 - ratio)
        inverse = 1 / (25 + ZERO_C) + math.log(resistance / self.r25_ohm) / self.beta_k
        return 1 / inverse - ZERO_C

    def resolution(self, celsius: float, full_scale_counts: int) -> float:
        """Degrees per ADC count at a temperature, °C (positive): ``dT/dv / counts``."""
        ratio = self.ratio(celsius)
        slope = ratio * (1 - ratio) * self.beta_k / (celsius + ZERO_C) ** 2
        return 1 / (slope * full_scale_counts)
