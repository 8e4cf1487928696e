"""The heat trials: hotend control by relay autotune, and its check by a step from cold."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.heat.candidates import candidates, recommend
from ublet.core.heat.demands import demands_of, hotends, material_targets, slow_heaters
from ublet.core.heat.elsewhere import elsewhere_findings, elsewhere_words, predicted_elsewhere
from ublet.core.heat.limit_cycle import RelayPhase
from ublet.core.heat.model_fit import fit_model
from ublet.core.heat.pid import TICK_S
from ublet.core.heat.prediction import predict_on_off, predict_step
from ublet.core.heat.record import COLUMNS, UNITS, Record, reading_noise
from ublet.core.heat.relay import ultimate
from ublet.core.heat.report import (
    ON_OFF,
    STEP_COLUMNS,
    gains_option,
    model_findings,
    model_from,
    on_off_option,
    predicted_findings,
    step_rows,
    step_situation,
    verified_findings,
)
from ublet.core.heat.start import check_room_above, from_room, heat_needs, live_gains, live_root, part_fan
from ublet.core.heat.step import measure_step
from ublet.core.machine.schema import MachineFile
from ublet.core.remedy import ChangeParameter, StartAgain
from ublet.core.run import Finding, Progress, Stream, Subject, TrialFailed, TrialResult, about
from ublet.core.settings import Part, number_or, setting
from ublet.core.trial import TrialSpec
from ublet.core.units import duration, show, with_uncertainty

ROOM_C = 5.0
"""The room may be another one by so much before what rests on it is stale, °C."""

STEP_HEADROOM_C = 3.0
"""A step overshoots by less than this, °C."""

GainChoice = Literal["recommended", "calm", "balanced", "quick"]


class HotendParameters(Part):
    """Parameters of hotend control."""

    heater: str = setting("Heater to tune (a table below [heaters]).", default="hotend")
    target: float = setting("Temperature to tune at.", unit="°C", low=120, high=400, default=215.0)
    cycles: int = setting("Most relay cycles; it stops earlier when they agree within 2 %.", low=4, high=12, default=8)
    choose: GainChoice = setting("Gains to propose.", default="recommended")
    wait: bool = setting("Wait for the room without asking, when the heater is still warm.", default=False)


class HotendVerifyParameters(Part):
    """Parameters of the hotend check."""

    heater: str = setting("Heater to check.", default="hotend")
    target: float = setting("Temperature of the step.", unit="°C", low=120, high=400, default=215.0)
    wait: bool = setting("Wait for the room without asking, when the heater is still warm.", default=False)


class BedParameters(Part):
    """Parameters of bed control."""

    heater: str = setting("Heater to tune: a bed or a chamber.", default="bed")
    target: float = setting("Temperature to tune at.", unit="°C", low=30, high=150, default=60.0)
    cycles: int = setting("Most relay cycles; it stops earlier when they agree within 2 %.", low=4, high=12, default=8)
    choose: GainChoice = setting("Gains to propose.", default="recommended")
    wait: bool = setting("Wait for the room without asking, when the heater is still warm.", default=False)


class BedVerifyParameters(Part):
    """Parameters of the bed check."""

    heater: str = setting("Heater to check.", default="bed")
    target: float = setting("Temperature of the step.", unit="°C", low=30, high=150, default=60.0)
    wait: bool = setting("Wait for the room without asking, when the heater is still warm.", default=False)


ControlAim = HotendParameters | BedParameters
VerifyAim = HotendVerifyParameters | BedVerifyParameters


async def heater_control(bench: Bench, aim: ControlAim) -> TrialResult:
    """Find gains that hold a heater steady: relay cycles from room temperature, a model, candidates.

    Full power until the target, then the board switches between two duties around it (Åström &
    Hägglund 1984); after each of the first cycles the two duties are moved so that on and off last
    equally long. The first cycle at a pair of duties is discarded. For a hotend two further cycles with the part
    fan on give the heat lost to the fan. A model is fitted to the whole record without the fan. For a slow heater
    on-off control stands beside the gains, with the swing that it would have.
    """
    demands = demands_of(bench.machine, aim.heater)
    with bench.aside():  # what may be asked of it, and what stands beside the proposals
        check_room_above(bench.machine, aim.heater, aim.target, demands.headroom_c)
        before, root = live_gains(bench, aim.heater, aim.target), live_root(bench, aim.heater, aim.target)
        fan = part_fan(bench.machine) if demands.fans else None
    limit = number_or(bench.settings.live(f"heaters.{aim.heater}.power_limit"), 1.0)
    samples = bench.heat.samples(aim.heater)
    room = await from_room(bench, aim.heater, samples, aim.wait)
    record = Record(bench, "relay")
    quiet = [await anext(samples) for _ in range(20)]
    noise = max(float(np.std([sample.celsius for sample in quiet], ddof=1)), 0.01)
    hysteresis = max(0.5, 4 * noise)
    relay = RelayPhase(bench, record, aim.heater, aim.target, hysteresis, limit, aim.cycles, demands)
    await bench.heat.relay(aim.heater, aim.target, hysteresis, limit, 0.0)
    settled = await relay.cycle(samples)
    series = record.series()
    loss_ratio = await relay.with_fan(samples, fan, settled[-1]) if fan else 1.0
    await bench.heat.off(aim.heater)
    bench.progress(Progress("fitting the model", 0.98, 2.0))
    noise = reading_noise(series)
    try:
        point = ultimate(settled, hysteresis)
        fit = await bench.compute(
            fit_model, series.column("time_s"), series.column("duty"), series.column("temperature_c"), room
        )
    except ValueError as error:
        raise TrialFailed(
            f"This record does not determine gains: {error}.", StartAgain("with more cycles (parameter cycles)")
        ) from error
    situation = step_situation(fit.model, aim.target, room, noise, loss_ratio if fan else None, limit, demands)
    made = await bench.compute(candidates, fit.model, point, before, situation, demands)
    if aim.choose not in ("recommended", *made):
        raise TrialFailed(
            f"The {aim.heater} does not carry the {aim.choose} gains: take the recommended ones.",
            ChangeParameter("choose", "recommended"),
        )
    best, why = recommend(made, demands)
    if aim.choose != "recommended":
        best, why = aim.choose, "as asked for"
    with bench.aside():
        targets = material_targets(bench.machine, aim.heater)
    elsewhere = await bench.compute(predicted_elsewhere, fit.model, made[best].gains, situation, targets, demands)
    why += elsewhere_words(elsewhere, targets, demands)
    own: Subject = {"heater": aim.heater}
    findings = [
        Finding("ultimate_gain", point.gain, point.gain_u, "/°C"),
        Finding("ultimate_period", point.period_s, point.period_u_s, "s"),
        *model_findings(fit, bench.heat.apart_s),
        Finding("hold_duty", settled[-1].mean_duty),
        Finding("reading_noise", noise, None, "°C"),
        Finding("ambient", room, None, "°C", tolerance=ROOM_C),
        *([Finding("fan_loss_ratio", loss_ratio)] if fan else []),
        *predicted_findings(made[best], demands),
        *elsewhere_findings(elsewhere, demands),
    ]
    for name, candidate in made.items():
        bench.record.rows("predicted", step_rows(candidate.step), of=name)
    control = str(bench.settings.shown(f"heaters.{aim.heater}.control") or "pid")
    options = [gains_option(c, before, root, aim.heater, control) for c in made.values()]
    if not demands.fans:
        cycle = number_or(bench.settings.shown(f"heaters.{aim.heater}.swing_c"), 2.0)
        on_off = await bench.compute(predict_on_off, fit.model, cycle, situation)
        options.append(on_off_option(on_off, cycle, aim.heater, control))
        bench.record.rows("predicted", step_rows(on_off), of=ON_OFF)
    return TrialResult(
        "proven",
        f"{best}: {why}",
        {
            "target_c": aim.target,
            "room_c": room,
            "part_fan": "off, then full" if fan else "off",
            "fan_at_s": situation.fan_at_s,
        },
        about(own, findings),
        tuple(options),
        best,
    )


async def heater_verify(bench: Bench, aim: VerifyAim) -> TrialResult:
    """Check the live gains by a step from cold, for a hotend with a fan disturbance, against the model's prediction.

    Limits by the demands on its kind, and within 1 °C of the predicted overshoot.
    """
    demands = demands_of(bench.machine, aim.heater)
    with bench.aside():
        check_room_above(bench.machine, aim.heater, aim.target, STEP_HEADROOM_C)
        fan = part_fan(bench.machine) if demands.fans else None
    tuned = bench.record.earlier("hotend-control" if demands.fans else "bed-control", heater=aim.heater)
    if tuned is None:
        raise TrialFailed(
            f"There is no model of the {aim.heater} yet: tune it first, then verify.",
            StartAgain("the tuning, which makes the model"),
        )
    samples = bench.heat.samples(aim.heater)
    room = await from_room(bench, aim.heater, samples, aim.wait)
    start = await anext(samples)
    model = model_from(tuned, room)
    ratio = tuned.finding("fan_loss_ratio")
    noise = tuned.finding("reading_noise")
    limit = number_or(bench.settings.live(f"heaters.{aim.heater}.power_limit"), 1.0)
    situation = step_situation(
        model,
        aim.target,
        start.celsius,
        noise.value if noise else 0.0,
        ratio.value if ratio and fan else None,
        limit,
        demands,
    )
    if bench.settings.live(f"heaters.{aim.heater}.control") == ON_OFF:
        cycle = number_or(bench.settings.live(f"heaters.{aim.heater}.swing_c"), 2.0)
        demands = replace(demands, ripple_c=cycle, overshoot_c=2 * cycle)
        predicted = await bench.compute(predict_on_off, model, cycle, situation)
    else:
        predicted = await bench.compute(predict_step, model, live_gains(bench, aim.heater, aim.target), situation)
    record = Record(bench, "step")
    for row in step_rows(predicted)[::5]:
        bench.record.row("predicted", row)
    await bench.heat.hold(aim.heater, aim.target)
    fanned = False
    async for sample in samples:
        if sample.target_c is None:
            continue  # the step begins when the board drives
        at = record.add(sample)
        if situation.fan_at_s is not None and fan and not fanned and at >= situation.fan_at_s:
            fanned = True
            await bench.heat.fan(fan, 1.0)
        phase = "fan on" if fanned else "holding" if sample.celsius > aim.target - 1 else "heating up"
        left = situation.end_s - at
        bench.progress(Progress(phase, at / situation.end_s, left, f"{sample.celsius:.1f} °C"))
        if at >= situation.end_s:
            break
    if fan:
        await bench.heat.fan(fan, 0.0)
    await bench.heat.off(aim.heater)
    series = record.series()
    windy = np.flatnonzero(series.column("fan") > 0)
    fan_at = float(series.column("time_s")[windy[0]]) if len(windy) else None
    seen = measure_step(series.column("time_s"), series.column("temperature_c"), aim.target, fan_at, demands.read_s)
    findings = verified_findings(seen, predicted.measure, noise.value if noise else None, demands)
    broken = [finding for finding in findings if not finding.within]
    if seen.settle_s is None:
        why = "the temperature did not stay within 1 °C of the target"
    elif broken:
        why = "; ".join(
            f"{item.name} {show(item.value, item.unit, 3)} exceeds {show(item.limit or 0.0, item.unit)}"
            for item in broken
        )
    else:
        why = (
            f"overshoot {seen.overshoot_c:.1f} °C (predicted {predicted.measure.overshoot_c:.1f}), "
            f"settled in {duration(seen.settle_s)} (read every {TICK_S:g} s), ripple {seen.ripple_c:.2f} °C"
        )
    good = not broken and seen.settle_s is not None
    retune = StartAgain("tune it again, or choose calmer gains (parameter choose)")
    return TrialResult(
        "proven" if good else "failed",
        why,
        {"target_c": aim.target, "room_c": room, "start_c": start.celsius},
        about({"heater": aim.heater}, findings),
        remedies=() if good else (retune,),
    )


def _announce_control(machine: MachineFile, aim: ControlAim) -> str:
    demands = demands_of(machine, aim.heater)
    if not demands.fans:
        return f"Heats the {aim.heater} to about {aim.target + 3:.0f} °C, for some 10 to 60 min. Nothing moves."
    fan = " The part fan runs near the end." if part_fan(machine) else ""
    return f"Heats the {aim.heater} to about {aim.target + 7:.0f} °C for 4 to 6 min.{fan} Nothing moves."


def _announce_verify(machine: MachineFile, aim: VerifyAim) -> str:
    demands = demands_of(machine, aim.heater)
    if not demands.fans:
        return f"Heats the {aim.heater} from cold to {aim.target:.0f} °C, for some 10 to 40 min. Nothing moves."
    fan = " The part fan runs for the last minute." if part_fan(machine) else ""
    return f"Heats the {aim.heater} from cold to {aim.target:.0f} °C for 4 to 6 min.{fan} Nothing moves."


def _overshoot(result: TrialResult) -> str:
    seen = result.finding("overshoot")
    return with_uncertainty(seen.value, seen.uncertainty or 0.0) if seen is not None else ""


PREDICTED = Stream("predicted", STEP_COLUMNS, ("s", "duty", "°C"))


def _control_spec(name: str, station: str, parameters: type[Part], verify: str) -> TrialSpec:
    return TrialSpec(
        name,
        station,
        "Gains that hold a heater steady, by relay cycles, a fitted model and predicted steps.",
        parameters,
        heater_control,
        (Stream("relay", COLUMNS, UNITS, 10.0), PREDICTED),
        _announce_control,
        lambda machine, aim, read: heat_needs(
            machine, aim.heater, aim.target, demands_of(machine, aim.heater).headroom_c, read
        ),
        figure=lambda result: "",
        verify=verify,
        heaters=hotends if parameters is HotendParameters else slow_heaters,
        uses=always("heat"),
    )


def _verify_spec(name: str, station: str, parameters: type[Part]) -> TrialSpec:
    return TrialSpec(
        name,
        station,
        "Step from cold with the live gains, against the prediction; for a hotend also a fan disturbance.",
        parameters,
        heater_verify,
        (Stream("step", COLUMNS, UNITS, 10.0), PREDICTED),
        _announce_verify,
        lambda machine, aim, read: heat_needs(machine, aim.heater, aim.target, STEP_HEADROOM_C, read),
        figure=_overshoot,
        heaters=hotends if parameters is HotendVerifyParameters else slow_heaters,
        uses=always("heat"),
    )


TRIALS: tuple[TrialSpec, ...] = (
    _control_spec("hotend-control", "hotend control", HotendParameters, "hotend-verify"),
    _verify_spec("hotend-verify", "hotend control", HotendVerifyParameters),
    _control_spec("bed-control", "bed control", BedParameters, "bed-verify"),
    _verify_spec("bed-verify", "bed control", BedVerifyParameters),
)
