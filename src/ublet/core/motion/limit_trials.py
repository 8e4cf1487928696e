"""Trials that raise speed and acceleration, or lower the driver current, until steps are lost, and keep a margin."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import (
    axis_of,
    go_to,
    home_axis,
    home_unhomed,
    number_of,
    preheat_words,
    with_those_before,
)
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.limits import Bracket, highest, lowest, tidy, tolerance_mm
from ublet.core.questions import Live
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, Subject, TrialFailed, TrialResult
from ublet.core.settings import Part, Value, number_or, setting
from ublet.core.trial import TrialSpec
from ublet.core.units import show
from ublet.core.words import several

START_MM = 12.0
"""The pattern begins so far from the end that the axis homes to, mm."""

SHORTEST_MM = 20.0
FAST_OUT = (True, True, True, False)
"""Each pass goes one way fast and the other way slowly, and not equally often: what is lost both ways adds up."""

TYPICAL_SPREAD_MM = 0.02
LOWEST_SHARE = 0.15
"""Less than this share of the declared value is not tried."""

COARSE = 0.1
LEAST_A = 0.1
COOLER = 2.0
"""A current more than so many times the least is worth lowering: the motor only gets hot."""


class LimitParameters(Part):
    """Which axes, how far up, and the margin that is kept."""

    axis: Literal["all", "x", "y", "z"] = setting("Axis to try, or all.", default="all")
    up_to: float = setting("Try at most so many times the declared value.", low=1, high=5, default=2.0)
    margin: float = setting("Share of what holds that is used.", low=0.3, high=0.95, default=0.75)


class CurrentParameters(Part):
    """Which axes, and how much more than the least current is used."""

    axis: Literal["all", "x", "y", "z"] = setting("Axis to try, or all.", default="all")
    margin: float = setting("Times the least current that is used.", low=1.1, high=3, default=1.5)


@dataclass(frozen=True)
class Pattern:
    """There and back, so far and so fast, before the count is compared."""

    axis: str
    feed_mm_s: float
    acceleration_mm_s2: float


async def speed_limits(bench: Bench, aim: LimitParameters) -> TrialResult:
    """Each axis faster, then with more acceleration, until it loses steps; the limits keep a margin from that."""
    wanted = _wanted(aim.axis)
    await home_unhomed(bench, wanted)
    findings: list[Finding] = []
    proposals: list[Proposal] = []
    words: list[str] = []
    for number, name in enumerate(wanted):
        feed, acceleration = (number_of(bench, f"axes.{name}.{key}") for key in FEED_AND_ACCELERATION)
        top = await _fastest(bench, name)
        for part, (key, now, most) in enumerate(
            (("maximum_feed_mm_s", feed, min(aim.up_to * feed, top)), ("acceleration_mm_s2", acceleration, 0.0))
        ):
            share = (number + part / 2) / len(wanted)
            most = max(now, most) if part == 0 else aim.up_to * acceleration

            unit, what = ("mm/s", "feed") if part == 0 else ("mm/s²", "acceleration")
            asked = Live(
                f"{name.upper()} runs there and back, with more {what} each time.", (ENOUGH,), ("watch", "speed")
            )
            async with bench.builder.live(asked) as said:

                async def holds(value: float, part: int = part, share: float = share, name: str = name) -> bool | None:
                    if said.answer is not None:
                        return None
                    pattern = Pattern(name, *((value, acceleration) if part == 0 else (feed, value)))  # noqa: B023
                    return await _keeps_count(bench, pattern, {}, share)

                found = await highest(holds, now, most, LOWEST_SHARE * now)
            if found.holds is None and said.answer is not None:
                words.append(f"{name.upper()}'s {what} was not tried: you called it fast enough.")
                continue
            findings += (learnt := _findings(what, {"axis": name}, found, unit))
            bench.record.found(*learnt)
            safe = tidy(found.holds * aim.margin, down=True) if found.holds else None
            words.append(_limit_words(name, what, now, found, unit, aim.margin))
            if safe is not None and _too_near(now, found, aim.margin):
                effect = f"keeps {100 * (1 - aim.margin):.0f} % below what held"
                proposals.append(Proposal(f"axes.{name}.{key}", now, safe, unit, effect))
            if found.holds is None:
                raise TrialFailed(
                    f"{name.upper()} loses steps even at {100 * LOWEST_SHARE:.0f} % of its {what}: look at its driver "
                    "current and whether it binds."
                )
    return _settled(findings, proposals, words)


async def driver_current(bench: Bench, aim: CurrentParameters) -> TrialResult:
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
        patterns = [
            Pattern(axis, *(number_of(bench, f"axes.{axis}.{key}") for key in FEED_AND_ACCELERATION)) for axis in axes
        ]

        async def holds(amps: float, number: int = number) -> bool:
            currents: dict[str, Value] = {f"{motor}.run_a": amps for motor in motors}  # noqa: B023
            for pattern in patterns:  # noqa: B023
                if not await _keeps_count(bench, pattern, currents, number / len(groups)):
                    return False
            return True

        found = await lowest(holds, now, LEAST_A, 1.5 * now)
        findings += (learnt := _findings("current", {"axis": axes[0]}, found, "A"))
        bench.record.found(*learnt)
        if found.holds is None:
            raise TrialFailed(f"{named} loses steps even at {1.5 * now:.2f} A: is it too fast, or does it bind?")
        wanted = tidy(found.holds * aim.margin, down=False)
        ratio = now / found.holds
        words.append(f"{named} needs {found.holds:.2f} A at full speed; {now:g} A are set, {ratio:.1f} times that.")
        weak = ratio < 1 + (aim.margin - 1) / 2
        if weak or ratio > max(COOLER, aim.margin * 1.2):
            effect = "runs cooler with the margin kept" if wanted < now else "carries its load with a margin"
            proposals += _currents(bench, motors, wanted, effect)
            words.append("Too little." if weak else "That works; less would keep it cooler.")
            short = short or weak
        else:
            words.append("Leave it.")
    return _settled(findings, proposals, words, failed=short)


def _currents(bench: Bench, motors: tuple[str, ...], wanted: float, effect: str) -> list[Proposal]:
    """A running current for these motors, and an idle one that is no higher."""
    found = []
    for motor in motors:
        found.append(Proposal(f"{motor}.run_a", bench.settings.shown(f"{motor}.run_a"), wanted, "A", effect))
        idle = bench.settings.shown(f"{motor}.idle_a")
        if isinstance(idle, (int, float)) and idle > wanted:
            found.append(Proposal(f"{motor}.idle_a", idle, wanted, "A", "holds with no more than it runs with"))
    return found


ENOUGH = "fast enough"
"""The builder may end the search there: what held so far is then the most that is known to hold."""

FEED_AND_ACCELERATION = ("maximum_feed_mm_s", "acceleration_mm_s2")


def motor_groups(machine: MachineFile, axis: str) -> dict[tuple[str, ...], tuple[str, ...]]:
    """Axes with the motors that carry them together: a CoreXY's X and Y share theirs."""

    def motors(name: str) -> tuple[str, ...]:
        return tuple(f"axes.{name}.motors.{motor}" for motor in axis_of(machine, name).motors)

    wanted = _wanted(axis)
    if machine.machine.kinematics != "corexy":
        return {(name,): motors(name) for name in wanted}
    groups = {("x", "y"): (*motors("x"), *motors("y")), ("z",): motors("z")}
    return {axes: each for axes, each in groups.items() if set(axes) & set(wanted)}


async def _keeps_count(bench: Bench, pattern: Pattern, further: Mapping[str, Value], share: float) -> bool:
    """Run a pattern with other limits for a while, then home: True when the count was right."""
    name = pattern.axis
    axis = axis_of(bench.machine, name)
    with bench.aside():  # where there is room for it
        room = axis.maximum_mm - axis.minimum_mm - 2 * START_MM
        way = -1 if axis.homing.end == "high" else 1
        start = axis.maximum_mm - START_MM if way < 0 else max(axis.minimum_mm, 0.0) + START_MM
        slow = min(axis.homing.fast_mm_s, axis.maximum_feed_mm_s)
    length = min(room, SHORTEST_MM + 1.2 * pattern.feed_mm_s**2 / pattern.acceleration_mm_s2)
    told = f"{show(pattern.feed_mm_s, 'mm/s', 3)}, {show(pattern.acceleration_mm_s2, 'mm/s²', 3)}"
    told += "".join(f", {show(number_or(amps, 0.0), 'A', 3)}" for amps in list(further.values())[:1])
    bench.progress(Progress(f"axis {name.upper()}", share, None, told))
    await go_to(bench, name, start, slow)
    limits: dict[str, Value] = {
        f"axes.{name}.maximum_feed_mm_s": pattern.feed_mm_s,
        f"axes.{name}.acceleration_mm_s2": pattern.acceleration_mm_s2,
        **further,
    }
    for fast_out in FAST_OUT:
        for out in (True, False):
            by = way * length if out else -way * length
            if out is fast_out:
                async with bench.settings.borrowed(limits):
                    await bench.motion.move(name, by, pattern.feed_mm_s)
            else:
                await bench.motion.move(name, by, slow)
    with bench.aside():  # the end only serves to compare the count
        shift = await home_axis(bench, name)
    step_mm = _full_step_mm(bench.machine, name)
    held = shift is not None and abs(shift) <= tolerance_mm(step_mm, _spread(bench, name))
    if further:
        amps = float(next((v for v in further.values() if isinstance(v, float)), 0.0))
    else:
        amps = max(number_of(bench, f"axes.{name}.motors.{motor}.run_a") for motor in axis.motors)
    row = (float("xyz".index(name)), pattern.feed_mm_s, pattern.acceleration_mm_s2, amps, shift or 0.0, float(held))
    bench.record.row("tries", row)
    return held


async def _fastest(bench: Bench, name: str) -> float:
    """The most that the board's step rate gives an axis, mm/s; found by asking for more than any machine does."""
    with bench.aside():
        away = 1.0 if axis_of(bench.machine, name).homing.end != "high" else -1.0
    async with bench.settings.borrowed({f"axes.{name}.maximum_feed_mm_s": FASTEST_MM_S}):
        used = await bench.motion.move(name, away * 0.01, FASTEST_MM_S)
        await bench.motion.move(name, -away * 0.01, FASTEST_MM_S)
    return used


FASTEST_MM_S = 2000.0


def _spread(bench: Bench, name: str) -> float:
    earlier = bench.record.earlier("homing")
    found = earlier.finding("spread", axis=name) if earlier is not None else None
    return found.value if found is not None else TYPICAL_SPREAD_MM


def _full_step_mm(machine: MachineFile, name: str) -> float:
    axis = axis_of(machine, name)
    motor = next(iter(axis.motors.values()))
    return motor.microsteps / axis_steps_per_mm(axis, motor)


def _findings(what: str, axis: Subject, found: Bracket, unit: str) -> list[Finding]:
    if found.limit is None:
        return []
    if what == "current":
        return [Finding("least_current", found.limit, found.uncertainty, unit, subject=axis)]
    kept = f"{what}_limit" if found.fails is not None else f"{what}_holds"
    return [Finding(kept, found.limit, found.uncertainty, unit, subject=axis)]


def _limit_words(name: str, what: str, now: float, found: Bracket, unit: str, margin: float) -> str:
    if found.holds is None:
        return ""
    if found.fails is None:
        return (
            f"{name.upper()} holds {show(found.holds, unit, 3)} at least; {show(now, unit, 3)} is declared. Leave it."
        )
    told = f"{name.upper()} holds {show(found.holds, unit, 3)} and loses steps at {show(found.fails, unit, 3)}"
    verdict = ", too near" if _too_near(now, found, margin) else ": leave it"
    return f"{told}; {show(now, unit, 3)} is declared{verdict}."


def _too_near(now: float, found: Bracket, margin: float) -> bool:
    """Whether a declared value needs lowering; the search's own coarseness must not make it lower each time."""
    return found.holds is not None and found.fails is not None and now > found.holds * (margin + COARSE)


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
    wanted = _wanted(aim.axis)
    told = ", ".join(
        f"{name.upper()} up to {aim.up_to * axis_of(machine, name).maximum_feed_mm_s:g} mm/s and "
        f"{aim.up_to * axis_of(machine, name).acceleration_mm_s2:g} mm/s²"
        for name in wanted
    )
    warm = preheat_words(machine, with_those_before(machine, wanted))
    return f"Homes, then runs there and back, faster each time: {told}. It will lose steps on purpose. {warm}"


def _announce_current(machine: MachineFile, aim: CurrentParameters) -> str:
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


TRIES = Stream(
    "tries",
    ("axis", "feed_mm_s", "acceleration_mm_s2", "current_a", "off_mm", "held"),
    ("", "mm/s", "mm/s²", "A", "mm", ""),
)

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
        mends=True,
    ),
    TrialSpec(
        "driver-current",
        "speed limits",
        "Driver current lowered until steps are lost; the least that carries the load, with a margin.",
        CurrentParameters,
        driver_current,
        (TRIES,),
        _announce_current,
        motion_needs,
        verify="driver-current",
        mends=True,
    ),
)
