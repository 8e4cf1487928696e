"""The trial of sensors at rest: they agree with each other and the room; and, if wanted, with a reference."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ublet.core.heat.curves import Curve, curve_of
from ublet.core.heat.pairing import odd_sensors
from ublet.core.heat.references import Reference, fit_beta, likeliest, ohm_of
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Part, setting
from ublet.core.trial import (
    Bench,
    Finding,
    Need,
    Option,
    Progress,
    Proposal,
    Question,
    TrialFailed,
    TrialResult,
    TrialSpec,
)

CALM_S = 5.0
"""Readings are averaged for so long, s."""

SETTLE_S = 60.0
"""A sensor takes so long to follow a bath, s."""

SMALL_C = 1.0
"""A sensor within this of the reference everywhere is left as it is, °C."""

CURVE_KEYS = ("kind", "r25_ohm", "beta_k", "r0_ohm", "pullup_ohm")


class SensorParameters(Part):
    """How near to each other sensors must be, and whether one is compared with a reference thermometer."""

    apart: float = setting("Sensors at rest may differ from the room by this.", unit="°C", low=1, high=10, default=3.0)
    references: int = setting("Readings beside a reference thermometer; 0 for none.", low=0, high=8, default=0)
    sensor: str = setting("Sensor that is compared with the reference.", default="hotend")
    error: float = setting("Uncertainty of the reference.", unit="°C", low=0.05, high=5, default=0.5)


async def sensors_at_rest(bench: Bench, aim: SensorParameters) -> TrialResult:
    """Average every sensor at rest and compare; then, if asked for, one of them in baths of known temperature."""
    machine = bench.machine
    if aim.references and aim.sensor not in machine.sensors:
        raise TrialFailed(f"No sensor “{aim.sensor}” is declared; known: {', '.join(machine.sensors)}.")
    means = await _averages(bench, tuple(machine.sensors), "sensors at rest", 0.0)
    odd = odd_sensors(means, machine.machine.room_c, aim.apart)
    findings = [Finding(f"{name} at rest", value, None, "°C") for name, value in means.items() if value is not None]
    if odd:
        return TrialResult("failed", " ".join(odd.values()), {}, tuple(findings))
    apart = max(v for v in means.values() if v is not None) - min(v for v in means.values() if v is not None)
    findings.append(Finding("apart", apart, None, "°C", 2 * aim.apart))
    told = f"{len(means)} sensors read the same room within {apart:.1f} °C."
    if not aim.references:
        return TrialResult("proven", told, {}, tuple(findings))
    own = curve_of({key: bench.setting(f"sensors.{aim.sensor}.{key}") for key in CURVE_KEYS})
    references = await _references(bench, aim)
    return _compared(bench, aim, own, references, findings, told)


async def _averages(bench: Bench, names: tuple[str, ...], phase: str, share: float) -> dict[str, float | None]:
    kept: dict[str, list[float]] = {name: [] for name in names}
    passed = 0.0
    while passed < CALM_S:
        await bench.rest(0.5)
        passed += 0.5
        bench.progress(Progress(phase, share, CALM_S - passed, "averaging"))
        for name in names:
            if (value := bench.celsius(name)) is not None:
                kept[name].append(value)
    return {name: sum(values) / len(values) if values else None for name, values in kept.items()}


async def _references(bench: Bench, aim: SensorParameters) -> tuple[Reference, ...]:
    found: list[Reference] = []
    for number in range(aim.references):
        share = 0.1 + 0.9 * number / aim.references
        bench.progress(Progress(f"reference {number + 1} of {aim.references}", share, None, f"the {aim.sensor} sensor"))
        place = ("ice water", "warm water", "boiling water", "hot water")[number % 4]
        put = Question(
            f"Put the {aim.sensor} sensor and the reference thermometer side by side, for example into {place}. "
            "They are read a minute later. Keep the board dry.",
            ("they are in", "stop here"),
            ("bathe", aim.sensor, place),
        )
        if await bench.ask(put) != "they are in":
            raise TrialFailed("Stopped: nothing was concluded.")
        await bench.rest(SETTLE_S)
        shown = (await _averages(bench, (aim.sensor,), f"reference {number + 1} of {aim.references}", share))[
            aim.sensor
        ]
        if shown is None:
            raise TrialFailed(f"The {aim.sensor} sensor stopped reading: check its plug and cable.")
        asked = Question("What does the reference thermometer show?", (), ("thermometer", aim.sensor), unit="°C")
        true = await bench.measure(asked)
        bench.show("references", ("true_c", "shown_c"), (true, shown))
        found.append(Reference(true, shown))
    return tuple(found)


def _compared(
    bench: Bench,
    aim: SensorParameters,
    own: Curve,
    references: tuple[Reference, ...],
    findings: list[Finding],
    told: str,
) -> TrialResult:
    root = f"sensors.{aim.sensor}"
    pullup = float(bench.setting(f"{root}.pullup_ohm") or 0.0)
    off = [reference.shown_c - reference.true_c for reference in references]
    findings += [
        Finding(f"off at {reference.true_c:.0f} °C", error, aim.error, "°C", max(SMALL_C, 2 * aim.error))
        for reference, error in zip(references, off, strict=True)
    ]
    if all(finding.within for finding in findings if finding.name.startswith("off")):
        why = f"{told} The {aim.sensor} sensor agrees with the reference within its error: leave it."
        return TrialResult("proven", why, {}, tuple(findings))
    worst = max(references, key=lambda reference: abs(reference.shown_c - reference.true_c))
    words = [f"At {worst.true_c:.1f} °C the {aim.sensor} sensor shows {worst.shown_c:.1f}."]
    ranked = likeliest(own, pullup, references, aim.error)
    declared_chi = sum((error / aim.error) ** 2 for error in off)
    if ranked and ranked[0].worst_c < max(SMALL_C, 3 * aim.error) and declared_chi > 6:
        words.append(
            f"Its curve is more likely {ranked[0].name} (within {ranked[0].worst_c:.1f} °C) than the declared one."
        )
    options: tuple[Option, ...] = ()
    if len({reference.true_c for reference in references}) > 1 and bench.setting(f"{root}.kind") == "beta":
        fit = fit_beta([(r.true_c, ohm_of(own, r.shown_c, pullup)) for r in references])
        left = max(abs(residual) for residual in fit.residuals_c)
        words.append(f"A curve through the readings leaves {left:.1f} °C at most.")
        findings += [Finding("r25", fit.r25_ohm, None, "Ω"), Finding("beta", fit.beta_k, None, "K")]
        findings.append(Finding("left over", left, aim.error, "°C"))
        effect = f"reads right within {max(left, aim.error):.1f} °C"
        options = (
            Option(
                "mend",
                "then compare again",
                (
                    _proposal(bench, f"{root}.r25_ohm", round(fit.r25_ohm), "Ω", effect),
                    _proposal(bench, f"{root}.beta_k", round(fit.beta_k, 1), "K", effect),
                ),
                {},
            ),
        )
    return TrialResult("failed", " ".join(words), {}, tuple(findings), options, "mend" if options else "")


def _proposal(bench: Bench, path: str, after: float, unit: str, effect: str) -> Proposal:
    return Proposal(path, bench.setting(path), float(after), unit, effect)


def _needs(machine: MachineFile, aim: SensorParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    dead = [name for name in machine.sensors if read(name) is None]
    if dead:
        return (Need(f"{', '.join(dead)} open, shorted or silent: check the plug", True),)  # the trial names it
    return (Need(f"{len(machine.sensors)} sensors read", True), Need("everything at room temperature", True))


def _announce(machine: MachineFile, aim: SensorParameters) -> str:
    baths = f" Then {aim.references} readings of the {aim.sensor} sensor beside a reference." if aim.references else ""
    return f"Reads {len(machine.sensors)} sensors for {CALM_S:g} s.{baths} Nothing heats, nothing moves."


def _depends(aim: SensorParameters, known: Mapping[str, Any]) -> tuple[str, ...]:
    return tuple(path for path in known if path.startswith("sensors."))


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "sensors-at-rest",
        "sensors at rest",
        "Every sensor reads the room before any heat; and, if wanted, one agrees with a reference thermometer.",
        SensorParameters,
        sensors_at_rest,
        _announce,
        _depends,
        _needs,
        verify="sensors-at-rest",
        mends=True,
    ),
)
