"""Candidate gains for a heater: calm, balanced and quick, each with its predicted step."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

from ublet.core.heat.demands import HOTEND, Demands
from ublet.core.heat.margins import carries
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import Gains
from ublet.core.heat.prediction import PredictedStep, Situation, predict_step
from ublet.core.heat.relay import Ultimate
from ublet.core.heat.rules import simc, tyreus_luyben, ziegler_nichols

AS_FOUND = "as found"
"""Name of the gains that the board had before the trial."""


@dataclass(frozen=True)
class Candidate:
    """Gains with where they come from and what they are predicted to do."""

    name: str
    note: str
    gains: Gains
    step: PredictedStep


def candidates(
    model: HeaterModel, point: Ultimate, on_board: Gains | None, situation: Situation, demands: Demands = HOTEND
) -> dict[str, Candidate]:
    """The gains as found (None: not known) and three new sets, all predicted in the same situation.

    calm by Tyreus & Luyben and quick by Ziegler & Nichols from the relay's ultimate point, balanced by
    SIMC from the model, around the closed-loop time equal to the dead time (Skogestad's tight setting). A set that the
    plant does not carry (:mod:`ublet.core.heat.margins`) is not among them.
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


def _balanced(model: HeaterModel, situation: Situation, demands: Demands) -> Gains:
    """The SIMC gains, among a few around the rule's, whose predicted step settles first within half the limits."""
    tried = []
    for pace in PACES:
        rule = simc(replace(model, time_constant_s=model.at_first_s, quick_share=0.0), pace * model.dead_time_s)
        for integral in INTEGRALS:
            gains = replace(rule, ki=rule.ki * integral).rounded()
            measure = predict_step(model, gains, situation).measure
            over = max(0.0, measure.overshoot_c - demands.overshoot_c / 2)
            tried.append((over, measure.settle_s if measure.settle_s is not None else math.inf, gains))
    return min(tried, key=lambda each: each[:2])[2]


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
