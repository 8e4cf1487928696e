"""The trial that finds the reachable area: the builder jogs to the bed's corner and the far edges; limits follow."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from ublet.core.bench import Bench
from ublet.core.level.reach import margin_follows
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import (
    axis_of,
    go_to,
    home_axis,
    moving,
    number_of,
    preheat_words,
    with_those_before,
)
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.observations import JogToCorner, JogToEdge
from ublet.core.questions import Jog
from ublet.core.remedy import ByHand, ChangeSetting, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import Part, setting
from ublet.core.trial import TrialSpec
from ublet.core.trial_times import TrialTimes, backs_s

EDGE_MM = 0.5
"""Kept between a marked edge and the soft limit, mm."""

EYE_MM = 0.3
"""A place judged by eye is right to within this, mm."""

STEP_MM = 0.1
"""Limits are given in steps of this, mm."""


@dataclass(frozen=True)
class AxisTravel:
    """An axis's limits by its marks, mm from the bed's corner; low and high are what to declare.

    shift_mm: how far the declared zero is from the bed's corner.
    """

    low: float
    high: float
    shift_mm: float


def reach_of(low_now: float, high_now: float, homes_low: bool, corner_mm: float, edge_mm: float) -> AxisTravel:
    """The limits of an axis from where it stood, as it counts, over the bed's corner and at its far edge.

    Homing sets the limit at the homed end, so that moving the zero to the corner moves that limit by the corner's
    reading the other way; the far edge counts from the corner, less :data:`EDGE_MM`.
    """
    if homes_low:
        low = round(low_now - corner_mm, 2)
        high = _down(edge_mm - corner_mm - EDGE_MM)
    else:
        high = round(high_now - corner_mm, 2)
        low = -_down(-(edge_mm - corner_mm + EDGE_MM))
    return AxisTravel(low, high, corner_mm)


def _down(mm: float) -> float:
    return round(math.floor(mm / STEP_MM + 1e-9) * STEP_MM, 2)


def bed_reached(low: float, high: float, bed_mm: float) -> float:
    """How much of the bed's width or depth the nozzle reaches, mm."""
    return max(0.0, min(high, bed_mm) - max(low, 0.0))


AXES = ("x", "y")
HERE = "here"
WORTH_MM = 5.0
"""Further travel of less than this is not worth a change, mm."""


class TravelParameters(Part):
    """How fast the axes move while the builder jogs."""

    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=1, high=200, default=40.0)


async def travel_limits(bench: Bench, aim: TravelParameters) -> TrialResult:
    """Home, then jog: over the bed's front left corner, to each far edge; the limits follow from the marks."""
    machine = bench.machine
    with bench.aside():
        order = with_those_before(machine, AXES)
    for name in order:
        bench.progress(Progress(f"axis {name.upper()}", 0.0, None, "homing first"))
        await home_axis(bench, name)
    lifted = {f"axes.{name}.soft_limits": False for name in AXES}
    async with bench.settings.borrowed(lifted):
        corner = await _mark(bench, AXES, JogToCorner(AXES), "over the bed's front left corner", 0.1, aim)
        edges = {}
        for number, name in enumerate(AXES):
            end: Literal["low", "high"] = "high" if axis_of(machine, name).homing.end == "low" else "low"
            side = _side_words(name, end)
            words = f"as far {side} as it goes freely, a finger's width from its stop"
            cue = JogToEdge(name, end)
            edges[name] = (await _mark(bench, (name,), cue, words, 0.4 + 0.3 * number, aim))[name]
        for name in order:
            await go_to(bench, name, corner[name], aim.speed_mm_s)  # no further from the end than homing seeks it
            bench.progress(Progress(f"axis {name.upper()}", 0.9, None, "homing again: is the count still right?"))
            shift = await home_axis(bench, name)
            if shift is None or abs(shift) > EYE_MM:
                raise TrialFailed(
                    f"{name.upper()} lost {abs(shift or 0.0):.1f} mm on the way: it ran against its stop. Start again, "
                    "and stay a finger's width off the stops.",
                    StartAgain("and stay a finger's width off the stops"),
                )
    reaches = {}
    for name in AXES:
        low, high = (number_of(bench, f"axes.{name}.{end}_mm") for end in ("minimum", "maximum"))
        reaches[name] = reach_of(low, high, axis_of(machine, name).homing.end == "low", corner[name], edges[name])
    return _result(bench, reaches)


async def _mark(
    bench: Bench,
    axes: tuple[str, ...],
    cue: JogToCorner | JogToEdge,
    words: str,
    fraction: float,
    aim: TravelParameters,
) -> dict[str, float]:
    """Let the builder jog until the nozzle stands at a place; returns where the axes count to be, mm."""
    named = " and ".join(axis.upper() for axis in axes)
    text = f"Jog {named} until the nozzle stands {words}. Its limits are lifted for this."
    corner = isinstance(cue, JogToCorner)
    place = "corner" if isinstance(cue, JogToCorner) else f"{cue.axis} {cue.end}"
    bench.progress(Progress(f"mark {place}", fraction, None, f"at {aim.speed_mm_s:g} mm/s"))
    question = Jog(text, (HERE, "cannot get there"), cue, axes=axes)
    jogged = await bench.builder.jog(question, aim.speed_mm_s)
    if jogged.answer != HERE:
        raise TrialFailed(
            f"The nozzle cannot get {words}: nothing was concluded.",
            ByHand(f"free the way of {named}"),
            ChangeSetting(f"axes.{axes[0]}", "its travel"),
        )
    for axis, mm in jogged.position.items():
        bench.record.row("marks", (float("xyz".index(axis)), float(corner), mm))
    return dict(jogged.position)


def _result(bench: Bench, reaches: Mapping[str, AxisTravel]) -> TrialResult:
    findings: list[Finding] = []
    proposals: list[Proposal] = []
    words: list[str] = []
    for name, reach in reaches.items():
        side, size = ("width", bench.machine.bed.width_mm) if name == "x" else ("depth", bench.machine.bed.depth_mm)
        reach_findings = (
            Finding("low", reach.low, EYE_MM, "mm"),
            Finding("high", reach.high, EYE_MM, "mm"),
            Finding("zero_to_corner", reach.shift_mm, EYE_MM, "mm"),
            Finding("bed_reached", bed_reached(reach.low, reach.high, size), EYE_MM, "mm"),
        )
        findings += about({"axis": name}, reach_findings)
        if abs(reach.shift_mm) > 2 * EYE_MM:
            words.append(f"The bed's corner is at {name.upper()} {reach.shift_mm:+.1f}, not at 0.")
        if (short := size - bed_reached(reach.low, reach.high, size)) > EDGE_MM:
            words.append(f"{short:.1f} mm of the bed's {side} are out of reach.")
        homed = "low" if axis_of(bench.machine, name).homing.end == "low" else "high"
        for end, key, value in (("low", "minimum_mm", reach.low), ("high", "maximum_mm", reach.high)):
            path = f"axes.{name}.{key}"
            now = number_of(bench, path)
            # what is homed follows the corner; a far edge is only worth changing when it is nearer, or much further
            gain = value - now if end == "high" else now - value
            significant = abs(value - now) > 2 * EYE_MM if end == homed else gain < -2 * EYE_MM or gain > WORTH_MM
            if significant:
                effect = "the bed's corner counts as 0; home again" if end == homed else _edge_words(gain)
                proposals.append(Proposal(path, now, value, "mm", effect))
    if not proposals:
        sentence = " ".join(words) or "The bed's corner is where the file says, and the edges are free."
        return TrialResult("proven", sentence, {}, tuple(findings))
    words.append("One limit does not fit." if len(proposals) == 1 else f"{len(proposals)} limits do not fit.")
    proposals += margin_follows(bench.machine, proposals)
    option = Option("mend", "then home and mark them again", tuple(proposals), {})
    return TrialResult("failed", " ".join(words), {}, tuple(findings), (option,), "mend")


def _edge_words(gain_mm: float) -> str:
    return f"{gain_mm:.1f} mm more can be reached" if gain_mm > 0 else f"keeps {EDGE_MM:g} mm off the stop"


def _side_words(name: str, end: str) -> str:
    return {"x": {"low": "left", "high": "right"}, "y": {"low": "to the front", "high": "to the back"}}[name][end]


def _announce(machine: MachineFile, aim: TravelParameters) -> str:
    return (
        f"Homes X and Y, then moves only when you jog, at {aim.speed_mm_s:g} mm/s, with their soft limits lifted "
        f"until the end: a carriage can be driven into its stop. {preheat_words(machine, AXES)}"
    )


A_MARK_S = 4.0
"""Motion around the places that are marked besides the ways to them, s."""


def _lasts(machine: MachineFile, aim: TravelParameters, times: TrialTimes) -> float:
    homed_again_s = sum(backs_s(axis_of(machine, name)) for name in AXES)
    ways_mm = sum(axis_of(machine, name).maximum_mm - axis_of(machine, name).minimum_mm for name in AXES)
    return times.home_s(machine, AXES) + 2 * ways_mm / aim.speed_mm_s + homed_again_s + A_MARK_S


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "travel-limits",
        "travel limits",
        "The bed's corner and the far edges of X and Y marked by jogging; soft limits follow.",
        TravelParameters,
        travel_limits,
        (Stream("marks", ("axis", "corner", "mm"), ("", "", "mm")),),
        _announce,
        motion_needs,
        figure=lambda result: " × ".join(f"{finding.value:.0f}" for finding in result.all_of("bed_reached")),
        verify="travel-limits",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving(),
    ),
)
