"""The trial of the station *probe place* about its height: where a probe that senses from afar hangs in its mount, and
whether a probe clears the bed while something else works there.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from ublet.core.acts import Act, LowerProbeToTrigger, RaiseProbe
from ublet.core.bench import Bench
from ublet.core.level.gauging import onto_gauge
from ublet.core.level.probe.offset_trials import DROP_MM, DROP_U_MM, OFFSET
from ublet.core.level.probe.probing import probe_of
from ublet.core.level.reach import NO_PROBE, senses
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, number_of, preheat_words
from ublet.core.motion.measuring import INSTRUMENTS
from ublet.core.observations import ReadStowedGap
from ublet.core.questions import Confirm, Measure
from ublet.core.remedy import ByHand, ChangeParameter, GoTo, StartAgain
from ublet.core.run import Finding, Option, Outcome, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import parse, show

FRESH_S = 0.4
HAND_MM = 0.15
"""A probe pushed in its mount ends within this of where it should, half-width, mm: once down, once up."""

CLEARS_MM = 0.7
"""A probe whose end hangs less than this over the nozzle's tip scrapes what was just printed, mm."""

LEAST_MM = 0.3
"""It must trigger so far before the nozzle is at the bed, mm."""

TRIES = 3

SEEN = Stream("seen", ("wanted", "triggered"), ("", ""))
"""What the probe's input should read after each move of its mount, and what it read: 1 triggered, 0 at rest."""


class HeightParameters(Part):
    """The gauge, and how far the probe is raised."""

    gauge_mm: float = setting("Thickness of the gauge below the nozzle.", unit="mm", low=0.5, high=10, default=2.0)
    raise_mm: float = setting(
        "How far the probe is raised from where it just triggers; it then triggers at the gauge less this.",
        unit="mm",
        low=0.1,
        high=9,
        default=1.0,
    )
    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=0.2, high=20, default=4.0)


async def probe_height(bench: Bench, aim: HeightParameters) -> TrialResult:
    """The nozzle on a gauge: the probe is lowered in its mount until it just triggers, and raised by the clearance.
    What is left below its end is measured.
    """
    probe = probe_of(bench.machine)
    afar = probe.kind != "pin"
    if afar and aim.gauge_mm - aim.raise_mm < LEAST_MM:
        raise TrialFailed(
            f"Raised by {aim.raise_mm:g} mm from a gauge of {aim.gauge_mm:g} mm the probe would trigger less than "
            f"{LEAST_MM:g} mm before the nozzle is at the bed: take a thicker gauge or raise it less. Nothing moved.",
            ChangeParameter("gauge_mm", "thicker"),
            ChangeParameter("raise_mm", "smaller"),
        )
    await onto_gauge(bench, aim.gauge_mm, aim.speed_mm_s)
    if afar:
        await _put(bench, aim)
        bench.report_fact("probe")
    else:
        bench.record.row(SEEN.name, (0.0, float(await _triggered(bench))))
    bench.progress(Progress("what it clears", 0.9, None, "with the rule"))
    what = "the probe’s end and the bed" if afar else "the stowed probe’s end and the bed"
    asked = Measure(
        f"The nozzle still stands on the gauge. Measure with the rule how much air is between {what}.",
        ("stop here",),
        ReadStowedGap("rule"),
        unit="mm",
        lowest=0.0,
        highest=300.0,
    )
    answer = await bench.builder.ask(asked)
    if answer == "stop here":
        raise TrialFailed("Stopped before it was known what the probe clears: nothing is proposed.", StartAgain())
    return _concluded(bench, aim, parse(answer, "mm") - aim.gauge_mm, afar)


async def _put(bench: Bench, aim: HeightParameters) -> None:
    """Down until it triggers, up by the clearance; the input shows each time whether that is so.

    Raises:
        TrialFailed: the builder stops, or the input does not follow.
    """
    bench.progress(Progress("the probe down", 0.4, None, "look at its input"))
    if await _triggered(bench):
        await _until(
            bench,
            False,
            "The probe is triggered already. Loosen its mount and raise the probe by some 5 mm.",
            RaiseProbe(5.0),
        )
    await _until(
        bench,
        True,
        "Loosen the probe’s mount. Lower the probe slowly until its input just shows “triggered”, and hold it there.",
        LowerProbeToTrigger(),
    )
    bench.progress(Progress("the probe up", 0.7, None, f"by {aim.raise_mm:g} mm"))
    await _until(
        bench,
        False,
        f"Raise the probe by {aim.raise_mm:g} mm, with a spacer of that thickness, and tighten its mount.",
        RaiseProbe(aim.raise_mm),
    )


async def _until(bench: Bench, triggered: bool, words: str, cue: Act) -> None:
    complaint = ""
    for _ in range(TRIES):
        if await bench.builder.ask(Confirm(f"{complaint}{words}", ("done", "stop here"), cue)) != "done":
            raise TrialFailed(
                "Stopped with the probe’s mount in hand: tighten it, and run this again before Z homes.",
                ByHand("tighten the probe's mount before Z homes again"),
                StartAgain(),
            )
        reads = await _triggered(bench)
        bench.record.row(SEEN.name, (float(triggered), float(reads)))
        if reads is triggered:
            return
        complaint = f"Its input still reads {'at rest' if triggered else 'triggered'}. "
    raise TrialFailed(
        f"The probe’s input reads {'at rest' if triggered else 'triggered'} after {TRIES} tries: look at its plug, its "
        "supply and its polarity (station “inputs by hand”), and whether there is metal below it.",
        GoTo("inputs by hand", "the probe's input, its plug and its polarity"),
        ByHand("bring metal below the probe"),
    )


async def _triggered(bench: Bench) -> bool:
    await bench.clock.rest(FRESH_S)
    return bench.probe.inputs()["probe"].triggered


HIGHER = ByHand("mount the probe higher")


def _concluded(bench: Bench, aim: HeightParameters, clears_mm: float, afar: bool) -> TrialResult:
    rule = INSTRUMENTS["rule"]
    clears = Finding(
        "clears",
        clears_mm,
        math.hypot(rule.placing_mm / math.sqrt(3), rule.common_mm / math.sqrt(3), math.hypot(DROP_MM, DROP_U_MM)),
        "mm",
        words="end over the tip",
    )
    high = clears_mm >= CLEARS_MM
    does = "clears" if high else "does not clear"
    words = f"Its end hangs {clears_mm:.1f} mm over the nozzle’s tip: it {does} the bed."
    if not high:
        other = "raise it less from a thicker gauge, or take a probe that senses further" if afar else "mount it higher"
        words += f" At least {CLEARS_MM:g} mm are needed: {other}."
    outcome: Outcome = "proven" if high else "failed"
    if not afar:
        return TrialResult(outcome, words, {}, (clears,), remedies=() if high else (HIGHER,))
    trigger = aim.gauge_mm - aim.raise_mm
    uncertainty = math.hypot(HAND_MM * math.sqrt(2 / 3), math.hypot(DROP_MM, DROP_U_MM))
    findings = (Finding("trigger", trigger, uncertainty, "mm", words="triggers over the bed"), clears)
    before = number_of(bench, OFFSET)
    why = f"It triggers with the nozzle about {trigger:.1f} mm over the bed. {words} Find the Z offset anew."
    proposals = []
    if abs(before + trigger) > 2 * uncertainty:
        effect = "Z homes at a safe height; the Z offset’s own station finds it to a hundredth"
        proposals.append(Proposal(OFFSET, before, -round(trigger, 2), "mm", effect))
    if not proposals or not high:
        return TrialResult(outcome, why, {}, findings)
    option = Option("as mounted", "home Z, then the probe’s place and the Z offset", tuple(proposals), {})
    return TrialResult(outcome, why, {}, findings, (option,), "as mounted")


def _needs(machine: MachineFile, aim: HeightParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    try:
        probe = probe_of(machine)
    except TrialFailed:
        return (Need("no probe hangs beside the nozzle: there is no mount to set", False),)
    return (Need(f"probe: {probe.kind}", True),)


def _announce(machine: MachineFile, aim: HeightParameters) -> str:
    afar = machine.probe is not None and machine.probe.kind != "pin"
    then = (
        "Then you lower the probe in its mount until it triggers, raise it by "
        f"{show(aim.raise_mm, 'mm')}, and measure what is below its end."
        if afar
        else "Then you measure what is below the stowed pin’s end."
    )
    return (
        "Homes X and Y, not Z: what it homes with may stand anywhere. You lower the nozzle onto a gauge of "
        f"{show(aim.gauge_mm, 'mm')} over the middle of the bed. {then} {preheat_words(machine, ('x', 'y'))}"
    )


def _figure(result: TrialResult) -> str:
    clears = result.finding("clears")
    return f"{clears.value:.1f} mm up" if clears is not None else ""


LOWERED_S = 9.0
"""Coming down onto the gauge and going up again, s."""


def _lasts(machine: MachineFile, aim: HeightParameters, times: TrialTimes) -> float:
    return times.home_s(machine) + LOWERED_S


def _idle(machine: MachineFile) -> str:
    """Why nothing waits for it: no probe senses, or it is a coil, whose curve is measured where it hangs."""
    if machine.probe is not None and machine.probe.kind == "coil":
        return "A coil triggers where its curve says: station coil probe says how high it may hang."
    return "" if senses(machine) else NO_PROBE


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "probe-height",
        "probe place",
        "How high the probe hangs in its mount: it triggers before the nozzle, and clears the bed.",
        HeightParameters,
        probe_height,
        (SEEN,),
        _announce,
        _needs,
        figure=_figure,
        idle=_idle,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs"),
        facts=facts("nozzle"),
    ),
)
