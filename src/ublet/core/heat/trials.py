"""The heat trials: hotend control by relay autotune, and its check by a step from cold."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from ublet.core.heat.candidates import OVERSHOOT_LIMIT_C, candidates, recommend
from ublet.core.heat.model import fit_model
from ublet.core.heat.prediction import predict_step
from ublet.core.heat.record import Record, reading_noise
from ublet.core.heat.relay import ultimate
from ublet.core.heat.report import (
    STEP_COLUMNS,
    gains_option,
    model_from,
    predicted_findings,
    step_series,
    step_situation,
    verified_findings,
)
from ublet.core.heat.start import check_room_above, from_room, heat_needs, live_gains, part_fan
from ublet.core.heat.step import measure_step
from ublet.core.heat.swing import RelayPhase
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Part, setting
from ublet.core.trial import Bench, Finding, Progress, TrialFailed, TrialResult, TrialSpec
from ublet.core.units import duration, show

HEADROOM_C = 15.0
"""The relay swings above its target; this much must be left below the heater's maximum, °C."""


Choice = Literal["recommended", "calm", "balanced", "quick"]


class HotendParameters(Part):
    """Parameters of hotend control."""

    heater: str = setting("Heater to tune (a table below [heaters]).", default="hotend")
    target: float = setting("Temperature to tune at.", unit="°C", low=120, high=400, default=215.0)
    cycles: int = setting("Most relay cycles; it stops earlier when they agree within 2 %.", low=4, high=12, default=8)
    choose: Choice = setting("Gains to propose.", default="recommended")


class VerifyParameters(Part):
    """Parameters of the hotend check."""

    heater: str = setting("Heater to check.", default="hotend")
    target: float = setting("Temperature of the step.", unit="°C", low=120, high=400, default=215.0)


async def hotend_control(bench: Bench, aim: HotendParameters) -> TrialResult:
    """Find gains that hold the nozzle steady: relay cycles from room temperature, a model, candidates.

    Full power until the target, then the board switches between two duties around it (Åström &
    Hägglund 1984); after each of the first cycles the two duties are moved so that on and off last
    equally long. The first cycle at a pair of duties is discarded. Two further cycles with the part fan
    on tell what the fan takes away. A model is fitted to the whole record without the fan.
    """
    check_room_above(bench.machine, aim.heater, aim.target, HEADROOM_C)
    before = live_gains(bench, aim.heater)
    limit = float(bench.setting(f"heaters.{aim.heater}.power_limit") or 1.0)
    samples = bench.samples(aim.heater)
    room = await from_room(bench, aim.heater, samples)
    record = Record(bench, "relay")
    quiet = [await anext(samples) for _ in range(20)]
    noise = max(float(np.std([sample.celsius for sample in quiet], ddof=1)), 0.01)
    hysteresis = max(0.5, 4 * noise)
    relay = RelayPhase(bench, record, aim.heater, aim.target, hysteresis, limit, aim.cycles)
    await bench.relay(aim.heater, aim.target, hysteresis, limit, 0.0)
    settled = await relay.swing(samples)
    series = record.series()
    fan = part_fan(bench.machine)
    loss_ratio = await relay.with_fan(samples, fan, settled[-1]) if fan else 1.0
    await bench.target(aim.heater, None)
    bench.progress(Progress("fitting the model", 0.98, 2.0))
    noise = reading_noise(series)
    try:
        point = ultimate(settled, hysteresis)
        fit = await bench.compute(
            fit_model, series.column("time_s"), series.column("duty"), series.column("temperature_c"), room
        )
    except ValueError as error:
        raise TrialFailed(f"This record tells no gains: {error}.") from error
    situation = step_situation(fit.model, aim.target, room, noise, loss_ratio if fan else None, limit)
    made = await bench.compute(candidates, fit.model, point, before, situation)
    best, why = recommend(made)
    if aim.choose != "recommended":
        best, why = aim.choose, "as asked for"
    findings = [
        Finding("ultimate_gain", point.gain, point.gain_u, "/°C"),
        Finding("ultimate_period", point.period_s, point.period_u_s, "s"),
        Finding("gain", fit.model.gain_c, fit.uncertainty.gain_c, "°C"),
        Finding("time_constant", fit.model.time_constant_s, fit.uncertainty.time_constant_s, "s"),
        Finding("second_lag", fit.model.second_lag_s, fit.uncertainty.second_lag_s, "s"),
        Finding("dead_time", fit.model.dead_time_s, fit.uncertainty.dead_time_s, "s"),
        Finding("model_residual", fit.residual_c, None, "°C"),
        Finding("hold_duty", settled[-1].mean_duty, None, "duty"),
        Finding("reading_noise", noise, None, "°C"),
        Finding("ambient", room, None, "°C"),
        Finding("fan_loss_ratio", loss_ratio, None, ""),
        *predicted_findings(made[best]),
    ]
    return TrialResult(
        "proven",
        f"{best}: {why}",
        {"target_c": aim.target, "room_c": room, "part_fan": "off, then full", "fan_at_s": situation.fan_at_s},
        tuple(findings),
        tuple(gains_option(c, before, aim.heater) for c in made.values()),
        best,
        {
            "relay": record.series(),
            **{f"predicted {name}": step_series(c.step) for name, c in made.items()},
        },
    )


async def hotend_verify(bench: Bench, aim: VerifyParameters) -> TrialResult:
    """Check the live gains by a step from cold and a fan disturbance, against the model's prediction.

    Limits: overshoot under 2 °C, ripple under ±0.5 °C, and within 1 °C of the predicted overshoot.
    """
    check_room_above(bench.machine, aim.heater, aim.target, OVERSHOOT_LIMIT_C + 1)
    tuned = bench.earlier("hotend-control")
    if tuned is None:
        raise TrialFailed("There is no model of this hotend yet: run hotend control first, then verify.")
    samples = bench.samples(aim.heater)
    room = await from_room(bench, aim.heater, samples)
    start = await anext(samples)
    model = model_from(tuned, room)
    ratio = tuned.finding("fan_loss_ratio")
    noise = tuned.finding("reading_noise")
    fan = part_fan(bench.machine)
    limit = float(bench.setting(f"heaters.{aim.heater}.power_limit") or 1.0)
    situation = step_situation(
        model,
        aim.target,
        start.celsius,
        noise.value if noise else 0.0,
        ratio.value if ratio and fan else None,
        limit,
    )
    gains = live_gains(bench, aim.heater)
    predicted = await bench.compute(predict_step, model, gains, situation)
    record = Record(bench, "step")
    for row in zip(predicted.time_s[::5], predicted.duty[::5], predicted.celsius[::5], strict=True):
        bench.show("predicted", STEP_COLUMNS, tuple(float(v) for v in row))
    await bench.target(aim.heater, aim.target)
    fanned = False
    async for sample in samples:
        if sample.target_c is None:
            continue  # the step begins when the board drives
        at = record.add(sample)
        if situation.fan_at_s is not None and fan and not fanned and at >= situation.fan_at_s:
            fanned = True
            await bench.fan(fan, 1.0)
        phase = "fan on" if fanned else "holding" if sample.celsius > aim.target - 1 else "climbing"
        left = situation.end_s - at
        bench.progress(Progress(phase, at / situation.end_s, left, f"{sample.celsius:.1f} °C"))
        if at >= situation.end_s:
            break
    if fan:
        await bench.fan(fan, 0.0)
    await bench.target(aim.heater, None)
    series = record.series()
    windy = np.flatnonzero(series.column("fan") > 0)
    fan_at = float(series.column("time_s")[windy[0]]) if len(windy) else None
    seen = measure_step(series.column("time_s"), series.column("temperature_c"), aim.target, fan_at)
    findings = verified_findings(seen, predicted.measure, noise.value if noise else None)
    broken = [finding for finding in findings if not finding.within]
    if seen.settle_s is None:
        why = "the temperature did not stay within 1 °C of the target"
    elif broken:
        why = "; ".join(
            f"{item.name.replace('_', ' ')} {show(item.value, item.unit, 3)} exceeds "
            f"{show(item.limit or 0.0, item.unit)}"
            for item in broken
        )
    else:
        why = (
            f"overshoot {seen.overshoot_c:.1f} °C (predicted {predicted.measure.overshoot_c:.1f}), "
            f"settled in {duration(seen.settle_s)}, ripple ±{seen.ripple_c:.2f} °C"
        )
    return TrialResult(
        "failed" if broken or seen.settle_s is None else "proven",
        why,
        {"target_c": aim.target, "room_c": room, "start_c": start.celsius},
        findings,
        series={
            "step": series,
            "predicted": step_series(predicted),
        },
    )


PLANT_KEYS = ("sensor", "socket", "power_limit")
GAIN_KEYS = ("kp", "ki", "kd")
CURVE_KEYS = ("r25_ohm", "beta_k", "pullup_ohm", "socket")


def _depends(
    aim: HotendParameters | VerifyParameters, known: Mapping[str, Any], keys: tuple[str, ...]
) -> tuple[str, ...]:
    """The settings that a finding about a heater holds for: its own, and its sensor's curve."""
    root = f"heaters.{aim.heater}"
    wanted = [f"{root}.{key}" for key in keys]
    sensor = known.get(f"{root}.sensor")
    if sensor is not None:
        wanted += [f"sensors.{sensor.live}.{key}" for key in CURVE_KEYS]
    return tuple(wanted)


def _announce_control(machine: MachineFile, aim: HotendParameters) -> str:
    fan = " The part fan runs near the end." if part_fan(machine) else ""
    return f"Heats the {aim.heater} to about {aim.target + 7:.0f} °C for 4 to 6 min.{fan} Nothing moves."


def _announce_verify(machine: MachineFile, aim: VerifyParameters) -> str:
    fan = " The part fan runs for the last minute." if part_fan(machine) else ""
    return f"Heats the {aim.heater} from cold to {aim.target:.0f} °C for 4 to 6 min.{fan} Nothing moves."


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "hotend-control",
        "hotend control",
        "Gains that hold the nozzle steady, by relay cycles, a fitted model and predicted steps.",
        HotendParameters,
        hotend_control,
        _announce_control,
        lambda aim, known: _depends(aim, known, PLANT_KEYS),
        lambda machine, aim, read: heat_needs(machine, aim.heater, aim.target, HEADROOM_C, read),
        verify="hotend-verify",
    ),
    TrialSpec(
        "hotend-verify",
        "hotend control",
        "Step from cold and fan disturbance with the live gains, against the prediction.",
        VerifyParameters,
        hotend_verify,
        _announce_verify,
        lambda aim, known: _depends(aim, known, PLANT_KEYS + GAIN_KEYS),
        lambda machine, aim, read: heat_needs(machine, aim.heater, aim.target, OVERSHOOT_LIMIT_C + 1, read),
    ),
)
