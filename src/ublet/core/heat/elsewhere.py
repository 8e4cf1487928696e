"""What gains that were found at one temperature cost at those of the other materials, and where to tune at all."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.heat.demands import Demands, demands_of, material_targets
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import PidGains
from ublet.core.heat.prediction import Situation, predict_step
from ublet.core.heat.report import step_situation
from ublet.core.machine.schema import MachineFile
from ublet.core.run import Finding, TrialFailed

NEAR_C = 5.0
"""Temperatures that differ by less are the same for tuning, °C."""

WARM_C = 40.0
"""A material whose bed stays colder than this is printed without it, °C."""

MIDDLE = "the middle of the range"


def tuning_temperatures(machine: MachineFile, heater: str) -> dict[str, float]:
    """Where one may tune, °C: at each material's own temperature, or in the middle between the coldest and the hottest
    where they are apart. What the heater may not reach with the relay's swing is left out.
    """
    declared = machine.heaters.get(heater)
    most = declared.maximum_c - demands_of(machine, heater).headroom_c if declared is not None else 0.0
    own = {name: celsius for name, celsius in material_targets(machine, heater).items() if WARM_C <= celsius <= most}
    if own and max(own.values()) - min(own.values()) > 2 * NEAR_C:
        own[MIDDLE] = float(round((max(own.values()) + min(own.values())) / 2))
    return own


def predicted_elsewhere(
    model: HeaterModel, gains: PidGains, situation: Situation, targets: Mapping[str, float], demands: Demands
) -> dict[str, float]:
    """How far a step from the same start overshoots at other materials' temperatures with the same gains, °C; those
    near the one that was tuned at, or too hot for the heater, are left out.
    """
    ratio = situation.fan_loss_ratio if situation.fan_at_s is not None else None
    overshoots: dict[str, float] = {}
    for name, celsius in targets.items():
        if abs(celsius - situation.target_c) <= NEAR_C or celsius < WARM_C:
            continue
        try:
            step = step_situation(model, celsius, situation.start_c, situation.noise_c, ratio, situation.limit, demands)
        except TrialFailed:
            continue  # too hot for this heater: no material for it
        overshoots[name] = predict_step(model, gains, step).measure.overshoot_c
    return overshoots


def elsewhere_findings(overshoots: Mapping[str, float], demands: Demands) -> list[Finding]:
    """The overshoots as findings."""
    return [
        Finding(
            "overshoot_elsewhere",
            overshoot,
            None,
            "°C",
            demands.overshoot_c,
            {"material": name},
            f"overshoot at {name}'s temperature",
        )
        for name, overshoot in overshoots.items()
    ]


def elsewhere_words(overshoots: Mapping[str, float], targets: Mapping[str, float], demands: Demands) -> str:
    """The same in words, to go on a sentence with; nothing where no other material is declared."""
    if not overshoots:
        return ""
    shown = ", ".join(f"{mm:.1f} °C at {name}'s {targets[name]:g}" for name, mm in overshoots.items())
    words = f"; with the same gains a step overshoots by {shown}"
    if max(overshoots.values()) > demands.overshoot_c:
        words += ", more than is good there: tune in the middle of the range (m), or keep a set of gains for it"
    return words
