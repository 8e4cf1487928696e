"""The trial of the station *lead screws*: the bed square to the frame, by touching it near every lift."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.capabilities import Capability
from ublet.core.level.probe.probing import TOUCHES, Probing, approach_of, probe_of, probing, probing_uses
from ublet.core.level.reach import NO_PROBE, reach_of, senses
from ublet.core.level.scatter import height_u_mm, pooled_u_mm
from ublet.core.level.support.lifts import (
    Fault,
    LiftHeights,
    answered,
    blended,
    corrections,
    fault_of,
    gives_way,
    spread_apart,
    standing_of,
    visible,
)
from ublet.core.level.warmth import BedWarmUp, conditions, warm_needs, warm_up, warm_words, warming_s
from ublet.core.machine.level_parts import Lifts
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, home_axis, number_of
from ublet.core.motion.lift_directions import look_at_lifts, turned_round
from ublet.core.remedy import ByHand, ChangeSetting, GoTo
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.words import several

PROOF_MM = 0.5
"""The first correction goes no further than this: it proves that every lift goes where it should, mm."""

APART_MM = 30.0
"""Two places that are touched for two lifts must be so far apart, mm."""

LEAST_OFF_MM = 0.005
"""A smaller change of where a lift stands from its endstop is none, mm."""

MOST_SAMPLES, SURE = 12, 2.5
"""A probe that scatters is touched as often as it takes to know the range this many times better than the tolerance,
but no more often than this.
"""

LIFT_MM_S = 2.0
GROWS_MM = 0.03
"""A range that grows by more than this and by more than measuring explains is not getting better, mm."""

ROUNDS = Stream("rounds", ("round", "lift", "height_mm", "correction_mm"), ("", "", "mm", "mm"))
"""For each lift in each round: how high the bed stands there over the mean, and what the lift did about it."""


class LiftParameters(BedWarmUp):
    """How carefully it is done."""

    samples: int = setting("Touches at each place; 0: as declared.", zero="as declared", low=0, high=20, default=0)


def pivots_of(machine: MachineFile) -> dict[str, Point]:
    """Where each lift carries, mm from the bed's front left corner.

    Raises:
        TrialFailed: a pivot is not declared.
    """
    pivots = {}
    for name, motor in machine.axes.z.motors.items():
        if motor.pivot_x_mm is None or motor.pivot_y_mm is None:
            raise TrialFailed(
                f"Where the lift {name} carries is not declared: add pivot_x_mm and pivot_y_mm to "
                f"[axes.z.motors.{name}], measured from the bed's front left corner.",
                ChangeSetting(f"axes.z.motors.{name}", "pivot_x_mm and pivot_y_mm"),
            )
        pivots[name] = (motor.pivot_x_mm, motor.pivot_y_mm)
    return pivots


def squared_facts(machine: MachineFile, aim: Any) -> tuple[tuple[str, str], ...]:
    """What squareness rests on: where the machine stands, each lead screw, and power to motors that do not hold."""
    holds = len(machine.axes.z.motors) < 2 or (machine.lifts or Lifts()).hold
    return facts("moved", "lift", *(() if holds else ("motors",)))(machine, aim)


async def lead_screws(bench: Bench, aim: LiftParameters) -> TrialResult:
    """Touch near every lift, fit a surface, move each lift by the surface at its pivot, until it is level.

    A first small correction proves the lifts. It stops at once when the bed answers otherwise than commanded, when the
    range grows, or when a correction is larger than declared.
    """
    if len(bench.machine.axes.z.motors) < 2:
        return nothing_to_do()
    pivots = pivots_of(bench.machine)
    declared = bench.machine.lifts or Lifts()
    if not bench.motion.lifts_proven():
        seen = await look_at_lifts(bench)
        if not seen.good:
            mends = turned_round(bench, seen)
            why = f"{seen.words} Z went back to where it was; it was not homed, nothing else was moved."
            return TrialResult("failed", why, conditions(bench), (), mends, mends[0].name if mends else "")
        bench.motion.prove_lifts()
    _, warm = await warm_up(bench, aim)
    async with probing(bench, approach_of(bench, aim.samples), declared.largest_mm, warm) as probe:
        places = _places(probe, pivots)
        moved: dict[str, float] = {}
        history, rounds, fault = await _rounds(bench, probe, pivots, places, declared, moved)
    if fault is not None:
        return _faulty(bench, history, fault)
    offs = _ends_after(bench, moved)
    bench.progress(Progress("axis Z", 0.97, None, "homes again: the bed stands otherwise now"))
    async with bench.settings.borrowed({path: after for path, (_, after) in offs.items()}):
        await home_axis(bench, "z")
    result = _concluded(bench, history, rounds, declared)
    if not any(abs(after - before) > LEAST_OFF_MM for before, after in offs.values()):
        return result
    effect = "homing alone brings the bed square"
    proposals = tuple(Proposal(path, before, after, "mm", effect) for path, (before, after) in offs.items())
    option = Option("ends of the lifts", "home Z, and look once more", proposals, {})
    why = f"{result.why} Each lift has its own endstop: what was found goes there, else the next homing undoes it."
    return replace(result, why=why, options=(option,), recommended=option.name)


def _ends_after(bench: Bench, moved: Mapping[str, float]) -> dict[str, tuple[float, float]]:
    """How far each lift goes from its own endstop, before and with what it was moved by, mm, by setting; nothing where
    lifts have none.
    """
    offs: dict[str, tuple[float, float]] = {}
    away = -1 if axis_of(bench.machine, "z").homing.end == "high" else 1
    for name in axis_of(bench.machine, "z").lift_endstops:
        path = f"axes.z.motors.{name}.endstop_off_mm"
        before = number_of(bench, path)
        offs[path] = (before, round(before + away * moved.get(name, 0.0), 4))
    return offs


async def _rounds(
    bench: Bench,
    probe: Probing,
    pivots: Mapping[str, Point],
    places: Sequence[Point],
    declared: Lifts,
    moved: dict[str, float],
) -> tuple[list[LiftHeights], int, Fault | None]:
    """Rounds until it is level; what stands in the way, where something does. moved: how far each lift went in all."""
    history: list[LiftHeights] = []
    commanded: dict[str, float] = {}
    proven, follows = False, 1.0
    touched: list[list[float]] = []
    samples = probe.approach.samples
    step_mm = 1 / number_of(bench, "axes.z.steps_per_mm") * bench.machine.axes.z.motors[next(iter(pivots))].microsteps
    for number in range(1, declared.rounds + 1):
        bench.progress(Progress(f"round {number}", (number - 1) / declared.rounds, None, _range_words(history)))
        heights = []
        for place in places:
            touches = await probe.agreeing_at(place, samples)
            touched.append(touches)
            heights.append(sum(touches) / len(touches))
        single = pooled_u_mm(touched)
        u = height_u_mm(touched, samples, probe.kind)
        now = standing_of(pivots, places, heights, u, single / math.sqrt(samples))
        sure = SURE * math.sqrt(2 * samples) * now.repeats_mm / declared.tolerance_mm
        samples = max(samples, min(MOST_SAMPLES, math.ceil(sure**2)))
        before = history[-1] if history else None
        history.append(now)
        if before is not None and visible(commanded, before, now):  # what moved less than is seen proves nothing
            if (stop := _goes_wrong(commanded, before, now)) is not None:
                return history, number, stop
            proven = True
        if before is not None and proven:
            follows = gives_way(commanded, before, now, follows)
            now = history[-1] = blended(before, commanded, now, follows)
        largest = max(abs(height) for height in now.heights.values())
        level = now.range_mm <= declared.tolerance_mm or largest <= step_mm / 2
        commanded = (
            {} if level else corrections(now, math.inf, follows) if proven else spread_apart(corrections(now, PROOF_MM))
        )
        for at, (name, height) in enumerate(now.heights.items()):
            bench.record.row(ROUNDS.name, (number, at, height, commanded.get(name, 0.0)))
        if level:
            return history, number, None
        if largest > declared.largest_mm:
            raise TrialFailed(
                f"{_highest_words(now)}: that asks for {largest:.2f} mm, and {declared.largest_mm:g} are allowed "
                "(lifts.largest_mm). Nothing was moved for it. Bring the sides together by hand first "
                "(trial lead-screws-by-hand).",
                GoTo("lead screws", "bring the sides together by hand", "lead-screws-by-hand"),
                ChangeSetting("lifts.largest_mm", "if it may move so far"),
            )
        if number < declared.rounds:
            bench.progress(Progress(f"round {number}", (number - 0.3) / declared.rounds, None, _moves_words(commanded)))
            await bench.motion.lift({f"axes.z.motors.{name}": mm for name, mm in commanded.items()}, LIFT_MM_S)
            for name, mm in commanded.items():
                moved[name] = moved.get(name, 0.0) + mm
    raise TrialFailed(
        f"After {declared.rounds} rounds the range is {history[-1].range_mm:.3f} mm, {declared.tolerance_mm:g} are "
        f"allowed: it was {', '.join(f'{state.range_mm:.3f}' for state in history)}. Look for play in a screw, a "
        "corner "
        "of the bed on a slack spring, a bed that is loose on its mounts, or a probe that does not repeat (station "
        "“probe spread”).",
        ByHand("look for play in a screw, for a corner on a slack spring"),
        ChangeSetting("lifts.tolerance_mm", "as good as this bed can be"),
    )


def _goes_wrong(commanded: Mapping[str, float], before: LiftHeights, now: LiftHeights) -> Fault | None:
    """Why it must stop: the bed did not do what the lifts were commanded. A bed that came nearer to level goes on."""
    u = 3 * math.hypot(before.range_u_mm, now.range_u_mm)
    grew = now.range_mm > before.range_mm + max(GROWS_MM, u)
    if not grew and answered(commanded, before, now):
        return None
    fault = fault_of(commanded, before, now)
    if fault is None and not grew:
        return None
    return fault or Fault((), (), 1.0, "")


def _places(probe: Probing, pivots: Mapping[str, Point]) -> list[Point]:
    """The place nearest to each pivot that can be touched.

    Raises:
        TrialFailed: two of them are nearly the same.
    """
    spots = {name: probe.reach.nearest(pivot) for name, pivot in pivots.items()}
    for name, place in spots.items():
        for other, there in spots.items():
            if name < other and math.dist(place, there) < APART_MM:
                raise TrialFailed(
                    f"For {name} and {other} the probe would touch nearly the same place, "
                    f"{probe.reach.words(place)}: too near each other to level by. Look at their pivots and at the "
                    "probe's offset.",
                    ChangeSetting(f"axes.z.motors.{name}", "its pivot"),
                    GoTo("probe place", "the probe's offset"),
                )
    return list(spots.values())


def nothing_to_do() -> TrialResult:
    """What a machine gets that has one lead screw."""
    return TrialResult(
        "proven", "One lead screw carries Z: there is nothing to bring square.", {}, (Finding("lifts", 1.0),)
    )


def _concluded(bench: Bench, history: list[LiftHeights], rounds: int, declared: Lifts) -> TrialResult:
    last, first = history[-1], history[0]
    findings = [
        Finding("range", last.range_mm, last.range_u_mm, "mm", declared.tolerance_mm, words="range over the lifts"),
        Finding("range_before", first.range_mm, first.range_u_mm, "mm", words="range before"),
        Finding("rounds", float(rounds)),
        *(
            Finding("height", height, last.uncertainty_mm, "mm", subject={"lift": name})
            for name, height in last.heights.items()
        ),
    ]
    level = f"Level over the lifts within {last.range_mm:.3f} mm after {rounds} round{'s' if rounds > 1 else ''}"
    why = f"{level}; it was {first.range_mm:.3f}. The bed's corners come next, and the Z offset after them."
    return TrialResult("proven", why, conditions(bench), tuple(findings))


def _faulty(bench: Bench, history: list[LiftHeights], fault: Fault) -> TrialResult:
    """It stopped because the lifts did something else; where the wiring explains it, that is proposed."""
    findings = [
        Finding("range", history[-1].range_mm, history[-1].range_u_mm, "mm", words="range over the lifts"),
        Finding("range_before", history[0].range_mm, history[0].range_u_mm, "mm", words="range before"),
    ]
    went = f"The range went from {history[-2].range_mm:.3f} to {history[-1].range_mm:.3f} mm"
    if not fault.words:
        why = (
            f"{went}, and no mix-up of the lifts explains it: look for a screw that slips in its coupling, play, or a "
            "bed that hangs somewhere. Nothing more was moved."
        )
        loose = ByHand("look for a screw that slips in its coupling, for play, for a bed that hangs")
        return TrialResult("failed", why, conditions(bench), tuple(findings), remedies=(loose,))
    proposals: list[Proposal] = []
    for part, other in fault.exchanged:
        path = f"axes.z.motors.{part}.socket"
        there = bench.settings.shown(f"axes.z.motors.{other}.socket")
        proposals.append(Proposal(path, bench.settings.shown(path), there, "", f"the lift {part} is plugged in there"))
    for name in fault.reversed:
        path = f"axes.z.motors.{name}.reversed"
        now = bool(bench.settings.shown(path))
        proposals.append(Proposal(path, now, not now, "", f"the lift {name} turns the other way"))
    option = Option("mend", "then start again", tuple(proposals), {})
    kept = (option,) if proposals else ()
    why = f"{went}, not as commanded. Most likely cause: {fault.words}. Nothing more was moved."
    return TrialResult("failed", why, conditions(bench), tuple(findings), kept, "mend" if kept else "")


def _range_words(history: Sequence[LiftHeights]) -> str:
    return f"the range was {history[-1].range_mm:.3f} mm" if history else "touching near every lift"


def _highest_words(now: LiftHeights) -> str:
    highest = max(now.heights, key=lambda name: abs(now.heights[name]))
    height = now.heights[highest]
    return f"At the lift {highest} the bed stands {abs(height):.2f} mm too {'high' if height > 0 else 'low'}"


def _moves_words(commanded: Mapping[str, float]) -> str:
    return ", ".join(f"{name} {abs(mm):.3f} mm {'down' if mm > 0 else 'up'}" for name, mm in commanded.items())


def _needs(machine: MachineFile, aim: LiftParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if len(machine.axes.z.motors) < 2:
        return (Need("one lead screw drives Z: nothing to square", True),)
    try:
        pivots, probe = pivots_of(machine), probe_of(machine)
        reach_of(machine)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    return (Need(f"{len(pivots)} lifts with their pivots, probe: {probe.kind}", True), *warm_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: LiftParameters) -> str:
    if len(machine.axes.z.motors) < 2:
        return "One lead screw carries Z: nothing moves."
    lifts = machine.lifts or Lifts()
    samples = aim.samples or (machine.probe.samples if machine.probe is not None else 1)
    names = several(list(machine.axes.z.motors))
    return (
        f"Homes axes not yet homed, then touches the bed near {names}, {samples} times each, and moves each lift by "
        f"the height error at its side, first by {PROOF_MM:g} mm at the most, never by more than {lifts.largest_mm:g}; "
        f"at most {lifts.rounds} rounds, until the range is {lifts.tolerance_mm:g} mm. {warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    finding = result.finding("range")
    return f"{finding.value:.3f} mm" if finding is not None else "one screw"


ONE_SCREW = "one lead screw carries Z: there is nothing to bring square"


def _idle(machine: MachineFile) -> str:
    return ONE_SCREW if len(machine.axes.z.motors) < 2 else "" if senses(machine) else NO_PROBE


def _uses(machine: MachineFile) -> tuple[Capability, ...]:
    return probing_uses(machine) if len(machine.axes.z.motors) > 1 else ()


USUAL_ROUNDS, MOVED_S = 3, 5.0
"""Rounds that it usually takes, and the time of moving the lifts in each, s."""


def _lasts(machine: MachineFile, aim: LiftParameters, times: TrialTimes) -> float:
    lifts, samples = len(machine.axes.z.motors), aim.samples or (machine.probe.samples if machine.probe else 1)
    rounds_s = USUAL_ROUNDS * (times.touches_s(machine, lifts, samples, 250.0) + MOVED_S)
    return times.home_s(machine) + warming_s(machine, aim, times) + rounds_s + times.axis_s(machine, "z")


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "lead-screws",
        "lead screws",
        "The bed square to the frame: touched near every lift, each moved by the height error at its side.",
        LiftParameters,
        lead_screws,
        (TOUCHES, ROUNDS),
        _announce,
        _needs,
        figure=_figure,
        verify="lead-screws",
        mends=True,
        lasts=_lasts,
        uses=_uses,
        idle=_idle,
        facts=squared_facts,
    ),
)
