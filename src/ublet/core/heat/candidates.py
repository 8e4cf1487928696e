"""Candidate gains for a heater: calm, balanced and quick by tuning rules, their stability margins, predicted steps."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from ublet.core.heat.demands import HOTEND, Demands
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import DERIVATIVE_FILTER_S, TICK_S, PidGains
from ublet.core.heat.prediction import PredictedStep, Situation, predict_step
from ublet.core.heat.relay import Ultimate


def ziegler_nichols(gain: float, period_s: float) -> PidGains:
    """Ziegler & Nichols (1942): 0.6 Ku, Ti = Tu/2, Td = Tu/8. Quick, overshoots."""
    return PidGains.standard(0.6 * gain, period_s / 2, period_s / 8)


def tyreus_luyben(gain: float, period_s: float) -> PidGains:
    """Tyreus & Luyben (1992): Ku/2.2, Ti = 2.2 Tu, Td = Tu/6.3. Calm."""
    return PidGains.standard(gain / 2.2, 2.2 * period_s, period_s / 6.3)


def simc(model: HeaterModel, closed_loop_s: float) -> PidGains:
    """SIMC PID (Skogestad 2003) for two lags and a dead time, in parallel form.

    Series form ``Kc = tau1 / (K (tc + theta))``, ``Ti = min(tau1, 4 (tc + theta))``, ``Td = tau2``,
    turned to parallel by ``f = 1 + Td/Ti``. closed_loop_s is the closed-loop time tc, s.
    """
    pace = closed_loop_s + model.dead_time_s
    proportional = model.time_constant_s / (model.gain_c * pace)
    integral = min(model.time_constant_s, 4 * pace)
    derivative = model.second_lag_s
    factor = 1 + derivative / integral
    return PidGains.standard(proportional * factor, integral * factor, derivative / factor)


LEAST_MARGIN = 1.25
"""A loop whose gain may grow by less than this before it oscillates is not offered to anybody."""


def gain_margin(model: HeaterModel, gains: PidGains) -> float:
    """By how much the loop's gain may grow before it oscillates; below 1 it does so already, infinite: never.

    ``1 / |L(jw)|`` at the first w where the phase of ``L = C G`` falls through -pi (Nyquist 1932; Bode 1945), for the
    board's PID with its filtered derivative ``C = kp + ki/s + kd s / (0.8 s + 1)``, and half a tick of delay for the
    duty that is held between ticks.
    """
    w = np.geomspace(1e-5, math.pi / TICK_S, 4000)
    s = 1j * w
    control = gains.kp + gains.ki / s + gains.kd * s / (DERIVATIVE_FILTER_S * s + 1)
    stores = 1 / (model.time_constant_s * s + 1)
    if model.quick_fraction:
        stores = (1 - model.quick_fraction) * stores + model.quick_fraction / (model.quick_s * s + 1)
    lagged = model.gain_c * stores / (model.second_lag_s * s + 1)
    loop = control * lagged
    phase = np.unwrap(np.angle(loop)) - w * (model.dead_time_s + TICK_S / 2)
    below = np.flatnonzero(phase <= -math.pi)
    if not len(below):
        return math.inf
    at = int(below[0])
    return float(1 / np.abs(loop[at]))


def carries(model: HeaterModel, gains: PidGains) -> bool:
    """Whether these gains may be offered for this plant."""
    return gain_margin(model, gains) >= LEAST_MARGIN


AS_FOUND = "as found"
"""Name of the gains that the board had before the trial."""


@dataclass(frozen=True)
class Candidate:
    """Gains with where they come from and what they are predicted to do."""

    name: str
    note: str
    gains: PidGains
    step: PredictedStep


def candidates(
    model: HeaterModel, point: Ultimate, on_board: PidGains | None, situation: Situation, demands: Demands = HOTEND
) -> dict[str, Candidate]:
    """The gains as found (None: not known) and three new sets, all predicted in the same situation.

    calm by Tyreus & Luyben and quick by Ziegler & Nichols from the relay's ultimate point, balanced by
    SIMC from the model, around the closed-loop time equal to the dead time (Skogestad's tight setting). A set that the
    plant does not carry (:mod:`ublet.core.heat.candidates`) is not among them.
    """
    sets = {
        AS_FOUND: ("before the trial", on_board),
        "calm": ("Tyreus-Luyben", tyreus_luyben(point.gain, point.period_s)),
        "balanced": ("SIMC on the model", _balanced(model, situation, demands)),
        "quick": ("Ziegler-Nichols", ziegler_nichols(point.gain, point.period_s)),
    }
    made = {}
    for name, (note, gains) in sets.items():
        if gains is None:
            continue
        tidy = gains if name == AS_FOUND else gains.rounded()
        if name != AS_FOUND and not carries(model, tidy):
            continue
        made[name] = Candidate(name, note, tidy, predict_step(model, tidy, situation))
    return made


PACES = (0.8, 1.0, 1.3, 1.8)
"""Closed-loop times to try, in dead times; 1 is Skogestad's tight setting, less gives up robustness."""

INTEGRALS = (0.6, 1.0, 1.5)
"""Integral gains to try, in those of the rule."""


def _balanced(model: HeaterModel, situation: Situation, demands: Demands) -> PidGains:
    """The SIMC gains, among a few around the rule's, whose predicted step settles first within half the limits."""
    tried = []
    for pace in PACES:
        rule = simc(replace(model, time_constant_s=model.at_first_s, quick_fraction=0.0), pace * model.dead_time_s)
        for integral in INTEGRALS:
            gains = replace(rule, ki=rule.ki * integral).rounded()
            measure = predict_step(model, gains, situation).measure
            over = max(0.0, measure.overshoot_c - demands.overshoot_c / 2)
            tried.append((over, measure.settle_s if measure.settle_s is not None else math.inf, gains))
    return min(tried, key=lambda candidate: candidate[:2])[2]


def recommend(made: Mapping[str, Candidate], demands: Demands = HOTEND) -> tuple[str, str]:
    """The candidate to take, and why: the quickest of those with small overshoot and ripple."""
    fresh = {name: c for name, c in made.items() if name != AS_FOUND}
    if not fresh:
        return AS_FOUND, "leave it: no rule gives gains that this plant carries"
    good = {
        name: c
        for name, c in fresh.items()
        if c.step.measure.overshoot_c < demands.overshoot_c
        and c.step.measure.ripple_c < demands.ripple_c
        and c.step.measure.settle_s is not None
    }
    if not good:
        name = min(fresh, key=lambda n: fresh[n].step.measure.overshoot_c)
        return name, (
            f"none stays under {demands.overshoot_c:g} °C of overshoot and {demands.ripple_c:g} °C of ripple; "
            "this one overshoots least"
        )
    name = min(good, key=lambda n: good[n].step.measure.settle_s or 0.0)
    if AS_FOUND not in made:
        return name, f"quickest with overshoot under {demands.overshoot_c:g} °C"
    now = made[AS_FOUND].step.measure
    best = good[name].step.measure
    if (
        now.settle_s is not None
        and now.overshoot_c < demands.overshoot_c
        and now.ripple_c < demands.ripple_c
        and now.settle_s <= (best.settle_s or 0.0) * 1.03
    ):
        return AS_FOUND, "leave it: these gains do as well, within the error of the prediction"
    return name, f"quickest with overshoot under {demands.overshoot_c:g} °C"
