"""The trial of the station *bed corners* without a probe: the nozzle visits every screw, the builder feels a gauge."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.mesh.live import unfollowed
from ublet.core.level.reach import ProbeArea, senses
from ublet.core.level.support.screws import look_at_springs, moved_again, screws_need, screws_of, weak_words
from ublet.core.level.warmth import BedWarmUp, conditions, warm_needs, warm_up, warm_words, warming_s
from ublet.core.machine.level_parts import ProbeSettings, Screw
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import go_to, home_unhomed, moving
from ublet.core.observations import DragGauge, MakeRoom
from ublet.core.questions import Question
from ublet.core.remedies import level_first
from ublet.core.remedy import ByHand, StartAgain
from ublet.core.run import Checkpoint, Finding, Progress, Stream, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.words import several

ROOM_MM = 1.0
"""In the first round the nozzle stops so high over every corner first: one that stands too high is not run into."""

TRAVEL_MM_S, DOWN_MM_S, LIFT_MM = 60.0, 4.0, 5.0
FINE, ADJUSTED, STOP = "fine", "adjusted", "stop here"

VISITS = Stream("visits", ("round", "screw", "adjusted"), ("", "", ""), number="i2")
"""Every visit: which round, which screw, whether it had to be turned."""


class CornersByHand(BedWarmUp):
    """The gauge, and how often one goes round."""

    gauge_mm: float = setting(
        "Thickness of the gauge; 0: as declared.", zero="as declared", unit="mm", low=0, high=2, default=0.0
    )
    rounds: int = setting("Rounds at the most.", low=2, high=12, default=8)


async def bed_corners_by_hand(bench: Bench, aim: CornersByHand) -> TrialResult:
    """Go round the screws with a gauge below the nozzle, until one whole round needs no turn."""
    machine = bench.machine
    screws = screws_of(machine)
    gauge_mm = aim.gauge_mm or gauge_of(machine)
    bench.motion.clear_at_the_end(LIFT_MM)
    await look_at_springs(bench, screws)
    await warm_up(bench, aim)
    await home_unhomed(bench, ("x", "y", "z"))
    async with bench.settings.borrowed(unfollowed(bench)):
        return await _go_round(bench, aim, screws, gauge_mm)


async def _go_round(bench: Bench, aim: CornersByHand, screws: Mapping[str, Screw], gauge_mm: float) -> TrialResult:
    """Round after round; from the checkpoint of a run that was cut off.

    Raises:
        TrialFailed: the builder stops, or no round was fine.
    """
    visits = places_over(bench.machine, dict(screws))
    going = bench.record.going_on
    first = int(going.state["round"]) if going is not None else 1
    adjusted: dict[str, float] = dict.fromkeys(screws, 0.0)
    for number in range(first, aim.rounds + 1):
        turned = []
        for at, (name, place) in enumerate(visits.items()):
            words = f"screw {name}, {at + 1} of {len(visits)}"
            bench.progress(Progress(f"round {number}", (number - 1 + at / len(visits)) / aim.rounds, None, words))
            if await _visit(bench, name, place, gauge_mm, coarse=number == first):
                turned.append(name)
                adjusted[name] += 1.0
                bench.report_fact("screw", name)
            bench.record.row(VISITS.name, (number, at, name in turned))
        bench.record.checkpoint(Checkpoint(f"{number} rounds done", {"round": number + 1}))
        if not turned:
            await _up(bench)
            return _concluded(bench, number, adjusted, gauge_mm)
    raise TrialFailed(
        f"After {aim.rounds} rounds a corner still had to be turned ({several(turned)}): look for a slack spring, a "
        "bed that hangs, or a gauge that is felt differently each time. The lead screws come first where there are "
        "several.",
        level_first(bench.machine, but_screws=True),
        ByHand("tighten slack springs; read the gauge in the same way at every corner"),
    )


async def _visit(bench: Bench, name: str, place: Point, gauge_mm: float, coarse: bool) -> bool:
    """Visit a screw; whether it had to be turned.

    Raises:
        TrialFailed: the builder stops.
    """
    await _up(bench)
    await bench.motion.go({"x": place[0], "y": place[1]}, TRAVEL_MM_S)
    turned = False
    if coarse:
        await go_to(bench, "z", ROOM_MM, DOWN_MM_S)
        asked = Question(
            f"The nozzle stands over the screw {name}, {ROOM_MM:g} mm high by its count. If there is less room than "
            f"that, turn {name} until the bed is as far away.",
            ("room enough", "lowered", STOP),
            MakeRoom(name, ROOM_MM),
        )
        answer = await bench.builder.ask(asked)
        if answer == STOP:
            raise TrialFailed("Stopped before the corners were level. What was turned stays turned.", StartAgain())
        turned = answer == "lowered"
    await go_to(bench, "z", gauge_mm, DOWN_MM_S)
    asked = Question(
        f"Slide the gauge ({gauge_mm:g} mm) below the nozzle at the screw {name}. Does it just drag? If not, turn "
        f"{name} until it does.",
        (FINE, ADJUSTED, STOP),
        DragGauge(name, gauge_mm),
    )
    answer = await bench.builder.ask(asked)
    if answer == STOP:
        raise TrialFailed("Stopped before the corners were level. What was turned stays turned.", StartAgain())
    return turned or answer == ADJUSTED


async def _up(bench: Bench) -> None:
    here = bench.motion.position("z")
    if here is None or here < LIFT_MM:
        await go_to(bench, "z", LIFT_MM, DOWN_MM_S)


def gauge_of(machine: MachineFile) -> float:
    """The gauge's thickness, mm: as declared with the probe, or a sheet of paper."""
    probe = machine.probe
    return probe.gauge_mm if probe is not None else float(ProbeSettings.model_fields["gauge_mm"].default)


def places_over(machine: MachineFile, screws: dict[str, Screw]) -> dict[str, Point]:
    """Where the nozzle visits each screw: over it, or as near as it and the bed's margin allow."""
    bed, axes = machine.bed, machine.axes
    x = (max(bed.margin_mm, axes.x.minimum_mm), min(bed.width_mm - bed.margin_mm, axes.x.maximum_mm))
    y = (max(bed.margin_mm, axes.y.minimum_mm), min(bed.depth_mm - bed.margin_mm, axes.y.maximum_mm))
    reach = ProbeArea(x, y, (0.0, 0.0))
    return {name: reach.nearest((screw.x_mm, screw.y_mm)) for name, screw in screws.items()}


def _concluded(bench: Bench, rounds: int, adjusted: dict[str, float], gauge_mm: float) -> TrialResult:
    again = moved_again(bench, "bed-corners-by-hand", adjusted)
    findings = (
        Finding("rounds", float(rounds)),
        Finding("gauge", gauge_mm, unit="mm", words="gauge"),
        *(Finding("adjusted", n, subject={"screw": name}) for name, n in adjusted.items()),
        *(Finding("moved_in_a_row", float(n), subject={"screw": name}) for name, n in again.items()),
    )
    why = (
        f"A whole round was fine: the gauge of {gauge_mm:g} mm drags alike at every screw, after {rounds} rounds. The "
        "Z offset is to be done again now, since the middle has moved with the corners."
    )
    return TrialResult("proven", why + weak_words(again), conditions(bench), findings)


def _needs(machine: MachineFile, aim: CornersByHand, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (screws_need(machine), *warm_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: CornersByHand) -> str:
    names = several(list(machine.bed.screws))
    return (
        f"Homes axes not yet homed, then takes the nozzle to {names}, first {ROOM_MM:g} mm high, then down to the "
        f"gauge ({aim.gauge_mm or gauge_of(machine):g} mm); you turn each screw until the gauge drags, round after "
        f"round, until one whole round is fine. A hand on F8. {warm_words(machine, aim)}"
    )


USUAL_ROUNDS, A_SCREW_S = 4, 6.8
"""Rounds that it usually takes, and the motion at a screw, s."""


def _lasts(machine: MachineFile, aim: CornersByHand, times: TrialTimes) -> float:
    rounds_s = USUAL_ROUNDS * len(machine.bed.screws) * A_SCREW_S
    return times.home_s(machine) + warming_s(machine, aim, times) + rounds_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "bed-corners-by-hand",
        "bed corners",
        "The nozzle visits every screw, a gauge below it is felt, until one whole round is fine.",
        CornersByHand,
        bed_corners_by_hand,
        (VISITS,),
        _announce,
        _needs,
        figure=lambda result: "all alike",
        idle=lambda machine: "the probe does it better" if senses(machine) else "",
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs"),
        by_hand=True,
        facts=facts("moved", "screw"),
    ),
)
