"""The trial of the station *bed mesh* for a machine without a probe: is the bed still where it was, by a gauge at three
points. For after a knock, or a print that was pulled off hard.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats, Point
from ublet.core.bench import Bench
from ublet.core.level.gauging import gauge_setting
from ublet.core.level.mesh.check_trials import SHOWS_MM, SURE_Z
from ublet.core.level.mesh.hand_trials import (
    BACK,
    DRAGS,
    LIFT_MM,
    STEPS_MM,
    LowersByHand,
    lowered_onto_gauge,
)
from ublet.core.level.mesh.live import live_mesh, unfollowed
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.level.mesh.trials import probe_words
from ublet.core.level.probe.offset_trials import DROP_MM, DROP_U_MM, FEEL_COMMON_MM, FEEL_MM, HOT_C, nozzle_c
from ublet.core.level.reach import reach_of, senses
from ublet.core.level.support.corner_hand_trials import gauge_of
from ublet.core.level.warmth import PrintWarmUp, conditions, warm_needs, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.counting import homing_spread
from ublet.core.motion.homing_moves import home_unhomed, moving
from ublet.core.remedies import level_first
from ublet.core.remedy import GoTo, Remedy, StartAgain
from ublet.core.run import Finding, Progress, Stream, TrialFailed, TrialResult
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import show

DOWN_MM_S = 4.0
CHECKED = Stream("checked", ("x_mm", "y_mm", "height_mm", "expected_mm"), ("mm", "mm", "mm", "mm"))


class GaugeCheck(PrintWarmUp, LowersByHand):
    """The gauge, and how warm."""

    gauge_mm: float = gauge_setting()


@dataclass(frozen=True)
class Standing:
    """How a bed stands beside what is expected: mean, mm (positive: higher), and what its plane rises over the bed's
    width and depth, mm; each with its standard uncertainty.
    """

    shift: tuple[float, float]
    rise_x: tuple[float, float]
    rise_y: tuple[float, float]

    @property
    def tilted(self) -> bool:
        """Whether a rise is there that is more than what is felt, and more than a first layer hides."""
        return any(abs(mm) > max(SHOWS_MM, SURE_Z * u) for mm, u in (self.rise_x, self.rise_y))

    @property
    def shifted(self) -> bool:
        """Whether it is higher or lower as a whole, by as much."""
        return abs(self.shift[0]) > max(SHOWS_MM, SURE_Z * self.shift[1])


def standing(places: Floats, off_mm: Floats, felt_u_mm: float, common_u_mm: float, wide_deep: Point) -> Standing:
    """The plane through differences at places (n x 2, n >= 3), mm; by least squares about their middle.

    felt_u_mm: standard uncertainty of one height; common_u_mm: what all of them share.
    """
    middle = places.mean(axis=0)
    design = np.column_stack([np.ones(len(places)), places - middle])
    inverse = np.linalg.inv(design.T @ design)
    terms = inverse @ design.T @ off_mm
    u = felt_u_mm * np.sqrt(np.diag(inverse))
    (mean, along_x, along_y), (mean_u, x_u, y_u) = terms.tolist(), u.tolist()
    wide, deep = wide_deep
    return Standing((mean, math.hypot(mean_u, common_u_mm)), (along_x * wide, x_u * wide), (along_y * deep, y_u * deep))


def three_places(machine: MachineFile, live: Mesh | None) -> tuple[Point, ...]:
    """Front left, front right, and the middle of the back: of the live mesh, else as far out as the nozzle reaches.

    Raises:
        TrialFailed: it reaches none of the bed.
    """
    if live is not None:
        left, right, front, back = (float(mm) for mm in (live.x[0], live.x[-1], live.y[0], live.y[-1]))
    else:
        reach = reach_of(machine)
        (left, right), (front, back) = reach.x, reach.y
    return ((left, front), (right, front), ((left + right) / 2, back))


async def bed_check_by_hand(bench: Bench, aim: GaugeCheck) -> TrialResult:
    """The gauge at three points, beside the live mesh (without one: a bed that is flat and met at zero)."""
    machine = bench.machine
    gauge_mm = aim.gauge_mm or gauge_of(machine)
    live = live_mesh(bench.settings.live)
    places = three_places(machine, live)
    expected = [float(live.over([x], [y])[0, 0]) if live is not None else 0.0 for x, y in places]
    bench.motion.clear_at_the_end(LIFT_MM)
    await warm_up(bench, aim)
    await home_unhomed(bench, ("x", "y", "z"))
    heights: list[float] = []
    async with bench.settings.borrowed({"axes.z.soft_limits": False, **unfollowed(bench)}):
        while len(heights) < len(places):
            at = len(heights)
            words = f"{at + 1} of {len(places)}, {probe_words(places[at])}"
            bench.progress(Progress(f"point {at + 1}", at / len(places), None, words))
            answers = (DRAGS, *((BACK,) if at else ()))
            answer, z = await lowered_onto_gauge(bench, aim, places[at], gauge_mm, expected[at], words, answers)
            if answer == BACK:
                heights.pop()
                continue
            heights.append(z - gauge_mm)
            bench.record.row(CHECKED.name, (*places[at], heights[-1], expected[at]))
        await bench.motion.go({"z": LIFT_MM}, DOWN_MM_S)
    hot = nozzle_c(bench) >= HOT_C
    off = np.array(heights) - np.array(expected) - (0.0 if hot else DROP_MM)
    if not np.all(np.isfinite(off)):
        raise TrialFailed("A reading is no number: start again.", StartAgain())
    felt = math.hypot(FEEL_MM, STEPS_MM[-1] / 2) / math.sqrt(3)
    homed = math.sqrt(2) * homing_spread(bench, "z")  # now, and when the Z offset was taken
    common = math.hypot(FEEL_COMMON_MM / math.sqrt(3), homed, 0.0 if hot else DROP_U_MM)
    size = (machine.bed.width_mm, machine.bed.depth_mm)
    return _concluded(bench, standing(np.array(places), off, felt, common, size), live is not None)


def _concluded(bench: Bench, stands: Standing, meshed: bool) -> TrialResult:
    findings = (
        Finding("shift", *stands.shift, "mm", words="higher everywhere by"),
        Finding("tilt_x", *stands.rise_x, "mm", words="more rise to the right"),
        Finding("tilt_y", *stands.rise_y, "mm", words="more rise to the back"),
    )
    beside = "the live mesh" if meshed else "a flat bed"
    remedies: tuple[Remedy, ...] = ()
    if stands.tilted:
        tilt = f"{stands.rise_x[0]:+.2f} mm more to the right and {stands.rise_y[0]:+.2f} to the back"
        why = f"The bed is tilted: it rises {tilt} than {beside}. Level it, then the Z offset, then a mesh."
        remedies = (level_first(bench.machine),)
    elif stands.shifted:
        way = "higher" if stands.shift[0] > 0 else "lower"
        why = (
            f"The bed is {abs(stands.shift[0]):.2f} mm {way} than {beside} says, at all three points alike: a new Z "
            "offset mends it, the mesh may stay."
        )
        remedies = (GoTo("Z offset", "the nozzle's height over the bed"),)
    else:
        why = f"The bed is where it was: at three points it agrees with {beside} within what the gauge shows."
    return TrialResult("failed" if remedies else "proven", why, conditions(bench), findings, remedies=remedies)


def _needs(machine: MachineFile, aim: GaugeCheck, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (Need("3 points by hand", True), *warm_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: GaugeCheck) -> str:
    return (
        "Homes axes not yet homed, then stops at three points: front left, front right, back. At each you lower the "
        f"nozzle onto the gauge ({show(aim.gauge_mm or gauge_of(machine), 'mm', 3)}). Nothing is changed. "
        f"{warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    return "as it was" if result.outcome == "proven" else ""


A_CHECKED_POINT_S = 12.0
"""Motion at one of the three points, far apart, that is lowered onto the gauge by hand, s."""


def _lasts(machine: MachineFile, aim: GaugeCheck, times: TrialTimes) -> float:
    return times.home_s(machine) + warming_s(machine, aim, times) + 3 * A_CHECKED_POINT_S


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "bed-check-by-hand",
        "bed mesh",
        "Whether the bed is still where it was: a gauge at three points, after a knock or a print pulled off hard.",
        GaugeCheck,
        bed_check_by_hand,
        (CHECKED,),
        _announce,
        _needs,
        figure=_figure,
        idle=lambda machine: "the probe does it" if senses(machine) else "asked whenever you want to know",
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs", "mesh"),
        by_hand=True,
        facts=facts("surface", "moved", "nozzle"),
    ),
)
