"""Whether a plant carries a set of gains: how far the loop is from oscillating by itself."""

from __future__ import annotations

import math

import numpy as np

from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import DERIVATIVE_FILTER_S, TICK_S, Gains

LEAST_MARGIN = 1.25
"""A loop whose gain may grow by less than this before it oscillates is not offered to anybody."""


def gain_margin(model: HeaterModel, gains: Gains) -> float:
    """By how much the loop's gain may grow before it oscillates; below 1 it does so already, infinite: never.

    ``1 / |L(jw)|`` at the first w where the phase of ``L = C G`` falls through -pi (Nyquist 1932; Bode 1945), for the
    board's PID with its filtered derivative ``C = kp + ki/s + kd s / (0.8 s + 1)``, and half a tick of delay for the
    duty that is held between ticks.
    """
    w = np.geomspace(1e-5, math.pi / TICK_S, 4000)
    s = 1j * w
    control = gains.kp + gains.ki / s + gains.kd * s / (DERIVATIVE_FILTER_S * s + 1)
    stores = 1 / (model.time_constant_s * s + 1)
    if model.quick_share:
        stores = (1 - model.quick_share) * stores + model.quick_share / (model.quick_s * s + 1)
    lagged = model.gain_c * stores / (model.second_lag_s * s + 1)
    loop = control * lagged
    phase = np.unwrap(np.angle(loop)) - w * (model.dead_time_s + TICK_S / 2)
    below = np.flatnonzero(phase <= -math.pi)
    if not len(below):
        return math.inf
    at = int(below[0])
    return float(1 / np.abs(loop[at]))


def carries(model: HeaterModel, gains: Gains) -> bool:
    """Whether these gains may be offered for this plant."""
    return gain_margin(model, gains) >= LEAST_MARGIN
