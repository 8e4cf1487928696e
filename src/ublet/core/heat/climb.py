"""Where a climb at full power levels off, told from its beginning."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ublet.core.least_squares import Floats

PIECES = 12
"""The climb after its steepest moment is cut into so many pieces; each gives a slope at a temperature."""

SURE = 3.0
"""Standard uncertainties that make it sure."""

SHORTEST_RISE_C = 12.0
LONGEST_REACH = 4.0
"""The end is not told from less than a quarter of the way to it."""


@dataclass(frozen=True)
class Top:
    """The temperature that a climb levels off at, with its standard uncertainty, °C."""

    celsius: float
    uncertainty_c: float

    def sure_below(self, celsius: float) -> bool:
        """Whether it surely stays below a temperature."""
        return self.celsius + SURE * self.uncertainty_c < celsius


def levels_off(time_s: Floats, celsius: Floats) -> Top | None:
    """The end of a climb at constant power: n samples of time (s) and temperature (°C) from its start.

    After the lags a first-order plant follows ``dT/dt = (T_end - T) / tau``: slopes of pieces of the climb against
    their mean temperatures lie on a line that reaches zero at T_end (linear regression; its uncertainty by the delta
    method). Losses that grow with temperature only bring the true end lower. None while the record does not tell.
    """
    if len(time_s) < 20 * PIECES:
        return None
    edges = np.linspace(0, len(time_s), 2 * PIECES + 1).astype(int)
    slopes, temperatures = [], []
    for first, last in pairwise(edges):
        t, y = time_s[first:last], celsius[first:last]
        slopes.append(float(np.polyfit(t - t[0], y, 1)[0]))
        temperatures.append(float(y.mean()))
    steepest = int(np.argmax(slopes))
    after = slice(steepest + 1, None)
    slope, mean = np.array(slopes[after]), np.array(temperatures[after])
    if len(slope) < 5 or mean[-1] - mean[0] < SHORTEST_RISE_C:
        return None
    (rate, offset), covariance = np.polyfit(mean, slope, 1, cov=True)
    if rate >= 0:
        return None
    top = -offset / rate
    if top - celsius[0] > LONGEST_REACH * (celsius[-1] - celsius[0]):
        return None
    pull = np.array([offset / rate**2, -1 / rate])
    uncertainty = math.sqrt(max(0.0, float(pull @ covariance @ pull)))
    return Top(float(top), uncertainty)
