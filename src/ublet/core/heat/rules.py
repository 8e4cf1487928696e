"""Tuning rules: PID gains from an ultimate point or from a plant model."""

from __future__ import annotations

from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import Gains


def ziegler_nichols(gain: float, period_s: float) -> Gains:
    """Ziegler & Nichols (1942): 0.6 Ku, Ti = Tu/2, Td = Tu/8. Quick, overshoots."""
    return Gains.standard(0.6 * gain, period_s / 2, period_s / 8)


def tyreus_luyben(gain: float, period_s: float) -> Gains:
    """Tyreus & Luyben (1992): Ku/2.2, Ti = 2.2 Tu, Td = Tu/6.3. Calm."""
    return Gains.standard(gain / 2.2, 2.2 * period_s, period_s / 6.3)


def simc(model: HeaterModel, closed_loop_s: float) -> Gains:
    """SIMC PID (Skogestad 2003) for two lags and a dead time, in parallel form.

    Series form ``Kc = tau1 / (K (tc + theta))``, ``Ti = min(tau1, 4 (tc + theta))``, ``Td = tau2``,
    turned to parallel by ``f = 1 + Td/Ti``. closed_loop_s is the closed-loop time tc, s.
    """
    pace = closed_loop_s + model.dead_time_s
    proportional = model.time_constant_s / (model.gain_c * pace)
    integral = min(model.time_constant_s, 4 * pace)
    derivative = model.second_lag_s
    factor = 1 + derivative / integral
    return Gains.standard(proportional * factor, integral * factor, derivative / factor)
