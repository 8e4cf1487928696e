"""The trial of the station *lead screws* by hand: the gap at every lift, read with a rule, and the screws turned."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial

from ublet.core.acts import TurnLift
from ublet.core.bench import Bench
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.level.reach import senses
from ublet.core.level.support.lift_trials import ONE_SCREW, nothing_to_do, squared_facts
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.measuring import INSTRUMENTS, length_of
from ublet.core.observations import ReadGap
from ublet.core.questions import Confirm, Measure
from ublet.core.remedy import ByHand, StartAgain
from ublet.core.run import Finding, Progress, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import parse, show
from ublet.core.words import several

FURTHEST_MM, TURN_MM = 40.0, 0.25
"""Gaps further apart are mistyped; a side that is off by less is left alone, mm."""


class ByHandParameters(Part):
    """How it is measured."""

    agree_mm: float = setting("Heights that agree so well are good enough.", unit="mm", low=0.2, high=5, default=0.7)
    rounds: int = setting("Rounds at the most.", low=1, high=10, default=4)


def _put(read: dict[str, float], name: str, answer: str) -> None:
    """A gap that was typed wrong is another one."""
    read[name] = parse(answer, "mm")


async def lead_screws_by_hand(bench: Bench, aim: ByHandParameters) -> TrialResult:
    """The builder measures the same gap at every lift and turns the screws, until the heights agree."""
    machine = bench.machine
    if len(machine.axes.z.motors) < 2:
        return nothing_to_do()
    names, lead = tuple(machine.axes.z.motors), machine.axes.z.screw_lead_mm
    turned: set[str] = set()
    for number in range(1, aim.rounds + 1):
        read: dict[str, float] = {}
        former: FormerReading | None = None
        for at, name in enumerate(names):
            bench.progress(Progress(f"round {number}", (number - 1) / aim.rounds, None, f"at {name}"))
            asked = Measure(
                f"Measure with the rule the gap from bed to gantry at lead screw {name}, from the same edge to the "
                "same edge as at the others.",
                ("stop here",),
                ReadGap(name, "rule"),
                unit="mm",
                lowest=0.0,
                highest=3000.0,
            )
            answer = await read_or_back(bench, asked, former)
            if answer == "stop here":
                raise TrialFailed("Stopped before the heights agreed.", StartAgain())
            read[name] = parse(answer, "mm")
            former = FormerReading(replace(asked, answers=()), partial(_put, read, name))
            bench.record.row("gaps", (number, at, read[name]))
        apart = max(read.values()) - min(read.values())
        if apart > FURTHEST_MM:
            raise TrialFailed(
                f"The gaps read {several([f'{name} {mm:g} mm' for name, mm in read.items()])}: {apart:.0f} mm apart is "
                "more than a bed on lead screws can be out. Type what the rule shows in mm, the same gap at each side, "
                "and start again.",
                StartAgain("with the gap that the rule shows at each side, in mm"),
            )
        if apart <= aim.agree_mm:
            for name in turned:
                bench.report_fact("lift", name)
            return _by_hand_done(read, apart, number, aim)
        mean = sum(read.values()) / len(read)
        for name, mm in read.items():
            off = mean - mm
            if abs(off) < TURN_MM:
                continue
            way = "wider" if off > 0 else "narrower"
            asked_turn = Confirm(
                f"Turn the lead screw at {name} by hand until the gap there is {abs(off):.1f} mm {way}: "
                f"{abs(off) / lead:.2f} of a turn ({lead:g} mm a turn). Hold the others still.",
                ("turned", "stop here"),
                TurnLift(name, off),
            )
            if await bench.builder.ask(asked_turn) != "turned":
                raise TrialFailed("Stopped before the heights agreed.", StartAgain())
            turned.add(name)
    for name in turned:
        bench.report_fact("lift", name)
    raise TrialFailed(
        f"After {aim.rounds} rounds the gaps still differ by {apart:.1f} mm, {aim.agree_mm:g} are good enough: measure "
        "from the same edges each time, and look for a nut that is loose.",
        ByHand("measure from the same edges each time; look for a loose nut"),
    )


def _by_hand_done(read: Mapping[str, float], apart: float, rounds: int, aim: ByHandParameters) -> TrialResult:
    one = length_of([next(iter(read.values()))], "rule")
    u = math.sqrt(2) * one.placing_u_mm
    findings = (
        Finding("gaps_differ", apart, u, "mm", aim.agree_mm, words="gaps differ by"),
        Finding("rounds", float(rounds)),
    )
    why = f"The gaps agree within {show(apart, 'mm', 2)}, which is what a rule resolves. Probing goes on from here."
    return TrialResult("proven", why, {}, findings)


def _announce_by_hand(machine: MachineFile, aim: ByHandParameters) -> str:
    if len(machine.axes.z.motors) < 2:
        return "One lead screw carries Z: nothing to turn."
    errors = INSTRUMENTS["rule"]
    return (
        f"Nothing moves and nothing heats: you measure the gap at each lift with a rule (within {errors.largest_mm:g} "
        f"mm) and turn the screws by hand as asked, until the gaps agree within {aim.agree_mm:g} mm."
    )


def _needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    count = len(machine.axes.z.motors)
    words = f"{count} lifts" if count > 1 else "one lead screw drives Z: nothing to square"
    return (Need(words, True),)


def _figure(result: TrialResult) -> str:
    finding = result.finding("gaps_differ")
    return f"{finding.value:.1f} mm by hand" if finding is not None else "one screw"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "lead-screws-by-hand",
        "lead screws",
        "The same with a rule: the gap at every lift, and which screw to turn, which way, how far.",
        ByHandParameters,
        lead_screws_by_hand,
        (Stream("gaps", ("round", "lift", "gap_mm"), ("", "", "mm")),),
        _announce_by_hand,
        _needs,
        figure=_figure,
        idle=lambda machine: (
            ONE_SCREW if len(machine.axes.z.motors) < 2 else "the probe does it better" if senses(machine) else ""
        ),
        asks=lambda aim: True,
        by_hand=True,
        facts=squared_facts,
    ),
)
