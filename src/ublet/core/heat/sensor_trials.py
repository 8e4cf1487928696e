"""The trial of sensors at rest: they agree with each other and the room; and, if wanted, with a reference."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Literal

from ublet.core.acts import BatheSensor
from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.heat.curve_fit import FAR_C, TERMS, CurveAssessment, CurveFit, fit_curve, judged, recommended
from ublet.core.heat.curves import SensorCurve, curve_of
from ublet.core.heat.pairing import odd_sensors
from ublet.core.heat.references import Reference, likeliest, ohm_of
from ublet.core.heat.start import from_room
from ublet.core.machine.schema import MachineFile
from ublet.core.observations import ReadThermometer
from ublet.core.questions import Confirm, Measure
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, Subject, TrialFailed, TrialResult, about
from ublet.core.settings import Part, Value, number_or, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import parse, show

CALM_S = 5.0
"""Readings are averaged for so long, s."""

SETTLE_S = 60.0
"""A sensor takes so long to follow a bath, s."""

SMALL_C = 1.0
"""A sensor within this of the reference everywhere is left as it is, °C."""

CURVE_KEYS = ("kind", "r25_ohm", "beta_k", "steinhart_a", "steinhart_b", "steinhart_c", "r0_ohm", "pullup_ohm")


class SensorParameters(Part):
    """How near to each other sensors must be, and whether one is compared with a reference thermometer."""

    apart: float = setting("Sensors at rest may differ from the room by this.", unit="°C", low=1, high=10, default=3.0)
    references: int = setting("Readings beside a reference thermometer; 0 for none.", low=0, high=8, default=0)
    sensor: str = setting("Sensor that is compared with the reference.", default="hotend")
    error: float = setting("Uncertainty of the reference.", unit="°C", low=0.05, high=5, default=0.5)
    choose: Literal["recommended", "beta", "own"] = setting("Curve to propose.", default="recommended")


ODD_SENSOR = (
    ByHand("check plug and cable of each that is named"),
    ChangeParameter("references", "compare the sensor with a reference thermometer"),
)
"""Ways out where a sensor reads otherwise than the room is."""

COOL_FRACTION = 0.5
"""A warm heater is waited for until it is above the room by no more than this share of what sensors may differ."""


async def sensors_at_rest(bench: Bench, aim: SensorParameters) -> TrialResult:
    """Average every sensor at rest and compare; then, if asked for, one of them in baths of known temperature."""
    machine = bench.machine
    if aim.references and aim.sensor not in machine.sensors:
        raise TrialFailed(
            f"No sensor “{aim.sensor}” is declared; known: {', '.join(machine.sensors)}.",
            ChangeParameter("sensor", "one that is declared"),
        )
    with bench.aside():  # what was heated a while ago is no wrong curve
        for heater in machine.heaters:
            await from_room(bench, heater, bench.heat.samples(heater), near_c=COOL_FRACTION * aim.apart, falling=True)
    means = await _averages(bench, tuple(machine.sensors), "sensors at rest", 0.0)
    odd = odd_sensors(means, machine.machine.room_c, aim.apart)
    findings = [
        Finding("at_rest", value, unit="°C", subject={"sensor": name}, words=f"{name} at rest")
        for name, value in means.items()
        if value is not None
    ]
    compared = aim.references > 0 and means[aim.sensor] is not None  # a wrong curve is what the reference is there for
    if odd and not (compared and set(odd) == {aim.sensor}):
        return TrialResult("failed", " ".join(odd.values()), {}, tuple(findings), remedies=ODD_SENSOR)
    if odd:
        return await _beside_reference(bench, aim, findings, odd[aim.sensor], False)
    apart = max(v for v in means.values() if v is not None) - min(v for v in means.values() if v is not None)
    findings.append(Finding("apart", apart, None, "°C", 2 * aim.apart))
    agreement = f"{len(means)} sensors read the same room within {show(apart, '°C', 2)}."
    if not aim.references:
        return TrialResult("proven", agreement, {}, tuple(findings))
    return await _beside_reference(bench, aim, findings, agreement)


async def _beside_reference(
    bench: Bench, aim: SensorParameters, findings: list[Finding], agreement: str, calm: bool = True
) -> TrialResult:
    """Compare one sensor with a thermometer; agreement: what was found at rest, calm: whether that was good."""
    machine = bench.machine
    own = live_curve(machine, aim.sensor, bench.settings.live)
    if own is None:
        raise TrialFailed(
            f"The {aim.sensor} sensor has no curve on the board: give it one in the machine file first.",
            ChangeSetting(f"sensors.{aim.sensor}", "a curve: beta with its values, or points"),
        )
    references = await _references(bench, aim)
    return _compared(bench, aim, own, references, findings, agreement, calm)


def live_curve(machine: MachineFile, sensor: str, setting_of: Callable[[str], Value]) -> SensorCurve | None:
    """A sensor's curve by its live settings; None when they make none."""
    points = [f"points.{name}.{key}" for name in machine.sensors[sensor].points for key in ("celsius", "ohm")]
    try:
        return curve_of({key: setting_of(f"sensors.{sensor}.{key}") for key in (*CURVE_KEYS, *points)})
    except ValueError:
        return None


async def _averages(bench: Bench, names: tuple[str, ...], phase: str, fraction: float) -> dict[str, float | None]:
    kept: dict[str, list[float]] = {name: [] for name in names}
    passed = 0.0
    while passed < CALM_S:
        await bench.clock.rest(0.5)
        passed += 0.5
        bench.progress(Progress(phase, fraction, CALM_S - passed, "averaging"))
        for at, name in enumerate(names):
            if (value := bench.heat.celsius(name)) is not None:
                kept[name].append(value)
                bench.record.row("readings", (bench.clock.now_s(), float(at), value))
    return {name: sum(values) / len(values) if values else None for name, values in kept.items()}


async def _references(bench: Bench, aim: SensorParameters) -> tuple[Reference, ...]:
    references: list[Reference] = []
    former: FormerReading | None = None
    for number in range(aim.references):
        fraction = 0.1 + 0.9 * number / aim.references
        bench.progress(
            Progress(f"reference {number + 1}", fraction, None, f"of {aim.references}, the {aim.sensor} sensor")
        )
        place = ("ice water", "warm water", "boiling water", "hot water")[number % 4]
        put = Confirm(
            f"Put the {aim.sensor} sensor and the reference thermometer side by side, for example into {place}. "
            "They are read a minute later. Keep the board dry.",
            ("they are in", "stop here"),
            BatheSensor(aim.sensor, place),
        )
        out = Confirm(
            f"Take the {aim.sensor} sensor out and put it back in its place.", ("done",), BatheSensor(aim.sensor)
        )
        async with bench.builder.by_hand(put, out) as answer:
            if answer != "they are in":
                raise TrialFailed("Stopped: nothing was concluded.", StartAgain())
            await bench.clock.rest(SETTLE_S)
            shown = (await _averages(bench, (aim.sensor,), f"reference {number + 1} of {aim.references}", fraction))[
                aim.sensor
            ]
            if shown is None:
                raise TrialFailed(
                    f"The {aim.sensor} sensor stopped reading: check its plug and cable.",
                    ByHand(f"check plug and cable of the {aim.sensor} sensor"),
                )
            asked = Measure(
                "What does the reference thermometer show?",
                (),
                ReadThermometer(aim.sensor),
                unit="°C",
                lowest=-40.0,
                highest=500.0,
            )
            true = parse(await read_or_back(bench, asked, former), "°C")
        bench.record.row("references", (true, shown))
        references.append(Reference(true, shown))
        former = FormerReading(asked, partial(_put, references))
    return tuple(references)


def _put(references: list[Reference], answer: str) -> None:
    """A reading of the thermometer that was typed wrong is another one."""
    references[-1] = replace(references[-1], true_c=parse(answer, "°C"))


def _compared(
    bench: Bench,
    aim: SensorParameters,
    own: SensorCurve,
    references: tuple[Reference, ...],
    findings: list[Finding],
    agreement: str,
    calm: bool,
) -> TrialResult:
    root = f"sensors.{aim.sensor}"
    own_sensor: Subject = {"sensor": aim.sensor}
    pullup = number_or(bench.settings.live(f"{root}.pullup_ohm"), 0.0)
    off = [reference.shown_c - reference.true_c for reference in references]
    findings += [
        Finding(
            "off",
            error,
            aim.error,
            "°C",
            max(SMALL_C, 2 * aim.error),
            subject={"sensor": aim.sensor, "reading": ORDINALS[number]},
            words=f"{aim.sensor} off at {reference.true_c:.0f} °C",
        )
        for number, (reference, error) in enumerate(zip(references, off, strict=True))
    ]
    if all(finding.within for finding in findings if finding.what == "off"):
        why = f"{agreement} The {aim.sensor} sensor agrees with the reference within its error: leave it."
        if not calm:
            why += " It really is that warm there, or the other sensors are off: compare one of those."
        compare = ChangeParameter("sensor", "compare another one with the reference")
        return TrialResult(
            "proven" if calm else "failed", why, {}, tuple(findings), remedies=() if calm else (compare,)
        )
    worst = max(references, key=lambda reference: abs(reference.shown_c - reference.true_c))
    words = [f"At {worst.true_c:.1f} °C the {aim.sensor} sensor shows {worst.shown_c:.1f}."]
    ranked = likeliest(own, pullup, references, aim.error)
    declared_chi = sum((error / aim.error) ** 2 for error in off)
    if ranked and ranked[0].worst_c < max(SMALL_C, 3 * aim.error) and declared_chi > 6:
        words.append(
            f"Its curve is more likely {ranked[0].name} (within {ranked[0].worst_c:.1f} °C) than the declared one."
        )
    fits = _fits(bench, aim, own, pullup, references)
    hot = working_point(bench.machine, aim.sensor)
    choices = judged(fits, hot, pullup)
    options = tuple(_option(bench, root, choice, hot) for choice in choices)
    asked = [choice for choice in choices if aim.choose == NAMES[choice.fit.kind].split()[0]]
    best = asked[0] if asked else recommended(choices)
    if best is not None:
        words.append(_why(best, choices, hot))
        fitted = [Finding(FITTED[key], value, unit=UNITS[key]) for key, value in best.fit.settings.items()]
        fitted += [
            Finding("left_over", max(abs(residual) for residual in best.fit.residuals_c), aim.error, "°C"),
            Finding("reads_at_work", hot, best.uncertainty_c, "°C"),
        ]
        findings += about(own_sensor, fitted)
    name = NAMES[best.fit.kind] if best is not None else ""
    more = () if options else (ChangeParameter("references", "more references, one near the working point"),)
    return TrialResult("failed", " ".join(words), {}, tuple(findings), options, name, more)


NAMES = {"beta": "beta curve", "steinhart": "own curve"}
FITTED = {
    "r25_ohm": "room_ohm",
    "beta_k": "beta_k",
    "steinhart_a": "steinhart_a",
    "steinhart_b": "steinhart_b",
    "steinhart_c": "steinhart_c",
}
"""The finding that gives each setting of a curve."""

ORDINALS = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth")

UNITS = {"r25_ohm": "Ω", "beta_k": "K", "steinhart_a": "1/K", "steinhart_b": "1/K", "steinhart_c": "1/K"}


def working_point(machine: MachineFile, sensor: str) -> float:
    """Where a sensor is used: the first material's temperature of the heater that it reads, °C."""
    material = next(iter(machine.materials.values()), None)
    part = next((heater.part for heater in machine.heaters.values() if heater.sensor == sensor), "bed")
    if material is None:
        return 215.0 if part == "hotend" else 60.0
    return material.nozzle_c if part == "hotend" else material.bed_c


def _fits(
    bench: Bench, aim: SensorParameters, own: SensorCurve, pullup: float, references: tuple[Reference, ...]
) -> tuple[CurveFit, ...]:
    """The curves that the readings allow: a beta from two, one of its own from three; none for platinum."""
    root = f"sensors.{aim.sensor}"
    if bench.settings.live(f"{root}.kind") == "platinum":
        return ()
    points = [(reference.true_c, ohm_of(own, reference.shown_c, pullup)) for reference in references]
    fits = []
    for kind in TERMS:
        if kind == "beta" and bench.settings.live(f"{root}.beta_k") is None:
            continue  # its curve is given otherwise: the board has no beta to change
        try:
            fits.append(fit_curve(points, kind, aim.error, pullup))
        except ValueError:
            continue
    return tuple(fits)


def _why(best: CurveAssessment, choices: tuple[CurveAssessment, ...], hot: float) -> str:
    """What the proposed curve leaves, how sure it is where it is used, why not the other one, what would show more."""
    fit = best.fit
    left = max(abs(residual) for residual in fit.residuals_c)
    leaves = f"The {NAMES[fit.kind]} through the readings leaves {left:.1f} °C at most"
    if not fit.fits:
        return (
            f"{leaves}: more than the reference's uncertainty explains. Repeat the readings, or choose another curve."
        )
    leaves += f" and is uncertain by ±{2 * best.uncertainty_c:.1f} °C at {hot:g} °C."
    other = next((choice for choice in choices if choice is not best), None)
    if other is not None:
        name = f"{'An' if other.fit.kind == 'steinhart' else 'A'} {NAMES[other.fit.kind]}"
        if not other.fit.fits:
            worst = max(map(abs, other.fit.residuals_c))
            leaves += f" {name} does not fit: it leaves {worst:.1f} °C."
        elif best.differs:
            leaves += (
                f" {name} reads {abs(best.above_other_c or 0.0):.1f} °C "
                f"{'lower' if (best.above_other_c or 0.0) > 0 else 'higher'} there: more than either claims, so that "
                "difference is the uncertainty. With the one that reads higher the block is not hotter than it shows."
            )
        else:
            leaves += f" {name} would be uncertain by ±{2 * other.uncertainty_c:.1f} °C there."
    if hot - fit.span_c[1] > FAR_C:
        leaves += f" Nothing was compared above {fit.span_c[1]:.0f} °C: a reference near {hot:g} °C would settle it."
    return leaves


def _option(bench: Bench, root: str, choice: CurveAssessment, hot: float) -> Option:
    fit = choice.fit
    left = max(abs(residual) for residual in fit.residuals_c)
    effect = f"within {left:.1f} °C at the readings, ±{2 * choice.uncertainty_c:.1f} °C at {hot:g}"
    values = {f"{root}.{key}": float(f"{value:.6g}") for key, value in fit.settings.items()}
    proposals = [_proposal(bench, path, value, UNITS[path.split(".")[-1]], effect) for path, value in values.items()]
    kind = bench.settings.shown(f"{root}.kind")
    if kind != fit.kind:
        proposals.append(Proposal(f"{root}.kind", kind, fit.kind, "", "how the curve is given"))
    return Option(NAMES[fit.kind], "then compare again", tuple(proposals), {})


def _proposal(bench: Bench, path: str, after: float, unit: str, effect: str) -> Proposal:
    return Proposal(path, bench.settings.shown(path), after, unit, effect)


def _needs(machine: MachineFile, aim: SensorParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    odd = odd_sensors({name: read(name) for name in machine.sensors}, machine.machine.room_c, aim.apart)
    if odd:
        return tuple(Need(words.rstrip("."), False, blocking=False) for words in odd.values())  # the trial names it
    return (Need(f"{len(machine.sensors)} sensors near room temperature", True),)


def _announce(machine: MachineFile, aim: SensorParameters) -> str:
    baths = f" Then {aim.references} readings of the {aim.sensor} sensor beside a reference." if aim.references else ""
    return f"Reads {len(machine.sensors)} sensors for {CALM_S:g} s.{baths} Nothing heats, nothing moves."


def _apart(result: TrialResult) -> str:
    apart = result.finding("apart")
    return show(apart.value, "°C", 2) if apart is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "sensors-at-rest",
        "sensors at rest",
        "Every sensor reads the room before any heat; and, if wanted, one agrees with a reference thermometer.",
        SensorParameters,
        sensors_at_rest,
        (
            Stream("readings", ("time_s", "sensor", "temperature_c"), ("s", "", "°C"), 2.0),
            Stream("references", ("true_c", "shown_c"), ("°C", "°C")),
        ),
        _announce,
        _needs,
        figure=_apart,
        verify="sensors-at-rest",
        mends=True,
        asks=lambda aim: aim.references > 0,
        uses=always("heat"),
    ),
)
