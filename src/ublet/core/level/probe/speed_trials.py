"""The trial of the station *probe spread* that makes probing faster: one change after the other, time against
spread.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.probe.probing import (
    LIFT_MM_S,
    RELEASE_MM,
    TOUCHES,
    Probing,
    TouchSettings,
    approach_of,
    grid_s,
    probe_needs,
    probe_of,
    probing,
    probing_uses,
)
from ublet.core.level.reach import NO_PROBE, reach_of, senses
from ublet.core.level.scatter import Scatter, not_worse
from ublet.core.level.warmth import BedWarmUp, conditions, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import number_of
from ublet.core.motion.program import ProbeMove, Program, To
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialResult
from ublet.core.settings import setting
from ublet.core.small_samples import deviation_u
from ublet.core.trial import TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import duration, show

APART_MM = 40.0
"""Two places are touched in turn, so far apart, as the points of a mesh are, mm."""

SAME_TIME = 0.03
"""A change that makes it faster by less than this share changed nothing."""

LOWEST_LIFT_MM = 2.0
DOWN, ACROSS = "down", "across"
WAYS = Stream("ways", ("way", "time_s", "deviation_mm", "taken"), ("", "s", "mm", ""))
"""Every way of probing that was tried: seconds a point, spread of its touches, whether it was taken."""


class SpeedParameters(BedWarmUp):
    """How slow the reference is, and how often each way is tried."""

    touches: int = setting("Touches for each way.", low=8, high=60, default=20)
    slow_mm_s: float = setting("Speed of the slow reference.", unit="mm/s", low=0.2, high=10, default=2.0)


@dataclass(frozen=True)
class ProbingVariant:
    """A way of probing: how it differs, seconds a point, and how its touches scatter."""

    name: str
    approach: TouchSettings
    seconds: float
    scatter: Scatter
    capped_by: str = ""


async def probe_speed(bench: Bench, aim: SpeedParameters) -> TrialResult:
    """From a slow reference one change after the other: what is faster and not significantly worse is taken.

    Where a setting changed and the time did not, what caps it is named.
    """
    declared = approach_of(bench, 1)
    _, warm = await warm_up(bench, aim)
    pin = probe_of(bench.machine).kind == "pin"
    slow = replace(declared, mm_s=aim.slow_mm_s, redeploys=pin)
    hidden: list[str] = []
    async with probing(bench, slow, 0.0, warm) as probe:
        middle = probe.reach.middle
        places = [(middle[0] - APART_MM / 2, middle[1]), (middle[0] + APART_MM / 2, middle[1])]
        changes = _changes(declared, aim, pin)
        reference = best = await _try(bench, probe, places, "slow reference", slow, aim.touches, 0.0)
        tried = [reference]
        bench.record.row(WAYS.name, (0, reference.seconds, reference.scatter.deviation_mm, 1))
        for number, (name, change) in enumerate(changes, start=1):
            fraction = number / (len(changes) + 1)
            one = await _try(bench, probe, places, name, change(best.approach), aim.touches, fraction)
            faster = one.seconds < best.seconds * (1 - SAME_TIME)
            taken = faster and not_worse(reference.scatter, one.scatter)
            if not faster and one.capped_by:
                hidden.append(f"{name} changes nothing: {one.capped_by} caps it")
            tried.append(one)
            bench.record.row(WAYS.name, (number, one.seconds, one.scatter.deviation_mm, taken))
            best = one if taken else best
    return _concluded(bench, declared, reference, best, tried, hidden)


SettingsChange = Callable[[TouchSettings], TouchSettings]


def ways_of(declared: TouchSettings, aim: SpeedParameters, pin: bool) -> tuple[str, ...]:
    """The names of all ways that are tried, in their order."""
    return ("slow reference", *(name for name, _ in _changes(declared, aim, pin)))


def _changes(declared: TouchSettings, aim: SpeedParameters, pin: bool) -> list[tuple[str, SettingsChange]]:
    """What is changed, one after the other, in the order of what usually saves most."""
    lift = max(LOWEST_LIFT_MM, declared.lift_mm / 2)
    changes: list[tuple[str, SettingsChange]] = (
        [("pin stays down", lambda at: replace(at, redeploys=False))] if pin else []
    )
    if lift < declared.lift_mm:
        changes.append((f"lift of {lift:g} mm", lambda at: replace(at, lift_mm=lift)))
        if lift > LOWEST_LIFT_MM:
            changes.append((f"lift of {LOWEST_LIFT_MM:g} mm", lambda at: replace(at, lift_mm=LOWEST_LIFT_MM)))
    for times in (2, 4, 8):
        speed = aim.slow_mm_s * times
        changes.append((f"{DOWN} at {speed:g} mm/s", lambda at, speed=speed: replace(at, mm_s=speed)))  # type: ignore[misc]
    travel = 2 * declared.travel_mm_s
    changes.append((f"{ACROSS} at {travel:g} mm/s", lambda at: replace(at, travel_mm_s=travel)))
    return changes


async def _try(
    bench: Bench,
    probe: Probing,
    places: Sequence[Point],
    name: str,
    approach: TouchSettings,
    touches: int,
    fraction: float,
) -> ProbingVariant:
    """Touch two places in turn; seconds a point as the board's planner follows such a way."""
    probe.approach = approach
    bench.progress(Progress(name, fraction, None, f"{touches} touches"))
    await probe.touches_at(places[1], 1)
    down, capped = name.startswith(DOWN), ""
    if name.startswith((DOWN, ACROSS)):
        capped, top = _cap(bench, probe, places[0], approach, down)
        if down and top < approach.mm_s:  # a speed that the board does not go is not proposed
            name = f"{DOWN} at {top:g} mm/s ({approach.mm_s:g} asked for, {capped} caps it)"
            approach = probe.approach = replace(approach, mm_s=top)
    seconds = _seconds(bench, probe, places[0], approach)
    heights: dict[Point, list[float]] = {place: [] for place in places}
    for number in range(touches):
        place = places[number % len(places)]
        heights[place] += await probe.touches_at(place, 1)
    return ProbingVariant(name, approach, seconds, _pooled(list(heights.values())), capped)


def _seconds(bench: Bench, probe: Probing, place: Point, approach: TouchSettings) -> float:
    """How long the next point takes: across, down to the bed, up again, the pin where it goes up and down each time.

    By the planner, from where it stands: over a line, requests take time of their own, which says nothing of probing.
    """
    x, y = probe.reach.nozzle(place)
    ways = (
        To({"x": x, "y": y}, approach.travel_mm_s),
        To({"z": probe.trigger_mm + probe.lowest}, approach.mm_s),
        To({"z": probe.clear_mm}, LIFT_MM_S),
    )
    pin_s = number_of(bench, "probe.deploy_s") + number_of(bench, "probe.stow_s") if approach.redeploys else 0.0
    return bench.motion.timetable(Program("a point", ways)).seconds + pin_s


def _pooled(series: Sequence[Sequence[float]]) -> Scatter:
    """Several series as one scatter about their own means."""
    squares = sum(sum((z - sum(one_series) / len(one_series)) ** 2 for z in one_series) for one_series in series)
    count = sum(len(one_series) for one_series in series)
    freedom = count - len(series)
    deviation = math.sqrt(squares / freedom)
    widest = max(max(one_series) - min(one_series) for one_series in series)
    return Scatter(count, 0.0, widest, deviation, deviation_u(deviation, freedom), 0.0, 0.0, ())


def _cap(bench: Bench, probe: Probing, place: Point, approach: TouchSettings, down: bool) -> tuple[str, float]:
    """What makes the way down, or across, slower than asked for: a setting, or that it is too short (empty: nothing);
    and how fast it may be, mm/s.
    """
    x, y = probe.reach.nozzle(place)
    floor = (bench.motion.position("z") or RELEASE_MM) - RELEASE_MM
    ways = (To({"x": x, "y": y}, approach.travel_mm_s), ProbeMove({"z": floor}, approach.mm_s))
    way = bench.motion.timetable(Program("touch", (ways[down],))).segments[0]
    return way.capped_by or ("" if down else "the acceleration, on so short a way,"), way.top_mm_s


def _concluded(
    bench: Bench,
    declared: TouchSettings,
    reference: ProbingVariant,
    best: ProbingVariant,
    tried: Sequence[ProbingVariant],
    hidden: Sequence[str],
) -> TrialResult:
    findings = [
        Finding("time", best.seconds, None, "s", words="time a point"),
        Finding("time_slow", reference.seconds, None, "s", words="time a point, slow reference"),
        Finding("deviation", best.scatter.deviation_mm, best.scatter.deviation_u_mm, "mm", words="spread then"),
        Finding(
            "deviation_slow",
            reference.scatter.deviation_mm,
            reference.scatter.deviation_u_mm,
            "mm",
            words="spread, slow reference",
        ),
    ]
    times = reference.seconds / best.seconds
    why = (
        f"{best.seconds:.1f} s a point instead of {reference.seconds:.1f} ({times:.1f} times as fast), and the touches "
        f"scatter by {best.scatter.deviation_mm:.4f} ±{2 * best.scatter.deviation_u_mm:.4f} mm, slowly by "
        f"{1000 * reference.scatter.deviation_mm:.1f}: no significant difference."
    )
    worse = [variant.name for variant in tried if not not_worse(reference.scatter, variant.scatter)]
    if worse:
        why += f" Worse, and not taken: {', '.join(worse)}."
    if hidden:
        why += f" {'; '.join(hidden)}."
    proposals = _proposals(bench, declared, best.approach)
    if proposals:
        why += f" {_grids_words(bench.machine, declared, best.approach)}"
    if any(proposal.setting == "probe.approach_mm_s" for proposal in proposals):
        why += " With another speed towards the bed the Z offset is another: touch it again."
    if not proposals:
        return TrialResult("proven", why, conditions(bench), tuple(findings))
    option = Option("as fast", "then the Z offset again", proposals, {"time": best.seconds})
    return TrialResult("proven", why, conditions(bench), tuple(findings), (option,), "as fast")


GRIDS = (3, 5, 7, 9)


def _grids_words(machine: MachineFile, before: TouchSettings, after: TouchSettings) -> str:
    """How long meshes take before and after."""
    reach, samples = reach_of(machine), probe_of(machine).samples
    grids = []
    for count in GRIDS:
        xs, ys = (np.linspace(*ends, count).tolist() for ends in (reach.x, reach.y))
        old, new = (duration(grid_s(replace(way, samples=samples), xs, ys)) for way in (before, after))
        grids.append(f"{count} x {count} {new} instead of {old}")
    return f"A mesh then takes: {', '.join(grids)}."


def _proposals(bench: Bench, declared: TouchSettings, best: TouchSettings) -> tuple[Proposal, ...]:
    values: Mapping[str, tuple[float, float, str]] = {
        "probe.approach_mm_s": (declared.mm_s, best.mm_s, "mm/s"),
        "probe.lift_mm": (declared.lift_mm, best.lift_mm, "mm"),
        "probe.travel_mm_s": (declared.travel_mm_s, best.travel_mm_s, "mm/s"),
    }
    return tuple(
        Proposal(path, before, after, unit, _effect(path, before, after))
        for path, (before, after, unit) in values.items()
        if abs(after - before) > 1e-9
    )


def _effect(path: str, before: float, after: float) -> str:
    """What a changed setting does."""
    if path == "probe.lift_mm":
        return "less way between touches" if after < before else "more way between touches"
    way = "towards the bed" if path == "probe.approach_mm_s" else "between points"
    return f"{'faster' if after > before else 'slower, which scatters less,'} {way}"


def _announce(machine: MachineFile, aim: SpeedParameters) -> str:
    return (
        f"Homes axes not yet homed, then touches two places in the middle in turn, {aim.touches} times for each of "
        f"some seven ways of probing: first at {aim.slow_mm_s:g} mm/s, then with the pin left down, lower lifts, "
        f"faster, up to {8 * aim.slow_mm_s:g} mm/s. {warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    finding = result.finding("time")
    return f"{show(finding.value, 's', 2)} a point" if finding is not None else ""


A_TOUCH_S_MM = 5.0
"""All settings that are tried take about this much time together, for each touch and mm of lift, s/mm."""


def _lasts(machine: MachineFile, aim: SpeedParameters, times: TrialTimes) -> float:
    lift_mm = machine.probe.lift_mm if machine.probe is not None else 0.0
    touching_s = aim.touches * A_TOUCH_S_MM * lift_mm + times.watching_s(machine, aim.touches, 1)
    return times.home_s(machine) + warming_s(machine, aim, times) + touching_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "probe-speed",
        "probe spread",
        "Probing as fast as repeatability allows: pin, lift, speed, changed one after the other.",
        SpeedParameters,
        probe_speed,
        (TOUCHES, WAYS),
        _announce,
        probe_needs,
        figure=_figure,
        idle=lambda machine: "probing may stay as slow as it is" if senses(machine) else NO_PROBE,
        lasts=_lasts,
        uses=lambda machine: (*probing_uses(machine), "touch"),
        facts=facts("probe"),
    ),
)
