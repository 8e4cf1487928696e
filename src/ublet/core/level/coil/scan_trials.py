"""Trial of the station *coil probe*: passes over the bed without touching it, one speed after the other."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ublet.core.bench import Bench
from ublet.core.level.coil.curve import coil_of, curve_of, no_coil
from ublet.core.level.coil.curve_trials import ROOT, coil_needs
from ublet.core.level.coil.scan import CoilScan, heights_in_pass, lines_over
from ublet.core.level.mesh.live import unfollowed
from ublet.core.level.reach import reach_of
from ublet.core.level.warmth import BedWarmUp, conditions, warm_needs, warm_up, warm_words
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_unhomed, moving, number_of
from ublet.core.remedy import ChangeParameter, GoTo
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import setting
from ublet.core.small_samples import deviation_u
from ublet.core.trial import Need, TrialSpec, facts

SPEEDS_MM_S = (150.0, 100.0, 70.0, 45.0, 30.0)
CLEAR_MM, LIFT_MM_S = 5.0, 6.0
SAME_UM = 2.0
"""Passes that differ by no more are as good as the slow one, µm."""

CLOSE_UM = 1.5
"""By how much a coil's heights are off from place to place besides their scatter, standard, µm: it sees the mean over
its own width, and what its warmth and its mount do in the time of a pass.
"""

PASSED = Stream("passed", ("speed_mm_s", "x_mm", "y_mm", "there_mm", "back_mm"), ("mm/s", "mm", "mm", "mm", "mm"))
"""The bed's height at every place of every pass, there and back."""


class PassParameters(BedWarmUp):
    """How high, how slow, how many places."""

    height_mm: float = setting("Height of the nozzle over the bed.", unit="mm", low=0.5, high=5, default=1.5)
    slow_mm_s: float = setting(
        "Speed of the pass that the others are held against.", unit="mm/s", low=5, high=60, default=15.0
    )
    columns: int = setting("Places along each line.", low=5, high=41, default=11)
    rows: int = setting("Lines.", low=2, high=21, default=5)


async def coil_pass(bench: Bench, aim: PassParameters) -> TrialResult:
    """Slowly twice, then faster ones: the fastest whose heights are not significantly worse than those of the slow
    one.
    """
    machine = bench.machine
    coil_of(machine)
    curve = curve_of(machine)
    travel = number_of(bench, "probe.travel_mm_s")
    if not curve.heights[0] <= aim.height_mm <= curve.heights[-1]:
        raise TrialFailed(
            f"The coil's curve reaches from {curve.heights[0]:.1f} to {curve.heights[-1]:.1f} mm: {aim.height_mm:g} "
            "mm is outside of it. Nothing moved.",
            ChangeParameter("height_mm", f"{curve.heights[0]:.1f} to {curve.heights[-1]:.1f} mm"),
            GoTo("coil probe", "a curve that reaches further", "coil-curve"),
        )
    bench.motion.clear_at_the_end(CLEAR_MM)
    await warm_up(bench, aim)
    await home_unhomed(bench, ("x", "y", "z"))
    reach = reach_of(machine)
    lines = lines_over(reach, aim.columns, aim.rows)
    speeds = (
        aim.slow_mm_s,
        aim.slow_mm_s,
        *(slow_speed for slow_speed in reversed(SPEEDS_MM_S) if slow_speed > aim.slow_mm_s),
    )
    passes: list[CoilScan] = []
    async with bench.settings.borrowed(unfollowed(bench)):
        await bench.motion.go({"z": CLEAR_MM}, LIFT_MM_S)
        for number, speed in enumerate(speeds):
            bench.progress(
                Progress(f"{speed:g} mm/s", number / len(speeds), None, f"pass {number + 1} of {len(speeds)}")
            )
            done = await heights_in_pass(bench, lines, reach, aim.height_mm, speed, travel, curve)
            for (x, y), one, other in zip(lines.places, done.there.ravel(), done.back.ravel(), strict=True):
                bench.record.row(PASSED.name, (speed, x, y, float(one), float(other)))
            passes.append(done)
        await bench.motion.go({"z": CLEAR_MM}, LIFT_MM_S)
    return _concluded(bench, aim, speeds, passes)


def worst_f(freedom: int) -> float:
    """By how much the variance of one of two alike series of so many may exceed the other's in 5 % of cases: the upper
    quantile of F by Fisher's z approximation (Abramowitz & Stegun 26.6.16).
    """
    q = 1.6449
    h = 2 / (2 / freedom)
    lam = (q * q - 3) / 6
    w = q * math.sqrt(h + lam) / h
    return math.exp(2 * w)


def corners_of(rows: int, columns: int) -> dict[str, tuple[int, int]]:
    """Nine places of a grid by their names: row and column."""
    deep = {"front": 0, "": rows // 2, "back": rows - 1}
    wide = {"left": 0, "": columns // 2, "right": columns - 1}
    return {
        "_".join(word for word in (y, x) if word) or "middle": (row, column)
        for y, row in deep.items()
        for x, column in wide.items()
    }


def _concluded(bench: Bench, aim: PassParameters, speeds: tuple[float, ...], passes: list[CoilScan]) -> TrialResult:
    maps, seconds = [scan.heights for scan in passes], [scan.seconds for scan in passes]
    slow = (maps[0] + maps[1]) / 2
    freedom = slow.size - 1
    own = 1000 * float(np.std(maps[1] - maps[0], ddof=1)) / math.sqrt(2)
    allowed = max(SAME_UM, own * math.sqrt(1.5 * worst_f(freedom)))
    off = {
        speed: 1000 * float(np.std(scan_map - slow, ddof=1))
        for speed, scan_map in zip(speeds[2:], maps[2:], strict=True)
    }
    good = [speed for speed, um in off.items() if um <= allowed]
    chosen = max(good, default=aim.slow_mm_s)
    findings: list[Finding] = [Finding("repeats", own, deviation_u(own, freedom), "µm", words="slow passes differ by")]
    for speed, um in off.items():
        findings += about({"speed": f"{speed:g}"}, (Finding("off", um, deviation_u(um, freedom), "µm"),))
    best = maps[speeds.index(chosen)] if chosen in off else slow
    level = best - best.mean()
    u_mm = math.hypot(CLOSE_UM, max(own, off.get(chosen, own))) / 1000
    for name, at in corners_of(aim.rows, aim.columns).items():
        findings += about(
            {"place": name}, (Finding("height", float(level[at]), u_mm, "mm", words="height over the mean"),)
        )
    findings += [
        Finding("range", float(np.ptp(level)), u_mm * math.sqrt(2), "mm", words="range of the bed"),
        Finding("warmer", passes[-1].over_c, None, "°C", words="coil warmer than at its curve"),
        Finding("speed", chosen, None, "mm/s", words="fastest good pass"),
        Finding("time", seconds[speeds.index(chosen)], None, "s", words="time of that pass"),
    ]
    before = bench.settings.shown(f"{ROOT}.pass_mm_s")
    why = (
        f"Slow passes ({aim.slow_mm_s:g} mm/s) agree within {own:.1f} µm. At {chosen:g} mm/s heights differ from them "
        f"by {off.get(chosen, own):.1f} µm, which is not significantly worse; a pass takes "
        f"{seconds[speeds.index(chosen)]:.0f} s instead of {seconds[0]:.0f}."
    )
    held = {**conditions(bench), "height_mm": aim.height_mm}
    if isinstance(before, (int, float)) and abs(before - chosen) < 1:
        return TrialResult("proven", f"{why} This value is already live: no change.", held, tuple(findings))
    proposal = Proposal(f"{ROOT}.pass_mm_s", before, chosen, "mm/s", "a bed is mapped so fast, and as well")
    option = Option("as measured", "meshes are taken at this speed", (proposal,), {})
    return TrialResult("proven", why, held, tuple(findings), (option,), option.name)


def _needs(machine: MachineFile, aim: PassParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if no_coil(machine):
        return coil_needs(machine)
    try:
        curve_of(machine)
        reach_of(machine)
    except TrialFailed as error:
        return (Need(str(error), False),)
    return (*coil_needs(machine), Need("its curve", True), *warm_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: PassParameters) -> str:
    return (
        f"Homes axes not yet homed, then passes {aim.height_mm:g} mm over the bed along {aim.rows} lines, there and "
        f"back: twice at {aim.slow_mm_s:g} mm/s, then at rising speeds up to {SPEEDS_MM_S[0]:g} mm/s. Nothing "
        f"touches the bed. {warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    finding = result.finding("speed")
    return f"{finding.value:g} mm/s" if finding is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "coil-pass",
        "coil probe",
        "Passes over the bed without touching it: the fastest whose heights are as good as those of a slow one.",
        PassParameters,
        coil_pass,
        (PASSED,),
        _announce,
        _needs,
        figure=_figure,
        idle=no_coil,
        uses=lambda machine: (*moving("programs", "coil")(machine), "heat"),
        facts=facts("probe", "surface"),
    ),
)
