"""Candidate gains for a heater: calm, balanced and quick, each with its predicted step."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import Gains
from ublet.core.heat.prediction import PredictedStep, Situation, predict_step
from ublet.core.heat.relay import Ultimate
from ublet.core.heat.rules import simc, tyreus_luyben, ziegler_nichols

AS_FOUND = "as found"
"""Name of the gains that the board had before the trial."""

OVERSHOOT_LIMIT_C = 2.0
RIPPLE_LIMIT_C = 0.5
FAN_HOLD_S = 60.0
"""How long the step is held before the fan starts, and how long the fan then runs, s."""


@dataclass(frozen=True)
class Candidate:
    """Gains with where they come from and what they are predicted to do."""

    name: str
    note: str
    gains: Gains
    step: PredictedStep


def candidates(model: HeaterModel, point: Ultimate, on_board: Gains, situation: Situation) -> dict[str, Candidate]:
    """The gains as found and three new sets, all predicted in the same situation.

    calm by Tyreus & Luyben and quick by Ziegler & Nichols from the relay's ultimate point, balanced by
    SIMC from the model with the closed-loop time equal to the dead time (Skogestad's tight setting).
    """
    sets = {
        AS_FOUND: ("before the trial", on_board),
        "calm": ("Tyreus-Luyben", tyreus_luyben(point.gain, point.period_s)),
        "balanced": ("SIMC", simc(model, model.dead_time_s)),
        "quick": ("Ziegler-Nichols", ziegler_nichols(point.gain, point.period_s)),
    }
    made = {}
    for name, (note, gains) in sets.items():
        tidy = gains if name == AS_FOUND else gains.rounded()
        made[name] = Candidate(name, note, tidy, predict_step(model, tidy, situation))
    return made


def recommend(made: Mapping[str, Candidate]) -> tuple[str, str]:
    """The candidate to take, and why: the quickest of those with small overshoot and ripple."""
    fresh = {name: c for name, c in made.items() if name != AS_FOUND}
    good = {
        name: c
        for name, c in fresh.items()
        if c.step.measure.overshoot_c < OVERSHOOT_LIMIT_C
        and c.step.measure.ripple_c < RIPPLE_LIMIT_C
        and c.step.measure.settle_s is not None
    }
    if not good:
        name = min(fresh, key=lambda n: fresh[n].step.measure.overshoot_c)
        return name, "none stays under 2 °C of overshoot and ±0.5 °C of ripple; this one overshoots least"
    name = min(good, key=lambda n: good[n].step.measure.settle_s or 0.0)
    now = made[AS_FOUND].step.measure
    best = good[name].step.measure
    if (
        now.settle_s is not None
        and now.overshoot_c < OVERSHOOT_LIMIT_C
        and now.ripple_c < RIPPLE_LIMIT_C
        and now.settle_s <= (best.settle_s or 0.0) * 1.03
    ):
        return AS_FOUND, "leave it: these gains do as well, within the error of the prediction"
    return name, "quickest with overshoot under 2 °C"
