"""The trial of the station *homing* that makes it faster: spread of each end against time, one change after the other.

Where an axis is called 0 is decided by the slow approach alone; the fast one only has to get there without losing
steps. So the slow one is tuned by the spread, the fast one by whether the axis still finds its end where it was.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from ublet.core.bench import Bench
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import Axis, MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.homing_moves import axis_of, go_to, home_axis, home_unhomed, homing_order, moving, number_of
from ublet.core.motion.homing_trials import Spread, motion_needs, spread_of
from ublet.core.motion.program import Program, To, timetable
from ublet.core.remedy import ByHand, GoTo, Remedy
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.small_samples import no_larger
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import show
from ublet.core.words import several

LOST_MM = 0.3
"""An end that is found further from where it was than this was missed, or steps were lost on the way to it, mm."""

FINE_MM = 0.003
"""Spreads below this do not differ: about a microstep of a belt, mm."""

SAME_TIME = 0.03
"""A change that saves less than this share of the time is not worth a change."""

SHIFTS_MM = 0.02
"""An end that moves by more is said, mm."""

AWAY_MM = 40.0
"""From so far away an end is approached, mm."""

REFERENCE = 0.5
"""The reference approaches at this share of the declared slow speed."""

SLOW_TIMES, FAST_TIMES = (1.0, 2.0, 4.0), (1.5, 2.0, 3.0)
"""What is tried, as multiples of the declared speeds."""

TRIED = Stream(
    "tried",
    ("axis", "way", "fast_mm_s", "slow_mm_s", "time_s", "deviation_mm", "taken"),
    ("", "", "mm/s", "mm/s", "s", "mm", ""),
)
"""Every pair of speeds that was tried; a spread of -1: the end was not found where it was."""


class HomingSpeedParameters(Part):
    """Which axes, and how often each way is tried."""

    axes: Literal["all", "x", "y", "z"] = setting("Axes to tune.", default="all")
    repeats: int = setting("Homings for each pair of speeds.", low=5, high=40, default=8)


@dataclass(frozen=True)
class HomingSpeeds:
    """Both speeds of a homing, mm/s."""

    fast_mm_s: float
    slow_mm_s: float


@dataclass(frozen=True)
class HomingAttempt:
    """A pair of speeds that was tried. seconds: a homing from the middle of the travel, by the planner. spread: None
    where the end was not found where it was, and then why. ends_mm: where it was found, each time, from where it was at
    first.
    """

    name: str
    speeds: HomingSpeeds
    seconds: float
    spread: Spread | None
    why: str = ""
    ends_mm: tuple[float, ...] = ()
    taken: bool = False


@dataclass(frozen=True)
class TunedHoming:
    """What was found for one axis. reference: slower than declared; best: what is proposed; capped: what was not tried,
    since a limit caps it.
    """

    axis: str
    reference: HomingAttempt
    declared: HomingAttempt
    best: HomingAttempt
    attempts: tuple[HomingAttempt, ...]
    capped: tuple[str, ...]


def tunable(machine: MachineFile, aim: HomingSpeedParameters) -> tuple[str, ...]:
    """The axes that home to a switch, in the order of homing; those that were asked for."""
    axes = homing_order(machine) if aim.axes == "all" else (aim.axes,)
    return tuple(name for name in axes if axis_of(machine, name).homing.end != "probe")


def seconds_of(axis: Axis, name: str, speeds: HomingSpeeds, caps: Caps) -> float:
    """How long an axis homes from the middle of its travel, s."""
    homing, way = axis.homing, (axis.maximum_mm - axis.minimum_mm) / 2
    back = homing.back_off_mm
    places = ((0.0, speeds.fast_mm_s), (back, speeds.fast_mm_s), (0.0, speeds.slow_mm_s))
    return sum(
        timetable(Program("homing", (To({name: end}, mm_s),)), {name: start}, caps).seconds
        for start, (end, mm_s) in zip((way, 0.0, back), places, strict=True)
    )


async def homing_speed(bench: Bench, aim: HomingSpeedParameters) -> TrialResult:
    """Axis by axis: a slow reference, the declared speeds, then faster ones, each taken when it saves time and the end
    is found no worse.

    Raises:
        TrialFailed: an axis does not find its end with the speeds that are declared.
    """
    axes = tunable(bench.machine, aim)
    if not axes:
        raise TrialFailed(
            f"{several([axis.upper() for axis in homing_order(bench.machine) if aim.axes in ('all', axis)])} homes "
            "with the probe: its speeds are found at the station probe spread.",
            GoTo("probe spread", "probing as fast as it repeats", "probe-speed"),
        )
    await home_unhomed(bench, ("x", "y", "z"))
    lift = max(axis_of(bench.machine, name).homing.lift_mm for name in axes)
    if lift and (bench.motion.position("z") or 0.0) < lift:
        await go_to(bench, "z", lift, number_of(bench, "axes.z.homing.fast_mm_s"))
    tuned = [await _tuned(bench, name, aim, number, len(axes)) for number, name in enumerate(axes)]
    return _concluded(bench, tuned)


async def _tuned(bench: Bench, name: str, aim: HomingSpeedParameters, number: int, count: int) -> TunedHoming:
    axis = axis_of(bench.machine, name)
    declared = HomingSpeeds(
        number_of(bench, f"axes.{name}.homing.fast_mm_s"), number_of(bench, f"axes.{name}.homing.slow_mm_s")
    )
    limit = number_of(bench, f"axes.{name}.maximum_feed_mm_s")
    with bench.aside():
        caps = Caps(effective(bench.machine))
    attempts: list[HomingAttempt] = []
    capped: list[str] = []
    ends = [0.0]

    async def attempt(way: str, speeds: HomingSpeeds) -> HomingAttempt:
        done = (number + len(attempts) / (1 + len(SLOW_TIMES) + len(FAST_TIMES))) / count
        bench.progress(Progress(f"axis {name.upper()}", done, None, way, name))
        seconds = seconds_of(axis, name, speeds, caps)
        tried = await _attempt(bench, name, way, speeds, aim.repeats, seconds, ends)
        attempts.append(tried)
        return tried

    def enter(one: HomingAttempt, taken: bool) -> HomingAttempt:
        attempts[-1] = replace(one, taken=taken)
        deviation = one.spread.deviation_mm if one.spread is not None else -1.0
        row = ("xyz".index(name), len(attempts) - 1, one.speeds.fast_mm_s, one.speeds.slow_mm_s, one.seconds)
        bench.record.row(TRIED.name, (*(float(value) for value in row), deviation, float(taken)))
        return attempts[-1]

    async def once_more(one: HomingAttempt) -> HomingAttempt:
        again = await _attempt(bench, name, one.name, one.speeds, aim.repeats, one.seconds, ends)
        if one.spread is None or again.spread is None:
            return replace(one, spread=None, why=again.why or one.why)
        return replace(one, spread=_pooled(one.spread, again.spread), ends_mm=(*one.ends_mm, *again.ends_mm))

    async def better(way: str, speeds: HomingSpeeds, than: HomingAttempt, best: HomingAttempt) -> HomingAttempt:
        """These speeds where they save time and find the end as well, else the best so far. What looks worse is tried
        once more, and what it is held against: of many spreads one looks worse by chance.
        """
        one = await attempt(way, speeds)
        if one.spread is not None and not _as_good(than, one):
            than = await once_more(than)
            one = await once_more(one)
        one = enter(one, one.seconds < best.seconds * (1 - SAME_TIME) and _as_good(than, one))
        return one if one.taken else best

    await home_axis(bench, name)  # the homing of another axis may have cost this one steps
    slow = replace(declared, slow_mm_s=declared.slow_mm_s * REFERENCE)
    best = reference = enter(await attempt("slow reference", slow), True)
    if reference.spread is None:
        raise TrialFailed(
            f"{name.upper()} does not find its end again, slow as it approaches: {reference.why}.",
            GoTo("homing", "first find out why the end does not repeat", "homing"),
            ByHand("tighten the switch, and what presses it"),
        )
    as_declared = reference
    for times in SLOW_TIMES:
        speed = declared.slow_mm_s * times
        if times > 1 and speed >= declared.fast_mm_s:
            break  # the second approach is the slower one
        best = await better(f"slow at {speed:g} mm/s", replace(declared, slow_mm_s=speed), reference, best)
        as_declared = attempts[-1] if times == 1 else as_declared
        if not attempts[-1].taken:
            break  # what makes it worse grows with the speed
    slowly = best
    for times in FAST_TIMES:
        speed = declared.fast_mm_s * times
        if speed > limit:
            capped.append(f"fast at {speed:g} mm/s (axes.{name}.maximum_feed_mm_s = {limit:g})")
            continue
        best = await better(f"fast at {speed:g} mm/s", replace(best.speeds, fast_mm_s=speed), slowly, best)
        if attempts[-1].spread is None:
            break  # still faster will not do
    return TunedHoming(name, reference, as_declared, best, tuple(attempts), tuple(capped))


async def _attempt(
    bench: Bench, name: str, way: str, speeds: HomingSpeeds, repeats: int, seconds: float, ends: list[float]
) -> HomingAttempt:
    """Home so often with these speeds; an end that was lost is found again with the declared ones. ends: where it was
    found so far, mm, which is continued here, or begun anew.
    """
    root, axis = f"axes.{name}.homing", axis_of(bench.machine, name)
    inward = -1 if axis.homing.end == "high" else 1
    away = min(AWAY_MM, (axis.maximum_mm - axis.minimum_mm) / 2)
    shifts: list[float] = []
    why = ""
    values = {f"{root}.fast_mm_s": speeds.fast_mm_s, f"{root}.slow_mm_s": speeds.slow_mm_s}
    async with bench.settings.borrowed(values):
        for _ in range(repeats + 1):  # the first finds the end as it lies at this speed
            with bench.aside():
                await bench.motion.move(name, inward * away, speeds.fast_mm_s)
            why, shift = await bench.motion.home(name)
            if why or shift is None:
                break
            shifts.append(shift)
            if abs(shift) > LOST_MM:
                why = f"it was found {abs(shift):.2f} mm beside where it was: steps are lost"
                break
            with bench.aside():
                await bench.motion.move(name, inward * axis.homing.back_off_mm, speeds.fast_mm_s)
    if why:
        await home_axis(bench, name)
        ends[:] = [math.nan, 0.0]  # where it is now, seen from before, nobody knows
        return HomingAttempt(way, speeds, seconds, None, why)
    before = len(ends)
    for shift in shifts:
        ends.append(ends[-1] + shift)
    return HomingAttempt(way, speeds, seconds, spread_of(shifts[1:]), ends_mm=tuple(ends[before:]))


def _pooled(one: Spread, two: Spread) -> Spread:
    """Two spreads about their own means as one."""
    freedom = one.count + two.count - 2
    square = (one.count - 1) * one.deviation_mm**2 + (two.count - 1) * two.deviation_mm**2
    return Spread(freedom + 1, math.sqrt(square / freedom), max(one.range_mm, two.range_mm))


def _as_good(reference: HomingAttempt, one: HomingAttempt) -> bool:
    """Whether an end is found no worse than slowly, as far as can be decided."""
    if reference.spread is None or one.spread is None:
        return False
    floor = max(FINE_MM, reference.spread.deviation_mm)
    return no_larger(floor, one.spread.deviation_mm, (reference.spread.count - 1, one.spread.count - 1))


def _concluded(bench: Bench, tuned: Sequence[TunedHoming]) -> TrialResult:
    findings: list[Finding] = []
    proposals: list[Proposal] = []
    sentences: list[str] = []
    advice: list[Remedy] = []
    for one in tuned:
        best, before = one.best, one.declared
        axis, named = {"axis": one.axis}, one.axis.upper()
        spread = best.spread or one.reference.spread
        assert spread is not None
        shift, shift_u = _shift(one)
        findings += [
            Finding("time", best.seconds, None, "s", subject=axis, words="from the middle"),
            Finding("time_before", before.seconds, None, "s", subject=axis, words="as declared"),
            Finding("deviation", spread.deviation_mm, spread.uncertainty_mm, "mm", subject=axis, words="spread then"),
        ]
        new = _proposals(bench, one)
        proposals += new
        sentences.append(
            f"{named}: {before.seconds:.1f} s from the middle, {best.seconds:.1f} with fast at "
            f"{best.speeds.fast_mm_s:g} and slow at {best.speeds.slow_mm_s:g} mm/s; its end is found within "
            f"{1000 * spread.deviation_mm:.0f} ±{2000 * spread.uncertainty_mm:.0f} µm."
            if new
            else f"{named} stays as it is: {before.seconds:.1f} s from the middle, its end within "
            f"{1000 * spread.deviation_mm:.0f} ±{2000 * spread.uncertainty_mm:.0f} µm."
        )
        worse = [attempt.name for attempt in one.attempts if attempt.spread is not None and not _no_worse(one, attempt)]
        lost = [f"{attempt.name} ({attempt.why})" for attempt in one.attempts if attempt.spread is None]
        if worse:
            sentences.append(f"Worse: {several(worse)}.")
        if lost:
            sentences.append(f"Too fast: {several(lost)}.")
        if one.capped:
            sentences.append(f"Not tried, a limit caps it: {several(one.capped)}.")
        if new and abs(shift) > max(SHIFTS_MM, 2 * shift_u):
            way = "higher" if shift > 0 else "lower"
            sentences.append(f"The end of {named} then lies {abs(shift):.3f} ±{2 * shift_u:.3f} mm {way}.")
            if one.axis == "z":
                advice.append(GoTo("Z offset", "the end of Z lies elsewhere at another speed"))
    words = " ".join(sentences)
    if not proposals:
        return TrialResult("proven", words, {}, tuple(findings))
    total = math.fsum(one.best.seconds for one in tuned)
    option = Option("as fast", "each end found as well", tuple(proposals), {"time": total})
    return TrialResult("proven", words, {}, tuple(findings), (option,), "as fast", tuple(advice))


def _no_worse(one: TunedHoming, attempt: HomingAttempt) -> bool:
    return attempt.taken or attempt is one.reference or _as_good(one.reference, attempt)


def _shift(one: TunedHoming) -> tuple[float, float]:
    """How far the end lies higher with the proposed speeds than with the declared ones, and its standard uncertainty,
    mm; 0 where steps were lost between.
    """
    new, old = one.best, one.declared
    number = [attempt.name for attempt in one.attempts]
    first, last = sorted((number.index(new.name), number.index(old.name)))
    if new.spread is None or old.spread is None or any(a.spread is None for a in one.attempts[first:last]):
        return 0.0, 0.0
    means = [math.fsum(attempt.ends_mm) / len(attempt.ends_mm) for attempt in (new, old)]
    u = math.hypot(*(a.spread.deviation_mm / math.sqrt(len(a.ends_mm)) for a in (new, old) if a.spread is not None))
    return means[0] - means[1], u


def _proposals(bench: Bench, one: TunedHoming) -> list[Proposal]:
    root, best, before = f"axes.{one.axis}.homing", one.best.speeds, one.declared.speeds
    proposals = []
    for key, now, new, slower in (
        ("fast_mm_s", before.fast_mm_s, best.fast_mm_s, "gets there later"),
        ("slow_mm_s", before.slow_mm_s, best.slow_mm_s, "finds the end better"),
    ):
        if abs(new - now) > 1e-9:
            effect = "gets there sooner" if new > now else slower
            proposals.append(Proposal(f"{root}.{key}", bench.settings.shown(f"{root}.{key}"), new, "mm/s", effect))
    return proposals


def _needs(machine: MachineFile, aim: HomingSpeedParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    axes = tunable(machine, aim)
    words = f"homes to a switch: {several([name.upper() for name in axes])}" if axes else "no axis homes to a switch"
    return (Need(words, bool(axes)), *motion_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: HomingSpeedParameters) -> str:
    axes = tunable(machine, aim)
    with_probe = [name.upper() for name in homing_order(machine) if axis_of(machine, name).homing.end == "probe"]
    left_out = f" {several(with_probe)} homes with the probe: station probe spread." if with_probe else ""
    return (
        f"Homes {several([name.upper() for name in axes])} from {AWAY_MM:g} mm away, {aim.repeats + 1} times with each "
        f"of some seven pairs of speeds: slower than declared, then faster, up to {max(FAST_TIMES):g} times. A hand on "
        f"F8.{left_out}"
    )


USUAL_SLOW, A_HOMING_S, ONCE_MORE = 2.0, 0.8, 1
"""Which slow approach is usually the best, times the declared one; a homing besides its moves, s; of how many pairs the
homings are usually repeated.
"""


def _lasts(machine: MachineFile, aim: HomingSpeedParameters, times: TrialTimes) -> float:
    total = times.home_s(machine)
    for name in tunable(machine, aim):
        homing, limit = axis_of(machine, name).homing, axis_of(machine, name).maximum_feed_mm_s
        pairs = [(1.0, REFERENCE)]
        pairs += [(1.0, slow) for slow in SLOW_TIMES if slow == 1 or homing.slow_mm_s * slow < homing.fast_mm_s]
        pairs += [(fast, USUAL_SLOW) for fast in FAST_TIMES if homing.fast_mm_s * fast <= limit]
        seconds = sum(
            (2 * AWAY_MM + 2 * homing.back_off_mm) / (homing.fast_mm_s * fast)
            + homing.back_off_mm / (homing.slow_mm_s * slow)
            + A_HOMING_S
            for fast, slow in pairs
        )
        total += (aim.repeats + 1) * seconds * (1 + ONCE_MORE / len(pairs))
    return total


def _figure(result: TrialResult) -> str:
    slowest = max((finding.value for finding in result.all_of("time")), default=0.0)
    return show(slowest, "s", 2)


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "homing-speed",
        "homing",
        "Homing as fast as each end is found no worse: both approaches, spread against time.",
        HomingSpeedParameters,
        homing_speed,
        (TRIED,),
        _announce,
        _needs,
        figure=_figure,
        idle=lambda machine: "homing may stay as slow as it is",
        lasts=_lasts,
        uses=moving(),
        facts=facts("moved"),
    ),
)
