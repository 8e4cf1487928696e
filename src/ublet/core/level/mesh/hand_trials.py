"""The trial of the station *bed mesh* without a probe: the nozzle visits every point with a gauge."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.gauging import gauge_setting
from ublet.core.level.mesh.live import unfollowed
from ublet.core.level.mesh.mesh import Mesh, filled
from ublet.core.level.mesh.trials import (
    MESHED,
    GridParameters,
    concluded,
    grid_of,
    grid_state,
    probe_words,
    range_figure,
    serpentine,
    zeroed,
)
from ublet.core.level.probe.offset_trials import FEEL_MM
from ublet.core.level.reach import senses
from ublet.core.level.support.corner_hand_trials import gauge_of
from ublet.core.level.warmth import warm_needs, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_unhomed, moving
from ublet.core.observations import LowerOntoGauge
from ublet.core.questions import Jog
from ublet.core.remedy import StartAgain
from ublet.core.run import Checkpoint, Progress, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import show

STEPS_MM = (1.0, 0.1, 0.05, 0.01)
LIFT_MM, NEAR_MM, TRAVEL_MM_S, DOWN_MM_S = 5.0, 0.6, 60.0, 4.0
DRAGS, BACK, SKIP, STOP = "it drags", "back", "skip", "stop here"
"""Answers at a point: its height is this; the point before once more; leave it out; no more today."""

FEWEST = 4


class LowersByHand(Part):
    """How the nozzle is lowered onto a gauge."""

    deepest_mm: float = setting(
        "How far below the expected bed the nozzle may be lowered.", unit="mm", low=0.2, high=6, default=1.5
    )
    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=0.2, high=10, default=2.0)


class MeshByHand(GridParameters, LowersByHand):
    """The grid and the gauge."""

    gauge_mm: float = gauge_setting()


async def bed_mesh_by_hand(bench: Bench, aim: MeshByHand) -> TrialResult:
    """Visit every point in serpentine order; after each one a checkpoint, so that it can go on tomorrow."""
    machine = bench.machine
    _, xs, ys = grid_of(machine, aim)
    gauge_mm = aim.gauge_mm or gauge_of(machine)
    bench.motion.clear_at_the_end(LIFT_MM)
    await warm_up(bench, aim)
    await home_unhomed(bench, ("x", "y", "z"))
    order = serpentine(len(xs), len(ys))
    by_number: dict[int, float] = {}
    at = 0
    going = bench.record.going_on
    if going is not None and grid_state(xs, ys).items() <= dict(going.state).items():
        at = int(going.state["at"])
        by_number = {int(number): float(mm) for number, mm in going.state["heights"].items()}
    async with bench.settings.borrowed({"axes.z.soft_limits": False, **unfollowed(bench)}):
        while at < len(order):
            column, row = order[at]
            words = f"{at + 1} of {len(order)}, {probe_words((xs[column], ys[row]))}"
            bench.progress(Progress(f"point {at + 1}", at / len(order), None, words))
            answers = (DRAGS, *((BACK,) if at else ()), SKIP, STOP)
            place = (xs[column], ys[row])
            answer, z = await lowered_onto_gauge(bench, aim, place, gauge_mm, _nearby(by_number), words, answers)
            if answer == STOP:
                done = f"{len(by_number)} of {len(order)} points are kept: “go on” takes it from here."
                raise TrialFailed(f"Stopped at point {at + 1}. {done}", StartAgain(goes_on=True), outcome="halted")
            if answer == BACK:
                at -= 1
                by_number.pop(at, None)
                continue
            if answer == DRAGS:
                by_number[at] = z - gauge_mm
                bench.record.row(MESHED.name, (column, row, xs[column], ys[row], by_number[at]))
            at += 1
            state = {"at": at, **grid_state(xs, ys), "heights": {str(n): mm for n, mm in by_number.items()}}
            bench.record.checkpoint(Checkpoint(f"{len(by_number)} of {len(order)} points done", state))
        await bench.motion.go({"z": LIFT_MM}, DOWN_MM_S)
    if len(by_number) < FEWEST:
        raise TrialFailed(
            f"Only {len(by_number)} points have a height: a mesh needs {FEWEST} at the least.", StartAgain(goes_on=True)
        )
    heights = np.full((len(ys), len(xs)), np.nan)
    for number, mm in by_number.items():
        column, row = order[number]
        heights[row, column] = mm
    mesh = await bench.compute(zeroed, machine, filled(Mesh(np.array(xs), np.array(ys), heights)))
    return await concluded(bench, mesh, FEEL_MM / math.sqrt(3), 0.0)


def _nearby(heights: dict[int, float]) -> float:
    """About where the next point should be: as the one before, mm."""
    return heights[max(heights)] if heights else 0.0


async def lowered_onto_gauge(
    bench: Bench,
    aim: LowersByHand,
    place: Point,
    gauge_mm: float,
    near_mm: float,
    words: str,
    answers: tuple[str, ...],
) -> tuple[str, float]:
    """Over a point, down by the builder's keys until the gauge drags; the answer, and Z then, mm.

    near_mm: where the bed is expected there. words: which point, for the question. answers: what can be answered.
    """
    await bench.motion.go({"z": LIFT_MM + max(0.0, near_mm)}, DOWN_MM_S)
    await bench.motion.go({"x": place[0], "y": place[1]}, TRAVEL_MM_S)
    await bench.motion.go({"z": near_mm + gauge_mm + NEAR_MM}, DOWN_MM_S)
    asked = Jog(
        f"Point {words}: lay the gauge ({gauge_mm:g} mm) below the nozzle and lower Z until it just drags.",
        answers,
        LowerOntoGauge(gauge_mm),
        axes=("z",),
        steps=STEPS_MM,
        floor={"z": near_mm - aim.deepest_mm},
    )
    jogged = await bench.builder.jog(asked, aim.speed_mm_s)
    return jogged.answer, jogged.position["z"] + STEPS_MM[-1] / 2


def _needs(machine: MachineFile, aim: MeshByHand, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    try:
        _, xs, ys = grid_of(machine, aim)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    return (Need(f"{len(xs)} x {len(ys)} points by hand", True), *warm_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: MeshByHand) -> str:
    try:
        _, xs, ys = grid_of(machine, aim)
    except TrialFailed as missing:
        return str(missing)
    return (
        f"Homes axes not yet homed, then visits {len(xs)} x {len(ys)} points; at each you lower the nozzle onto the "
        f"gauge ({show(aim.gauge_mm or gauge_of(machine), 'mm', 3)}). “stop here” keeps what there is; it goes on "
        f"another day. {warm_words(machine, aim)}"
    )


A_POINT_BY_HAND_S = 9.3
"""Motion at a point that is lowered onto the gauge by hand, s."""


def _lasts(machine: MachineFile, aim: MeshByHand, times: TrialTimes) -> float:
    try:
        _, xs, ys = grid_of(machine, aim)
    except TrialFailed:
        return 0.0
    return times.home_s(machine) + warming_s(machine, aim, times) + len(xs) * len(ys) * A_POINT_BY_HAND_S


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "bed-mesh-by-hand",
        "bed mesh",
        "The bed's shape on a grid with a gauge below the nozzle, point by point; it can go on another day.",
        MeshByHand,
        bed_mesh_by_hand,
        (MESHED,),
        _announce,
        _needs,
        figure=range_figure,
        idle=lambda machine: "the probe does it" if senses(machine) else "",
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs", "mesh"),
        by_hand=True,
        facts=facts("surface", "moved", "nozzle"),
    ),
)
