"""The trial of the station *bed mesh*: the bed's height on a grid, by the probe."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.coil.curve import curve_of, no_coil
from ublet.core.level.coil.scan import ScanLines, heights_in_pass
from ublet.core.level.mesh.figures import mesh_figures
from ublet.core.level.mesh.following import following_costs
from ublet.core.level.mesh.live import mesh_settings, unfollowed
from ublet.core.level.mesh.mesh import WRONG_MM, Mesh, outliers
from ublet.core.level.probe.probing import (
    TOUCHES,
    Probing,
    approach_of,
    declared_approach,
    grid_s,
    probe_needs,
    probe_of,
    probing,
    probing_uses,
)
from ublet.core.level.reach import NO_PROBE, ProbeArea, reach_of, senses
from ublet.core.level.scatter import PLACE_MM, pooled_u_mm
from ublet.core.level.support.screws import turns_to_level
from ublet.core.level.surface import FittedSurface, fit_surface
from ublet.core.level.warmth import PrintWarmUp, conditions, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_unhomed, number_of
from ublet.core.remedies import SOAK_FIRST, level_first
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, Remedy, StartAgain
from ublet.core.run import Checkpoint, Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import duration

FADE = "mesh.fade_mm"
COARSE_MM = 0.02
"""A mesh that may be off by less between its points is fine enough, standard, mm."""

HOMED_MM = 0.06
"""By more than this two homings do not differ: the bed was moved, mm."""

FLAT_MM, WORTH_MM = 0.03, 0.4
"""A bed whose shape varies by less prints as well without a mesh; by more a mesh hides what should be mended, mm."""

CLEAR_MM, LIFT_MM_S, PASS_MM = 5.0, 6.0, 2.0
"""A coil passes so high over where Z = 0, mm; between it is so high."""

MESHED = Stream("meshed", ("column", "row", "x_mm", "y_mm", "height_mm"), ("", "", "mm", "mm", "mm"))
"""Every point as it was found: its place in the grid, where over the bed, and its height over the point of reference's.
"""


class GridParameters(PrintWarmUp):
    """The grid."""

    columns: int = setting("Points along X; 0: as declared.", zero="as declared", low=0, high=44, default=0)
    rows: int = setting("Points along Y; 0: as declared.", zero="as declared", low=0, high=44, default=0)


class MeshParameters(GridParameters):
    """The grid, and how often each point is touched."""

    samples: int = setting("Touches at each point; 0: as declared.", zero="as declared", low=0, high=20, default=0)
    touches: bool = setting("Kind coil: touch every point, too, instead of passing over them.", default=False)


def grid_of(machine: MachineFile, aim: GridParameters) -> tuple[ProbeArea, tuple[float, ...], tuple[float, ...]]:
    """What the probe reaches, and the columns and rows of the mesh in it, mm from the bed's front left corner.

    Raises:
        TrialFailed: no mesh is declared, or its margin leaves nothing of what the probe reaches.
    """
    declared = machine.mesh
    if declared is None:
        raise TrialFailed(
            "No mesh is declared: add a table [mesh] to the machine file.",
            ChangeSetting("mesh", "add the table [mesh]"),
        )
    reach, bed = reach_of(machine), machine.bed
    lines = []
    for name, (low, high), size, count in (
        ("X", reach.x, bed.width_mm, aim.columns or declared.columns),
        ("Y", reach.y, bed.depth_mm, aim.rows or declared.rows),
    ):
        low, high = max(low, declared.margin_mm), min(high, size - declared.margin_mm)
        if high - low < 10.0:
            raise TrialFailed(
                f"Along {name} the mesh's margin of {declared.margin_mm:g} mm leaves {max(0.0, high - low):.0f} mm of "
                "what the probe reaches: make it smaller (mesh.margin_mm).",
                ChangeSetting("mesh.margin_mm", "smaller"),
            )
        if count == 1:
            raise TrialFailed(
                f"A mesh has at least two points along {name}.", ChangeSetting("mesh.columns", "two or more")
            )
        lines.append(tuple(np.linspace(low, high, count).round(3).tolist()))
    zero_place(machine, lines[0], lines[1])
    return reach, lines[0], lines[1]


async def bed_mesh(bench: Bench, aim: MeshParameters) -> TrialResult:
    """Touch every point in serpentine order; points that look wrong against all others once more; the first one again
    at the end. Heights count from the bed's middle, so that the mesh does not fight the Z offset.
    """
    machine = bench.machine
    reach, xs, ys = grid_of(machine, aim)
    _, warm = await warm_up(bench, aim)
    if probe_of(machine).kind == "coil" and not aim.touches:
        return await _passed(bench, reach, xs, ys)
    return await _touched(bench, aim, reach, xs, ys, warm)


async def _passed(bench: Bench, reach: ProbeArea, xs: tuple[float, ...], ys: tuple[float, ...]) -> TrialResult:
    """A coil goes over the rows, there and back, and touches nothing."""
    curve, speed = curve_of(bench.machine), number_of(bench, "probe.coil.pass_mm_s")
    bench.motion.clear_at_the_end(CLEAR_MM)
    await home_unhomed(bench, ("x", "y", "z"))
    out = max(0.0, min(12.0, xs[0] - reach.x[0], reach.x[1] - xs[-1]))
    lines = ScanLines(ys, xs, out, min(6.0, (xs[1] - xs[0]) / 2))
    async with bench.settings.borrowed(unfollowed(bench)):
        bench.progress(Progress("a pass", 0.3, None, f"{len(ys)} lines at {speed:g} mm/s"))
        await bench.motion.go({"z": CLEAR_MM}, LIFT_MM_S)
        travel = number_of(bench, "probe.travel_mm_s")
        done = await heights_in_pass(bench, lines, reach, PASS_MM, speed, travel, curve)
        await bench.motion.go({"z": CLEAR_MM}, LIFT_MM_S)
    for row, y in enumerate(ys):
        for column, x in enumerate(xs):
            bench.record.row(MESHED.name, (column, row, x, y, float(done.heights[row, column])))
    repeats = float(np.std(done.there - done.back)) / 2
    mesh = await bench.compute(zeroed, bench.machine, Mesh(np.array(xs), np.array(ys), done.heights))
    return await concluded(bench, mesh, repeats, PLACE_MM["coil"] / 2, {})


async def _touched(
    bench: Bench,
    aim: MeshParameters,
    reach: ProbeArea,
    xs: tuple[float, ...],
    ys: tuple[float, ...],
    warm: dict[str, float],
) -> TrialResult:
    """Point by point."""
    machine = bench.machine
    heights = np.full((len(ys), len(xs)), np.nan)
    series: list[list[float]] = []
    order = serpentine(len(xs), len(ys))
    begun = 0
    if (going := bench.record.going_on) is not None and grid_state(xs, ys).items() <= dict(going.state).items():
        series = [[float(mm) for mm in touches] for touches in going.state["touches"]]
        begun = len(series)
        for (column, row), touches in zip(order, series, strict=False):
            heights[row, column] = sum(touches) / len(touches)
            bench.record.row(MESHED.name, (column, row, xs[column], ys[row], float(heights[row, column])))
    async with probing(bench, approach_of(bench, aim.samples), 0.0, warm) as probe:
        shift = 0.0  # Z was homed anew since it was stopped, and so stands a little otherwise
        if begun:
            shift = float(heights[0, 0]) - await probe.height_at((xs[0], ys[0]))
            if abs(shift) > HOMED_MM:
                raise TrialFailed(
                    f"The bed does not stand as it did when this mesh was stopped: {reach.words((xs[0], ys[0]))} is "
                    f"{abs(shift):.3f} mm {'lower' if shift > 0 else 'higher'} now. Start the mesh anew.",
                    StartAgain("the mesh anew"),
                )
        for number, (column, row) in enumerate(order[begun:], start=begun):
            done = number / len(order)
            bench.progress(Progress(f"point {number + 1}", 0.95 * done, None, f"of {len(order)}"))
            place = (xs[column], ys[row])
            touches = [mm + shift for mm in await probe.agreeing_at(place, probe.approach.samples)]
            series.append(touches)
            heights[row, column] = sum(touches) / len(touches)
            bench.record.row(MESHED.name, (column, row, *place, float(heights[row, column])))
            if (number + 1) % len(xs) == 0:
                state = {**grid_state(xs, ys), "touches": series}
                bench.record.checkpoint(Checkpoint(f"{(number + 1) // len(xs)} of {len(ys)} rows touched", state))
        again = await _touch_again(bench, probe, shift, Mesh(np.array(xs), np.array(ys), heights))
        moved = await probe.height_at((xs[0], ys[0])) + shift - heights[0, 0]
        repeats = pooled_u_mm(series) / math.sqrt(probe.approach.samples)
        if probe.moved(moved, repeats):
            raise TrialFailed(
                f"Touched again at the end, {reach.words((xs[0], ys[0]))} stands {abs(moved):.3f} mm "
                f"{'higher' if moved > 0 else 'lower'} than at the beginning: the bed was knocked, or still warms up. "
                "Soak it longer and probe again.",
                SOAK_FIRST,
                ByHand("look for a corner on a slack spring, a loose sheet"),
            )
        common = PLACE_MM.get(probe.kind, max(PLACE_MM.values()))
    mesh = await bench.compute(zeroed, machine, Mesh(np.array(xs), np.array(ys), heights))
    return await concluded(bench, mesh, repeats, common, again)


def grid_state(xs: Sequence[float], ys: Sequence[float]) -> dict[str, list[float]]:
    """The places of a grid, mm, for a checkpoint: another grid of as many points is not gone on with."""
    return {"x_mm": [round(float(x), 3) for x in xs], "y_mm": [round(float(y), 3) for y in ys]}


def zero_place(machine: MachineFile, x: Sequence[float], y: Sequence[float]) -> Point:
    """Where heights are zero: as declared, else over the bed's middle.

    Raises:
        TrialFailed: the mesh does not cover it.
    """
    declared, bed = machine.mesh, machine.bed
    zero = (declared.zero_x_mm, declared.zero_y_mm) if declared is not None else (None, None)
    for axis, mm, lines in (("x", zero[0], x), ("y", zero[1], y)):
        if mm is not None and not lines[0] <= mm <= lines[-1]:
            raise TrialFailed(
                f"mesh.zero_{axis}_mm = {mm:g} lies outside what the mesh covers, {lines[0]:g} to {lines[-1]:g} mm: "
                "change it, or leave it out for the bed's middle.",
                ChangeSetting(f"mesh.zero_{axis}_mm", f"{lines[0]:g} to {lines[-1]:g} mm, or left out"),
            )
    return (
        bed.width_mm / 2 if zero[0] is None else zero[0],
        bed.depth_mm / 2 if zero[1] is None else zero[1],
    )


def zeroed(machine: MachineFile, mesh: Mesh) -> Mesh:
    """The same over its place of reference: a mesh must not fight the Z offset."""
    between = machine.mesh.between if machine.mesh is not None else "bicubic"
    place = zero_place(machine, mesh.x.tolist(), mesh.y.tolist())
    return Mesh(mesh.x, mesh.y, mesh.heights - float(mesh.over([place[0]], [place[1]], between)[0, 0]))


def serpentine(columns: int, rows: int) -> list[tuple[int, int]]:
    """Column and row of every point, to the right along one row and back along the next, from the front left."""
    return [(column if row % 2 == 0 else columns - 1 - column, row) for row in range(rows) for column in range(columns)]


async def _touch_again(bench: Bench, probe: Probing, shift: float, mesh: Mesh) -> dict[Point, float]:
    """Touch points that look wrong once more; their new heights stand in the mesh. Returns by how much each changed."""
    changed: dict[Point, float] = {}
    for place in await bench.compute(outliers, mesh):
        bench.progress(Progress("a wrong point", 0.96, None, f"{probe.reach.words(place)} once more"))
        height = await probe.height_at(place) + shift
        row, column = mesh.cell(place)
        changed[place] = height - float(mesh.heights[row, column])
        mesh.heights[row, column] = height
        bench.record.row(MESHED.name, (column, row, *place, height))
    return changed


def good_enough(range_mm: float, layer_mm: float = 0.2) -> str:
    """What the first layer would be without any mesh, in words."""
    half = range_mm / 2
    if range_mm <= FLAT_MM:
        varies = f"would vary by {half:.3f} mm up and down"
        return f"Without any mesh a first layer of {layer_mm:g} mm {varies}: as good without."
    fraction = 100 * half / layer_mm
    words = (
        f"Without any mesh a first layer of {layer_mm:g} mm would vary by {half:.3f} mm up and down, {fraction:.0f} %"
    )
    return f"{words}: more than a mesh should hide; level the bed first." if range_mm > WORTH_MM else f"{words}."


async def concluded(
    bench: Bench, mesh: Mesh, repeats_mm: float, common_mm: float, again: dict[Point, float] | None = None
) -> TrialResult:
    """What a mesh says of the bed, and the proposal to follow it.

    repeats_mm: standard uncertainty of a height that is new at each point; common_mm: that of neighbours alike. again:
    points that were touched once more, and by how much they changed: a point that repeats is the bed, however it
    looks. None: no point can be touched again.
    """
    assert bench.machine.mesh is not None
    figures = await bench.compute(mesh_figures, mesh, repeats_mm, common_mm)
    plane, u = fit_surface(mesh.places, mesh.heights.ravel().tolist()), math.hypot(repeats_mm, common_mm)
    slope_u = plane.slope_u(u)
    wide, deep = float(np.ptp(mesh.x)), float(np.ptp(mesh.y))
    tilt_x, tilt_y = plane.slope[0] * wide, plane.slope[1] * deep
    wrong = (
        await bench.compute(outliers, mesh)
        if again is None
        else tuple(place for place, mm in again.items() if abs(mm) > WRONG_MM)
    )
    rms_u = math.hypot(figures.rms_u_mm, figures.between_mm / 2)
    findings = (
        Finding("range", figures.range_mm, figures.range_u_mm, "mm", words="from lowest to highest"),
        Finding("rms", figures.rms_mm, rms_u, "mm", words="RMS about the mean"),
        Finding("tilt_x", tilt_x, math.hypot(slope_u[0] * wide, u / 2), "mm", words="rise to the right"),
        Finding("tilt_y", tilt_y, math.hypot(slope_u[1] * deep, u / 2), "mm", words="rise to the back"),
        Finding("warp", figures.warp_mm, figures.warp_u_mm, "mm", words="without the tilt"),
        Finding("between", figures.between_mm, None, "mm", words="error between the points, 1 s.d."),
        Finding("points", float(mesh.heights.size), words="points"),
        Finding("wrong", float(len(wrong)), words="points that look wrong"),
    )
    why = (
        f"{figures.range_mm:.3f} ±{2 * figures.range_u_mm:.3f} mm from lowest to highest, {figures.warp_mm:.3f} "
        f"±{2 * figures.warp_u_mm:.3f} without the tilt. {good_enough(figures.range_mm)}"
    )
    tilt = math.hypot(tilt_x, tilt_y)
    if tilt > max(0.1, 2 * figures.warp_mm):
        why += f" Most of it is tilt: {_by_the_screws(bench.machine, plane)}"
    if figures.between_mm > max(COARSE_MM, 2 * u):
        why += (
            f" Between its points it may be off by {2 * figures.between_mm:.3f} mm: the bed bends more than so few "
            "points show, take more of them."
        )
    if again:
        repeated = ", ".join(f"{probe_words(place)} by {mm:+.3f} mm" for place, mm in again.items())
        why += f" Touched once more, since they looked wrong: {repeated}."
    if wrong:
        places = "; ".join(probe_words(place) for place in wrong)
        why += f" Do not repeat, or do not fit their neighbours: {places}. Look for plastic on the sheet there."
    costs = following_costs(bench.machine, mesh, number_of(bench, FADE))
    why += f" {costs.words}"
    effect = "Z follows it from now on, fading out with the height"
    proposals = tuple(
        Proposal(path, bench.settings.shown(path), new, unit, effect) for path, new, unit in mesh_settings(mesh)
    )
    if costs.better_mm is not None:
        slower = f"layers differ by {100 * costs.uneven * costs.fade_mm / costs.better_mm:.1f} %"
        proposals += (Proposal(FADE, costs.fade_mm, costs.better_mm, "mm", slower),)
    option = Option("this mesh", "then the first layer", proposals, {"range": figures.range_mm})
    advice: list[Remedy] = []
    if figures.range_mm > WORTH_MM or tilt > max(0.1, 2 * figures.warp_mm):
        advice.append(level_first(bench.machine, tilt_mm=tilt))
    if figures.between_mm > max(COARSE_MM, 2 * u):
        advice.append(ChangeParameter("columns", "more points"))
    if wrong:
        advice.append(ByHand("clean the sheet where points look wrong"))
    held = conditions(bench)
    return TrialResult("proven", why, held, findings, (option,), option.name, tuple(advice))


def _by_the_screws(machine: MachineFile, plane: FittedSurface) -> str:
    """What takes a tilt out on this machine, better than a mesh does."""
    if len(machine.axes.z.motors) > 1:
        return "the lead screws take that out better than a mesh (station lead screws)."
    screws = machine.bed.screws
    if len(screws) < 3:
        return "level the bed, that takes it out better than a mesh."
    turns = turns_to_level(screws, plane)
    turns_words = "; ".join(f"{name} {turn.words}" for name, turn in turns.items() if not turn.rests)
    return f"the screws take that out better than a mesh: {turns_words}."


def probe_words(place: Point) -> str:
    """A place of the bed, for people."""
    return f"X {place[0]:.0f}, Y {place[1]:.0f}"


def _needs(machine: MachineFile, aim: MeshParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    try:
        _, xs, ys = grid_of(machine, aim)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    even = [name for name, count in (("columns", len(xs)), ("rows", len(ys))) if count % 2 == 0]
    odd = Need(f"an odd count of {' and '.join(even)} has a point in the middle", False, False)
    try:
        curved = (
            () if no_coil(machine) or aim.touches else (Need(f"its curve, {len(curve_of(machine).hz)} points", True),)
        )
    except TrialFailed as missing:
        curved = (Need(str(missing), False),)
    return (
        Need(f"{len(xs)} x {len(ys)} points", True),
        *curved,
        *([odd] if even else []),
        *probe_needs(machine, aim, read),
    )


def _announce(machine: MachineFile, aim: MeshParameters) -> str:
    try:
        reach, xs, ys = grid_of(machine, aim)
        about = duration(grid_s(declared_approach(probe_of(machine), aim.samples), xs, ys))
    except TrialFailed as missing:
        return str(missing)
    if not no_coil(machine) and not aim.touches:
        return (
            f"Homes axes not yet homed, then passes {PASS_MM:g} mm over the bed along {len(ys)} lines, there and back, "
            f"and measures {len(xs) * len(ys)} heights. Nothing touches the bed. {warm_words(machine, aim)}"
        )
    first, last = reach.words((xs[0], ys[0])), reach.words((xs[-1], ys[-1]))
    return (
        f"Homes axes not yet homed, then touches {len(xs)} x {len(ys)} points from {first} to {last}, row by row, "
        f"about {about}. {warm_words(machine, aim)}"
    )


def range_figure(result: TrialResult) -> str:
    """The key figure of a mesh: from lowest to highest."""
    finding = result.finding("range")
    return f"{finding.value:.3f} mm" if finding is not None else ""


def _lasts(machine: MachineFile, aim: MeshParameters, times: TrialTimes) -> float:
    try:
        _, xs, ys = grid_of(machine, aim)
    except TrialFailed:
        return 0.0
    approach = declared_approach(probe_of(machine), aim.samples)
    touching_s = grid_s(approach, xs, ys) + times.watching_s(machine, len(xs) * len(ys), approach.samples)
    return times.home_s(machine) + warming_s(machine, aim, times) + touching_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "bed-mesh",
        "bed mesh",
        "The bed's shape on a grid by the probe: from above, in section, and whether it is good enough.",
        MeshParameters,
        bed_mesh,
        (TOUCHES, MESHED),
        _announce,
        _needs,
        figure=range_figure,
        idle=lambda machine: "" if senses(machine) and machine.mesh is not None else NO_PROBE,
        lasts=_lasts,
        uses=lambda machine: (*probing_uses(machine), *(() if no_coil(machine) else ("coil",)), "mesh"),
        facts=facts("screw", "surface", "moved", "probe"),
    ),
)
