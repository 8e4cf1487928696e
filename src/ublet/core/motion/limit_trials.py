"""Trials that raise speed and acceleration, or lower the driver current, until steps are lost, and keep a margin."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Literal

from ublet.core.bench import Bench
from ublet.core.capabilities import Capability
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.counting import TRIES, LossPattern, inward, keeps_count, loss_directions, pattern_s
from ublet.core.motion.homing_moves import (
    axis_of,
    home_unhomed,
    moving,
    number_of,
    preheat_words,
    with_those_before,
)
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.limits import Bracket, highest, lowest, tidy
from ublet.core.observations import WatchSpeed
from ublet.core.questions import Live
from ublet.core.remedy import ByHand, GoTo
from ublet.core.run import Finding, Option, Proposal, Subject, TrialFailed, TrialResult
from ublet.core.settings import Part, Value, setting
from ublet.core.trial import TrialSpec
from ublet.core.trial_times import TrialTimes
from ublet.core.units import show
from ublet.core.words import several

LOWEST_FRACTION = 0.15
"""Less than this share of the declared value is not tried."""

COARSE = 0.1
LEAST_A = 0.1
EXCESS_RATIO = 2.0
"""A current above this ratio to the least is worth lowering: the motor only gets hot."""


class LimitParameters(Part):
    """Which axes, how far up, and the margin that is kept."""

    axis: Literal["all", "x", "y", "z"] = setting("Axis to try, or all.", default="all")
    up_to: float = setting("Largest value to try, times the declared one.", low=1, high=5, default=2.0)
    margin: float = setting("Share of what holds that is used.", low=0.3, high=0.95, default=0.75)


class DriverCurrentParameters(Part):
    """Which axes, and how much more than the least current is used."""

    axis: Literal["all", "x", "y", "z"] = setting("Axis to try, or all.", default="all")
    margin: float = setting("Times the least current that is used.", low=1.1, high=3, default=1.5)


async def speed_limits(bench: Bench, aim: LimitParameters) -> TrialResult:
    """Each axis faster, then with more acceleration, until it loses steps; the limits keep a margin from that.

    Axes that share their motors are tried together, along both diagonals first: there one motor carries everything. The
    limit holds for the worst direction.
    """
    findings: list[Finding] = []
    proposals: list[Proposal] = []
    words: list[str] = []
    groups = tuple(motor_groups(bench.machine, aim.axis))
    await home_unhomed(bench, tuple(axis for axes in groups for axis in axes))
    for number, axes in enumerate(groups):
        named = several([axis.upper() for axis in axes])
        feeds, accelerations = (_numbers(bench, axes, key) for key in FEED_AND_ACCELERATION)
        top = await _fastest(bench, feeds)
        for part, (what, key, unit) in enumerate(LIMITED):
            now = (feeds, accelerations)[part]
            most = aim.up_to if part else max(1.0, min(aim.up_to, top))
            asked = Live(
                f"{named} {'run' if len(axes) > 1 else 'runs'} there and back, with more {what} each time.",
                (ENOUGH,),
                WatchSpeed(),
            )
            async with bench.builder.live(asked) as said:

                async def holds(times: float, number: int = number, part: int = part) -> bool | None:
                    fraction = (number + part / 2) / len(groups)
                    rates = {axis: mm * (1.0 if part else times) for axis, mm in feeds.items()}  # noqa: B023
                    hard = {axis: mm * (times if part else 1.0) for axis, mm in accelerations.items()}  # noqa: B023
                    for directions in loss_directions(bench.machine, axes):  # noqa: B023
                        if said.answer is not None:
                            return None
                        if not await keeps_count(bench, LossPattern(directions, rates, hard), axes, {}, fraction):  # noqa: B023
                            return False
                    return True

                limit = await highest(holds, 1.0, most, LOWEST_FRACTION)
            if limit.holds is None and said.answer is not None:
                words.append(f"{named}'s {what} was not tried: you called it fast enough.")
                continue
            if limit.holds is None:
                raise TrialFailed(
                    f"Steps are lost even at {100 * LOWEST_FRACTION:.0f} % of {named}'s {what}: look at the driver "
                    "current and whether something binds.",
                    GoTo("speed limits", "the current of its driver", "driver-current"),
                    ByHand(f"look what binds on {named}"),
                )
            for axis in axes:
                own = limit.times(now[axis])
                findings += (learnt := _findings(what, {"axis": axis}, own, unit))
                bench.record.found(*learnt)
                words.append(_limit_words(axis, what, now[axis], own, unit, aim.margin))
                if own.holds is not None and _too_near(now[axis], own, aim.margin):
                    safe = tidy(own.holds * aim.margin, down=True)
                    effect = f"keeps {100 * (1 - aim.margin):.0f} % below what held"
                    proposals.append(Proposal(f"axes.{axis}.{key}", now[axis], safe, unit, effect))
            if part == 0 and limit.holds < 1.0:
                words.append(f"{named}'s acceleration is tried once that feed is kept.")
                break
        if len(axes) > 1:
            words.append(f"{named} share their motors: this holds along the diagonals, where one motor carries both.")
    return _settled(findings, proposals, words)


async def driver_current(bench: Bench, aim: DriverCurrentParameters) -> TrialResult:
    """The driver current lowered until steps are lost at full speed; the setting keeps a margin above that."""
    findings: list[Finding] = []
    proposals: list[Proposal] = []
    words: list[str] = []
    short = False
    groups = motor_groups(bench.machine, aim.axis)
    await home_unhomed(bench, tuple(axis for axes in groups for axis in axes))
    for number, (axes, motors) in enumerate(groups.items()):
        named = several([axis.upper() for axis in axes])
        now = max(number_of(bench, f"{motor}.run_a") for motor in motors)
        feeds, accelerations = (_numbers(bench, axes, key) for key in FEED_AND_ACCELERATION)

        async def holds(amps: float, number: int = number) -> bool:
            currents: dict[str, Value] = {f"{motor}.run_a": amps for motor in motors}  # noqa: B023
            for directions in loss_directions(bench.machine, axes):  # noqa: B023
                pattern = LossPattern(directions, feeds, accelerations)  # noqa: B023
                if not await keeps_count(bench, pattern, axes, currents, number / len(groups)):  # noqa: B023
                    return False
            return True

        limit = await lowest(holds, now, LEAST_A, 1.5 * now)
        findings += (learnt := _findings("current", {"axis": axes[0]}, limit, "A"))
        bench.record.found(*learnt)
        if limit.holds is None:
            raise TrialFailed(
                f"Steps are lost on {named} even at {1.5 * now:.2f} A: too fast, or does something bind?",
                ByHand(f"look what binds on {named}"),
                GoTo("speed limits", "a speed that the motors carry", "speed-limits"),
            )
        wanted = tidy(limit.holds * aim.margin, down=False)
        ratio = now / limit.holds
        words.append(
            f"{named} need{'' if len(axes) > 1 else 's'} {limit.holds:.2f} A at full speed; {now:g} A are set, "
            f"{ratio:.1f} times that."
        )
        weak = ratio < 1 + (aim.margin - 1) / 2
        if weak or ratio > max(EXCESS_RATIO, aim.margin * 1.2):
            effect = "runs cooler with the margin kept" if wanted < now else "carries its load with a margin"
            proposals += _currents(bench, motors, wanted, effect)
            words.append("Too little." if weak else "That works; less would keep it cooler.")
            short = short or weak
        else:
            words.append("Leave it.")
    return _settled(findings, proposals, words, failed=short)


def _numbers(bench: Bench, axes: tuple[str, ...], key: str) -> dict[str, float]:
    """A live number of each axis."""
    return {axis: number_of(bench, f"axes.{axis}.{key}") for axis in axes}


def _currents(bench: Bench, motors: tuple[str, ...], wanted: float, effect: str) -> list[Proposal]:
    """A running current for these motors, and an idle one that is no higher."""
    currents = []
    for motor in motors:
        currents.append(Proposal(f"{motor}.run_a", bench.settings.shown(f"{motor}.run_a"), wanted, "A", effect))
        idle = bench.settings.shown(f"{motor}.idle_a")
        if isinstance(idle, (int, float)) and idle > wanted:
            currents.append(Proposal(f"{motor}.idle_a", idle, wanted, "A", "holds with no more than it runs with"))
    return currents


ENOUGH = "fast enough"
"""The builder may end the search there: what held so far is then the most that is known to hold."""

FEED_AND_ACCELERATION = ("maximum_feed_mm_s", "acceleration_mm_s2")
LIMITED = (("feed", "maximum_feed_mm_s", "mm/s"), ("acceleration", "acceleration_mm_s2", "mm/s²"))
"""What is limited: in words, its setting, its unit."""


def motor_groups(machine: MachineFile, axis: str) -> dict[tuple[str, ...], tuple[str, ...]]:
    """Axes with the motors that carry them, those that share them together."""

    def motors(name: str) -> tuple[str, ...]:
        return tuple(f"axes.{name}.motors.{motor}" for motor in axis_of(machine, name).motors)

    groups = machine.machine.layout.groups(_wanted(axis))
    return {axes: tuple(motor for name in axes for motor in motors(name)) for axes in groups}


async def _fastest(bench: Bench, feeds: Mapping[str, float]) -> float:
    """How many times these feeds the board's step rate gives at the most, in the worst direction; found by asking for
    more than any machine does.
    """
    least = math.inf
    for directions in loss_directions(bench.machine, tuple(feeds)):
        with bench.aside():
            here = {axis: bench.motion.position(axis) or 0.0 for axis in directions}
            away = {
                axis: direction * inward(bench.machine, axis) * feeds[axis] for axis, direction in directions.items()
            }
        path = math.hypot(*away.values())
        unlimited: dict[str, Value] = {f"axes.{axis}.maximum_feed_mm_s": FASTEST_MM_S for axis in directions}
        async with bench.settings.borrowed(unlimited):
            used = await bench.motion.go(
                {axis: here[axis] + 0.01 * away[axis] / path for axis in directions}, FASTEST_MM_S
            )
            await bench.motion.go(here, FASTEST_MM_S)
        least = min(least, used / path)
    return least


FASTEST_MM_S = 2000.0


def _findings(what: str, axis: Subject, limit: Bracket, unit: str) -> list[Finding]:
    if limit.limit is None:
        return []
    if what == "current":
        return [Finding("least_current", limit.limit, limit.uncertainty, unit, subject=axis)]
    kept = f"{what}_limit" if limit.fails is not None else f"{what}_holds"
    return [Finding(kept, limit.limit, limit.uncertainty, unit, subject=axis)]


def _limit_words(name: str, what: str, now: float, limit: Bracket, unit: str, margin: float) -> str:
    if limit.holds is None:
        return ""
    if limit.fails is None:
        return (
            f"{name.upper()} holds {show(limit.holds, unit, 3)} at least; {show(now, unit, 3)} is declared. Leave it."
        )
    phrase = f"{name.upper()}: no steps lost at {show(limit.holds, unit, 3)}, lost at {show(limit.fails, unit, 3)}"
    verdict = ", too near" if _too_near(now, limit, margin) else ": leave it"
    return f"{phrase}; {show(now, unit, 3)} is declared{verdict}."


def _too_near(now: float, limit: Bracket, margin: float) -> bool:
    """Whether a declared value needs lowering; the search's own coarseness must not make it lower each time."""
    return limit.holds is not None and limit.fails is not None and now > limit.holds * (margin + COARSE)


def _settled(findings: list[Finding], proposals: list[Proposal], words: list[str], failed: bool = True) -> TrialResult:
    """The result; failed: the proposals mend something. Otherwise they improve what works, and that is proven."""
    why = " ".join(words)
    if not proposals:
        return TrialResult("proven", why, {}, tuple(findings))
    name = "mend" if failed else "improve"
    option = Option(name, "then try again", tuple(proposals), {})
    return TrialResult("failed" if failed else "proven", why, {}, tuple(findings), (option,), name)


def _wanted(axis: str) -> tuple[str, ...]:
    return ("x", "y", "z") if axis == "all" else (axis,)


def _announce_speed(machine: MachineFile, aim: LimitParameters) -> str:
    wanted = tuple(axis for axes in motor_groups(machine, aim.axis) for axis in axes)
    trials_words = ", ".join(
        f"{name.upper()} up to {aim.up_to * axis_of(machine, name).maximum_feed_mm_s:g} mm/s and "
        f"{aim.up_to * axis_of(machine, name).acceleration_mm_s2:g} mm/s²"
        for name in wanted
    )
    warm = preheat_words(machine, with_those_before(machine, wanted))
    shared = any(len(axes) > 1 for axes in motor_groups(machine, aim.axis))
    directions = "there and back, along X, Y and both diagonals," if shared else "there and back,"
    return f"Homes, then runs {directions} faster each time: {trials_words}. It will lose steps on purpose. {warm}"


def _announce_current(machine: MachineFile, aim: DriverCurrentParameters) -> str:
    groups = motor_groups(machine, aim.axis)
    named = ", ".join(axis.upper() for axes in groups for axis in axes)
    warm = preheat_words(machine, with_those_before(machine, _wanted(aim.axis)))
    return (
        f"Homes, then runs {named} there and back at full speed with less current each time, down to {LEAST_A:g} A at "
        f"most. It will lose steps on purpose; a vertical axis may sink a little. {warm}"
    )


def _x_feed(result: TrialResult) -> str:
    limit = result.finding("feed_limit", axis="x") or result.finding("feed_holds", axis="x")
    return f"{limit.value:.0f} mm/s" if limit is not None else ""


SPEED_TRIES, CURRENT_TRIES = 5, 8
"""How many values are usually tried until the limit is bracketed."""


def _tries_s(machine: MachineFile, axis: str, tries: float, times: TrialTimes) -> float:
    """Duration of homing and of `tries` tries of each group of axes in each of its directions, s."""
    homed = TrialTimes(lambda heater, celsius: 0.0)  # it is warm from the first homing on
    seconds = times.home_s(machine)
    for axes in motor_groups(machine, axis):
        feeds = {name: axis_of(machine, name).maximum_feed_mm_s for name in axes}
        hard = {name: axis_of(machine, name).acceleration_mm_s2 for name in axes}
        patterns = [LossPattern(directions, feeds, hard) for directions in loss_directions(machine, axes)]
        seconds += tries * sum(pattern_s(machine, axes, pattern, homed) for pattern in patterns)
    return seconds


def _speed_lasts(machine: MachineFile, aim: LimitParameters, times: TrialTimes) -> float:
    return _tries_s(machine, aim.axis, SPEED_TRIES * len(LIMITED), times)


def _current_lasts(machine: MachineFile, aim: DriverCurrentParameters, times: TrialTimes) -> float:
    return _tries_s(machine, aim.axis, CURRENT_TRIES, times)


def _uses(machine: MachineFile) -> tuple[Capability, ...]:
    """Where axes share motors both go at once: moves one after the other would not load them as the worst case does."""
    return moving("programs", *(("lines",) if machine.machine.layout.shared else ()))(machine)


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "speed-limits",
        "speed limits",
        "Speed and acceleration raised until steps are lost; the limits keep a margin.",
        LimitParameters,
        speed_limits,
        (TRIES,),
        _announce_speed,
        motion_needs,
        figure=_x_feed,
        verify="speed-limits",
        lasts=_speed_lasts,
        mends=True,
        uses=_uses,
    ),
    TrialSpec(
        "driver-current",
        "speed limits",
        "Driver current lowered until steps are lost; the least that carries the load, with a margin.",
        DriverCurrentParameters,
        driver_current,
        (TRIES,),
        _announce_current,
        motion_needs,
        verify="driver-current",
        lasts=_current_lasts,
        mends=True,
        uses=_uses,
    ),
)
