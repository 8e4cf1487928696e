"""The trial of the station *travel limits* after a new part: each axis slowly to its ends, the builder looking on.

What a mount, a duct or a clip hits is stopped by any key, freed by jogging, and becomes a limit.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from ublet.core.acts import ClearWay
from ublet.core.bench import Bench
from ublet.core.level.mesh.live import unfollowed
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import UNHOMED_MM_S
from ublet.core.motion.homing_moves import axis_of, home_axis, home_unhomed, moving, number_of, preheat_words
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.program import Program, To
from ublet.core.observations import FreeAgain, WatchClearance
from ublet.core.questions import Confirm, Jog, Live
from ublet.core.remedy import ByHand, GoTo, Remedy, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.words import several

End = Literal["low", "high"]
ENDS: tuple[End, End] = ("low", "high")
STOP, FREE, GIVE_UP = "it touches: stop", "free again", "stop here"
ANY_KEY_STOPS = "Any key stops it as soon as something touches, binds or is pulled tight."
LOOK_S = 0.1
STANDS_S, REACTION_S = 1.0, 1.5
"""Braking takes no longer; a key that is pressed so long after an axis came to its end still counts, s."""

PIECE_MM = 2.0
"""An axis that is not homed seeks its end in pieces of this, so that a key stops it at once, mm."""

GO_ON = "it is free: go on"

MARGIN_MM = 1.0
"""Kept between where it was free again and the limit, mm."""

FREE_U_MM = 0.3
"""Where it is free again is felt and seen within this, half-width, mm."""

LOST_MM = 0.2
"""An end that is found further off when the axis homes again means lost steps, mm."""

BEYOND_MM = 10.0
"""Distance beyond its length that an axis seeks its end, mm."""

STEPS_MM = (5.0, 1.0, 0.5)
LOWEST_Z_MM = 5.0
"""Z goes down no further: the bed is no part that it could hit unawares, mm."""

WENT = Stream("went", ("axis", "end", "mm", "free"), ("", "", "mm", ""))
"""Every end that was gone to: how far it is free (1) to its limit, or where it was stopped (0)."""


class ClearanceParameters(Part):
    """Which axes, how fast, how high."""

    axes: Literal["all", "x", "y", "z"] = setting("Axes to look at.", default="all")
    speed_mm_s: float = setting("Speed of X and Y; Z goes at a third.", unit="mm/s", low=1, high=50, default=12.0)
    height_mm: float = setting("The nozzle's height while X and Y go.", unit="mm", low=1, high=200, default=8.0)


@dataclass(frozen=True)
class EndReached:
    """How far an axis went towards an end: the limit that it was to reach, and where it was free again, by its own
    count, mm; None: it is free all the way.
    """

    axis: str
    end: End
    limit_mm: float
    free_mm: float | None = None


async def part_clearance(bench: Bench, aim: ClearanceParameters) -> TrialResult:
    """Each axis slowly to both ends. Any key brakes it; the builder jogs it free, and it homes again, so that steps
    that were lost against the obstacle are counted.

    Raises:
        TrialFailed: the builder gives up.
    """
    machine = bench.machine
    axes = ("x", "y", "z") if aim.axes == "all" else (aim.axes,)
    bench.motion.clear_at_the_end(aim.height_mm)
    bound = [await _towards_its_end(bench, axis, aim) for axis in axes if axis != "z"]
    await home_unhomed(bench, ("x", "y", "z"))
    reached: list[EndReached] = []
    async with bench.settings.borrowed(unfollowed(bench)):
        await bench.motion.go({"z": aim.height_mm}, machine.axes.z.homing.fast_mm_s)
        for number, axis in enumerate(axes):
            reached += await _both_ends(bench, axis, aim, number / len(axes), 1 / len(axes))
    return _concluded(bench, reached, [one for one in bound if one is not None])


async def _towards_its_end(bench: Bench, axis: str, aim: ClearanceParameters) -> EndReached | None:
    """An axis that is not homed towards its switch, in small pieces under the builder's eye; where something bound on
    the way, as far from the end as it then still had to go. None: nothing did, or it is homed, or has no switch.

    Raises:
        TrialFailed: the builder gives up, or no switch comes.
    """
    homing, lift = axis_of(bench.machine, axis).homing, bench.machine.axes.z.homing.lift_mm
    name = f"endstops.{homing.endstop}"
    if bench.motion.position(axis) is not None or homing.end == "probe" or name not in bench.probe.inputs():
        return None
    if lift and bench.motion.position("z") is None:
        await bench.motion.move("z", lift, min(UNHOMED_MM_S, bench.machine.axes.z.homing.fast_mm_s))
    end: End = "high" if homing.end == "high" else "low"
    way = 1 if end == "high" else -1
    length = number_of(bench, f"axes.{axis}.maximum_mm") - number_of(bench, f"axes.{axis}.minimum_mm")
    gone_mm, bound_mm = 0.0, None
    while not bench.probe.inputs()[name].triggered:
        if gone_mm > length + BEYOND_MM:
            raise TrialFailed(
                f"{axis.upper()} went {gone_mm:.0f} mm towards its {end} end and no switch triggered.",
                GoTo("inputs by hand", f"the end of {axis.upper()} must read when it is pressed"),
                GoTo("directions", f"{axis.upper()} must go towards its end"),
            )
        asked = Live(
            f"{axis.upper()} is not homed: it goes towards its {end} end at {aim.speed_mm_s:g} mm/s. {ANY_KEY_STOPS}",
            (STOP,),
            WatchClearance(axis, end),
            any_key=True,
        )
        async with bench.builder.live(asked) as controls:
            while controls.answer is None and gone_mm <= length + BEYOND_MM:
                if bench.probe.inputs()[name].triggered:
                    break
                bench.progress(Progress(f"{axis.upper()} to its end", 0.0, None, f"{gone_mm:.0f} mm", axis))
                await bench.motion.move(axis, way * PIECE_MM, min(UNHOMED_MM_S, aim.speed_mm_s))
                gone_mm += PIECE_MM
            stopped = controls.answer is not None
        if stopped:
            bound_mm = gone_mm
            await _freed(bench, axis, end)
            gone_mm += 2 * PIECE_MM * -1  # it was jogged back, and goes there again
    if bound_mm is None:
        return None
    limit = number_of(bench, f"axes.{axis}.{'maximum' if end == 'high' else 'minimum'}_mm")
    return EndReached(axis, end, limit, limit - way * max(0.0, gone_mm - bound_mm))


async def _freed(bench: Bench, axis: str, end: End) -> None:
    """Back a little; then the builder takes away what touched.

    Raises:
        TrialFailed: the builder gives up.
    """
    await bench.motion.move(axis, 2 * PIECE_MM * (1 if end == "low" else -1), min(UNHOMED_MM_S, 5.0))
    asked = Confirm(
        f"{axis.upper()} stands {2 * PIECE_MM:g} mm back. Take away or bind back what touched: its switch must be "
        "reached before it knows where it stands.",
        (GO_ON, GIVE_UP),
        ClearWay(axis, end),
    )
    if await bench.builder.ask(asked) != GO_ON:
        raise TrialFailed(
            f"Something binds on the way of {axis.upper()} to its end; it was not homed.",
            ByHand(f"clear the way of {axis.upper()} to its switch"),
            StartAgain(),
        )


async def _both_ends(bench: Bench, axis: str, aim: ClearanceParameters, done: float, whole: float) -> list[EndReached]:
    """One axis to both of its ends, from its middle; Z from where it stands."""
    speed = aim.speed_mm_s / (3 if axis == "z" else 1)
    low, high = (number_of(bench, f"axes.{axis}.{key}") for key in ("minimum_mm", "maximum_mm"))
    middle = (low + high) / 2
    reached = []
    for number, end in enumerate(ENDS):
        if axis == "z" and end == "low":
            continue
        if axis != "z":
            await bench.motion.go({axis: middle}, speed)
        limit = low if end == "low" else high
        fraction = done + whole * number / len(ENDS)
        free = await _to_the_end(bench, axis, end, limit, speed, fraction)
        if free is not None:
            free = await _as_it_stood(bench, axis, free)
        reached.append(EndReached(axis, end, limit, free))
        bench.record.row(
            WENT.name,
            (float("xyz".index(axis)), float(number), limit if free is None else free, float(free is None)),
        )
    if axis == "z":
        await bench.motion.go({"z": aim.height_mm}, bench.machine.axes.z.homing.fast_mm_s)
    else:
        await bench.motion.go({axis: middle}, speed)
    return reached


async def _to_the_end(bench: Bench, axis: str, end: End, limit: float, speed: float, fraction: float) -> float | None:
    """Go there unless a key stops it; where it is free again then, None: it came there."""
    way = {"x": ("left", "right"), "y": ("to the front", "to the back"), "z": ("down", "up")}[axis][end == "high"]
    asked = Live(
        f"{axis.upper()} goes {way} to {limit:g} mm at {speed:g} mm/s. Look at every part on the carriage, its cables "
        f"and hoses. {ANY_KEY_STOPS}",
        (STOP,),
        WatchClearance(axis, end),
        any_key=True,
    )
    table = bench.motion.timetable(Program(f"{axis} {end}", (To({axis: limit}, speed),)))
    async with bench.motion.run(table) as run, bench.builder.live(asked) as controls:
        while run.ended is None and controls.answer is None:
            await bench.clock.rest(LOOK_S)
            with bench.aside():
                here = bench.motion.position(axis)
            words = f"{axis.upper()} {way}, at {here:.0f} mm" if here is not None else f"{axis.upper()} {way}"
            bench.progress(Progress(words, fraction, None, f"to {limit:g} mm", axis))
        late_s = bench.clock.now_s() + REACTION_S
        while controls.answer is None and bench.clock.now_s() < late_s:
            await bench.clock.rest(LOOK_S)
        stopped = controls.answer is not None
        if stopped and run.ended is None:
            await run.hold(True)  # it brakes along its way, and so knows where it stands
            await bench.clock.rest(STANDS_S)
    if not stopped:
        return None
    back = 1 if end == "low" else -1
    freed = await bench.builder.jog(
        Jog(
            f"{axis.upper()} stands. Jog it back until what touched is just free again ({axis}{back:+d}), and say so.",
            (FREE, GIVE_UP),
            FreeAgain(axis, end),
            axes=(axis,),
            steps=STEPS_MM,
        ),
        speed,
    )
    if freed.answer == GIVE_UP:
        raise TrialFailed(
            "Stopped before it was known where the part is free: no limit is proposed.",
            StartAgain(),
            ByHand(f"free {axis.upper()} by hand"),
        )
    return freed.position[axis]


async def _as_it_stood(bench: Bench, axis: str, free_mm: float) -> float:
    """Where an axis really stood: it homes again, and what its count was off by is taken away."""
    bench.progress(Progress(f"axis {axis.upper()}", 0.95, None, "homing again: is the count still right?", axis))
    shift = await home_axis(bench, axis) or 0.0
    return free_mm - (shift if abs(shift) > LOST_MM else 0.0)


def _concluded(bench: Bench, reached: Sequence[EndReached], on_the_way: Sequence[EndReached]) -> TrialResult:
    findings: list[Finding] = []
    proposals: list[Proposal] = []
    words: list[str] = []
    advice: list[Remedy] = []
    u = FREE_U_MM / math.sqrt(3)
    for one in on_the_way:
        assert one.free_mm is not None
        before = abs(one.limit_mm - one.free_mm)
        subject = {"axis": one.axis}
        findings.append(
            Finding(
                "bound_before_end", before, PIECE_MM / math.sqrt(3), "mm", subject=subject, words="bound before its end"
            )
        )
        words.append(
            f"before it was homed {one.axis.upper()} bound about {before:.0f} mm before its switch; that was taken away"
        )
    for one in reached:
        free = one.limit_mm if one.free_mm is None else one.free_mm
        subject = {"axis": one.axis}
        named = f"{one.axis.upper()} {'below' if one.end == 'low' else 'above'}"
        findings.append(Finding(f"free_{one.end}", free, u, "mm", subject=subject, words=f"free {one.end}"))
        if one.free_mm is None:
            continue
        homed = axis_of(bench.machine, one.axis).homing.end == one.end
        words.append(f"something binds at {named} {free:.1f} mm, {abs(one.limit_mm - free):.1f} mm before the limit")
        if homed:
            words.append(f"{one.axis.upper()} homes to that end, so that no limit helps: the part has to go")
            advice.append(ByHand(f"move or shorten what binds at {named} {free:.0f} mm: its switch must be reached"))
            continue
        inward = 1 if one.end == "low" else -1
        limit = round(math.floor(inward * (free + inward * MARGIN_MM) * 2 + 0.5) / 2 * inward, 1)
        path = f"axes.{one.axis}.{'minimum' if one.end == 'low' else 'maximum'}_mm"
        effect = f"{MARGIN_MM:g} mm off what it would hit"
        proposals.append(Proposal(path, bench.settings.shown(path), limit, "mm", effect))
        advice.append(ByHand(f"or move what binds at {named} {free:.0f} mm"))
    if not advice and not proposals:
        seen = f" {words[0][0].upper()}{words[0][1:]}." if words else ""
        axes = several(sorted({one.axis.upper() for one in reached}))
        return TrialResult("proven", f"{axes} go to their ends and touch nothing.{seen}", {}, tuple(findings))
    why = f"{'; '.join(words)}."
    why = f"{why[0].upper()}{why[1:]} Mesh, patches and prints keep within the new limits; the bed’s corner stays at 0."
    if not proposals:
        return TrialResult("failed", why, {}, tuple(findings), remedies=tuple(advice))
    option = Option("as far as it is free", "then look once more", tuple(proposals), {})
    again = GoTo("bed mesh", "its area follows the limits")
    return TrialResult("failed", why, {}, tuple(findings), (option,), option.name, (*advice, again))


def _needs(machine: MachineFile, aim: ClearanceParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return motion_needs(machine, aim, read)


def _announce(machine: MachineFile, aim: ClearanceParameters) -> str:
    axes = "X, Y and Z" if aim.axes == "all" else aim.axes.upper()
    return (
        f"Homes axes not yet homed, then takes {axes} slowly to the ends, {aim.height_mm:g} mm over the bed, while you "
        f"look on: any key stops it where a part touches. {preheat_words(machine, ('x', 'y', 'z'))}"
    )


A_WAY_S = 6.0
"""A way to an end besides its length: the steps that it is made of, s."""


def _lasts(machine: MachineFile, aim: ClearanceParameters, times: TrialTimes) -> float:
    total = times.home_s(machine)
    for name in ("x", "y") if aim.axes == "all" else (aim.axes,):
        axis = axis_of(machine, name)
        total += 2 * ((axis.maximum_mm - axis.minimum_mm) / aim.speed_mm_s + A_WAY_S)
    if aim.axes in ("all", "z"):
        z = machine.axes.z
        up = z.maximum_mm - aim.height_mm
        total += (
            A_WAY_S
            + up / min(aim.speed_mm_s / 3, z.maximum_feed_mm_s)
            + up / min(z.homing.fast_mm_s, z.maximum_feed_mm_s)
        )
    return total


def _figure(result: TrialResult) -> str:
    return "all free" if result.outcome == "proven" else "binds"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "part-clearance",
        "travel limits",
        "What could a new part hit: each axis slowly to its ends, stopped by any key where it binds.",
        ClearanceParameters,
        part_clearance,
        (WENT,),
        _announce,
        _needs,
        figure=_figure,
        mends=True,
        verify="part-clearance",
        idle=lambda machine: "after a new mount or carriage part",
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs"),
        facts=facts("probe", "nozzle"),
    ),
)
