"""What the heat trials report: findings and options of predicted and verified steps."""

from __future__ import annotations

import math

import numpy as np

from ublet.core.heat.candidates import AS_FOUND, Candidate
from ublet.core.heat.demands import Demands
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.model_fit import ModelFit
from ublet.core.heat.pid import PidGains
from ublet.core.heat.prediction import PredictedStep, Situation
from ublet.core.heat.step import StepMeasure
from ublet.core.remedy import ByHand, ChangeParameter, StartAgain
from ublet.core.run import Finding, Option, Proposal, TrialFailed, TrialResult
from ublet.core.units import duration

PREDICTION_LIMIT_C = 1.0
FAN_S = 60.0
"""How long the part fan runs at the end of a step, s."""

ON_OFF = "on-off"
STEP_COLUMNS = ("time_s", "duty", "temperature_c")


def step_situation(
    model: HeaterModel,
    target: float,
    start_c: float,
    noise: float,
    fan_loss_ratio: float | None,
    limit: float,
    demands: Demands,
) -> Situation:
    """The step to predict and to verify: climb, hold, fan; long enough for a calm controller.

    The climb at full power is that of the model (:meth:`HeaterModel.climb_s`).
    """
    full = model.ambient_c + model.levels_off_c(limit)
    if full - start_c <= (target - start_c) * 1.02:
        raise TrialFailed(
            f"At full power the heater levels off at about {full:.0f} °C: too weak for {target:g} °C.",
            ChangeParameter("target", "a lower temperature"),
            ByHand("check the heater's power, its voltage and the sock"),
        )
    whole, done = (model.heat_up_s(max(0.0, celsius - model.ambient_c), limit) for celsius in (target, start_c))
    heat_up = (whole or 0.0) - (done or 0.0)
    fan_at = math.ceil(heat_up + demands.hold_s)
    end = fan_at + FAN_S
    if fan_loss_ratio is None:
        return Situation(target, start_c, noise, end_s=float(fan_at), limit=limit, read_s=demands.read_s)
    return Situation(target, start_c, noise, fan_loss_ratio, float(fan_at), float(end), limit, demands.read_s)


def model_from(tuned: TrialResult, room: float) -> HeaterModel:
    """The model that an earlier hotend control found, at today's room temperature."""

    def value(name: str) -> float:
        finding = tuned.finding(name)
        if finding is None:
            raise TrialFailed(
                f"The stored result has no {name}: tune this heater again.",
                StartAgain("the tuning, for the model that is missing"),
            )
        return finding.value

    two = tuned.finding("quick_share") is not None
    quick = (value("quick_store"), value("quick_share")) if two else (0.0, 0.0)
    curved, at, then = tuned.finding("loss_curve"), tuned.conditions.get("target_c"), tuned.finding("ambient")
    curve, at_c = 0.0, room
    if curved is not None and isinstance(at, (int, float)) and then is not None:  # older results know no curve
        curve, at_c = curved.value, float(at)
    tangent = value("gain") * (1 - curve * (at_c - (then.value if then is not None else room)))
    lags = value("time_constant"), value("dead_time")
    return HeaterModel(tangent, *lags, room, value("second_lag"), *quick, curve, at_c)


def model_findings(fit: ModelFit, apart_s: float = 0.0) -> list[Finding]:
    """The model as findings, from which :func:`model_from` makes it again. apart_s: how far apart in time a reading and
    the duty beside it may be; the delay is no surer than that.

    gain: by the chord from the room to the working temperature (what duty holds it); time_constant: the tangent's. A
    record shows dead time and second lag only together: their sum has an uncertainty, their split none.
    """
    model, known = fit.model, fit.uncertainty
    findings = [
        Finding("gain", model.held_gain_c, known.held_gain_c, "°C"),
        Finding("time_constant", model.time_constant_s, known.time_constant_s, "s"),
        Finding("delay", model.delay_s, math.hypot(known.delay_s, apart_s), "s"),
        Finding("dead_time", model.dead_time_s, None, "s"),
        Finding("second_lag", model.second_lag_s, None, "s"),
        Finding("loss_curve", model.curve, known.curve, "1/°C"),
    ]
    if model.quick_fraction:
        findings += [
            Finding("quick_store", model.quick_s, known.quick_s, "s"),
            Finding("quick_share", model.quick_fraction, known.quick_fraction),
            Finding("sheet_lag", model.sheet_lag_s, None, "s"),
        ]
    return [*findings, Finding("model_residual", fit.residual_c, None, "°C")]


def predicted_findings(best: Candidate, demands: Demands) -> list[Finding]:
    """What the chosen gains are predicted to do."""
    measure = best.step.measure
    findings = [
        Finding("predicted_overshoot", measure.overshoot_c, None, "°C", demands.overshoot_c),
        Finding("predicted_ripple", measure.ripple_c, None, "°C", demands.ripple_c),
    ]
    if measure.settle_s is not None:
        findings.append(Finding("predicted_settle", measure.settle_s, None, "s"))
    if measure.dip_c is not None:
        findings.append(Finding("predicted_fan_dip", measure.dip_c, None, "°C"))
    return findings


def step_rows(step: PredictedStep) -> list[tuple[float, ...]]:
    """A predicted step as rows of ``STEP_COLUMNS``."""
    return [tuple(row) for row in np.stack([step.time_s, step.duty, step.celsius], 1).tolist()]


def gains_option(candidate: Candidate, before: PidGains, root: str, heater: str, control: str) -> Option:
    """A candidate as an option to choose, with its proposals (none for the gains as found).

    root: the path below which the gains for this target stand; control: how the heater is held now.
    """
    measure = candidate.step.measure
    settle = "does not settle" if measure.settle_s is None else f"settled in {duration(measure.settle_s)}"
    effect = f"overshoot +{measure.overshoot_c:.1f} °C, {settle}, ripple {measure.ripple_c:.1f} °C"
    proposals: tuple[Proposal, ...] = ()
    if candidate.name != AS_FOUND:
        gains = candidate.gains
        proposals = (
            Proposal(f"{root}.kp", before.kp, gains.kp, "/°C", effect),
            Proposal(f"{root}.ki", before.ki, gains.ki, "/(°C·s)", effect),
            Proposal(f"{root}.kd", before.kd, gains.kd, "s/°C", effect),
        )
        if control != "pid":
            proposals += (Proposal(f"heaters.{heater}.control", control, "pid", "", "held by gains"),)
    figures = {
        "kp": candidate.gains.kp,
        "ki": candidate.gains.ki,
        "kd": candidate.gains.kd,
        "overshoot_c": measure.overshoot_c,
        "settle_s": measure.settle_s,
        "ripple_c": measure.ripple_c,
        "fan_dip_c": measure.dip_c,
    }
    return Option(candidate.name, candidate.note, proposals, figures)


def on_off_option(step: PredictedStep, swing_c: float, heater: str, control: str) -> Option:
    """The alternative for slow heaters: on and off around the target, with the swing that it is predicted to have."""
    measure = step.measure
    effect = f"cycles by {measure.ripple_c:.1f} °C up and down, overshoot +{measure.overshoot_c:.1f} °C"
    proposals = () if control == "on-off" else (Proposal(f"heaters.{heater}.control", control, "on-off", "", effect),)
    figures = {"overshoot_c": measure.overshoot_c, "settle_s": measure.settle_s, "ripple_c": measure.ripple_c}
    return Option(ON_OFF, f"relay, hysteresis {swing_c:g} °C", proposals, figures)


def verified_findings(
    seen: StepMeasure, hoped: StepMeasure, noise: float | None, demands: Demands
) -> tuple[Finding, ...]:
    """What a step did beside what was predicted; noise is the standard deviation of one reading, °C.

    Times are known to the board's tick: that is a bound and no standard uncertainty, so none stands with them.
    """
    findings = [
        Finding("overshoot", seen.overshoot_c, noise, "°C", demands.overshoot_c),
        Finding("ripple", seen.ripple_c, None, "°C", demands.ripple_c),
        Finding("predicted_overshoot", hoped.overshoot_c, None, "°C"),
        Finding(
            "overshoot_against_prediction",
            seen.overshoot_c - hoped.overshoot_c,
            None,
            "°C",
            PREDICTION_LIMIT_C,
        ),
        Finding("predicted_ripple", hoped.ripple_c, None, "°C"),
    ]
    if seen.settle_s is not None:
        findings.append(Finding("settle", seen.settle_s, None, "s"))
    if hoped.settle_s is not None:
        findings.append(Finding("predicted_settle", hoped.settle_s, None, "s"))
    if seen.dip_c is not None and hoped.dip_c is not None:
        findings.append(Finding("fan_dip", seen.dip_c, noise, "°C"))
        findings.append(Finding("predicted_fan_dip", hoped.dip_c, None, "°C"))
    if seen.recover_s is not None:
        findings.append(Finding("fan_recovery", seen.recover_s, None, "s"))
    return tuple(findings)
