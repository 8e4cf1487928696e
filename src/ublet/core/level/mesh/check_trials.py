"""The trial of the station *bed mesh* that asks whether the live mesh still holds; two meshes compared."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.bench import Bench
from ublet.core.heat.demands import beds
from ublet.core.level.mesh.live import HEIGHTS, live_mesh
from ublet.core.level.mesh.mesh import Mesh, filled, outliers, polynomial
from ublet.core.level.probe.probing import TOUCHES, homing_approach, probe_needs, probing, probing_uses
from ublet.core.level.reach import NO_PROBE, probe_offset, senses
from ublet.core.level.scatter import PLACE_MM, pooled_u_mm
from ublet.core.level.surface import fit_surface
from ublet.core.level.warmth import PrintWarmUp, conditions, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_axis, home_unhomed
from ublet.core.remedies import level_first
from ublet.core.remedy import GoTo, Remedy
from ublet.core.run import Finding, Progress, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes

MeshVerdict = Literal["same", "shift", "tilt", "shape"]

SURE_Z = 2.576
"""Quantile of the normal distribution beyond which 1 % lies on both sides."""

USUAL_MM = 0.005
"""Spread of a touch where nothing shows it, mm."""

LEAST_MM = 0.0005
"""No probe repeats better than this, whatever a few heights seem to show, mm."""

FEWEST = 4


@dataclass(frozen=True)
class Compared:
    """One mesh less another, mm. spread_mm: of one height, as given or as the difference itself shows."""

    verdict: MeshVerdict
    shift_mm: float
    tilt_x_mm: float
    tilt_y_mm: float
    shape_rms_mm: float
    spread_mm: float
    points: int
    difference: Mesh
    common_mm: float = 0.0

    @property
    def largest_mm(self) -> float:
        """The largest difference by the explanation that was found: shift, plane, or point by point."""
        heights = self.difference.heights
        if self.verdict == "shape":
            return float(np.nanmax(np.abs(heights)))
        tilt = (abs(self.tilt_x_mm) + abs(self.tilt_y_mm)) / 2 if self.verdict == "tilt" else 0.0
        return abs(self.shift_mm) + tilt

    @property
    def words(self) -> str:
        """What it means for whoever is about to print."""
        match self.verdict:
            case "same":
                return "still holds"
            case "shift":
                way = "higher" if self.shift_mm > 0 else "lower"
                return f"{abs(self.shift_mm):.3f} mm {way} everywhere: a new Z offset"
            case "tilt":
                return (
                    f"tilted by {self.tilt_x_mm:+.3f} mm over its width and {self.tilt_y_mm:+.3f} over its depth: "
                    "turn the screws"
                )
        return f"another shape, {self.shape_rms_mm:.3f} mm in the root mean square: probe again"


def compare(
    mesh: Mesh, other: Mesh, spread_mm: float | None = None, whole: bool = False, common_mm: float = 0.0
) -> Compared:
    """A mesh less another one, at its own points where both reach; outliers of either are left out, unless whole.

    The difference of two heights scatters by ``s sqrt(2)``. First of these that is significant at 1 %: what a plane
    leaves (chi squared with n - 3 degrees of freedom), its two slopes (chi squared with 2), its mean (normal).

    Args:
        spread_mm: standard deviation of one height; None: from what a smooth surface leaves of the difference.
        whole: every point counts: points that were touched again are the bed, however odd they look.
        common_mm: standard uncertainty that all differences share, as of where Z was homed.

    Raises:
        ValueError: fewer than four points in common.
    """
    places, off = _differences(mesh, other, whole)
    count = len(off)
    if count < FEWEST:
        raise ValueError(f"the two have {count} points in common: at least four are needed")
    each_mm = spread_mm if spread_mm is not None else _spread(places, off)
    sigma = max(each_mm, 1e-6) * math.sqrt(2)
    plane = fit_surface([(float(x), float(y)) for x, y in places], off.tolist())
    slopes = np.array(plane.slope)
    inverse = np.linalg.pinv(plane.covariance[1:3, 1:3])
    left = float(plane.left @ plane.left) / sigma**2
    tilted = float(slopes @ inverse @ slopes) / sigma**2
    shift = float(off.mean())
    verdict: MeshVerdict = "same"
    if count > 3 and left > chi_squared(count - 3):
        verdict = "shape"
    elif tilted > chi_squared(2):
        verdict = "tilt"
    elif abs(shift) > SURE_Z * math.hypot(sigma / math.sqrt(count), common_mm):
        verdict = "shift"
    wide, deep = float(np.ptp(mesh.x)), float(np.ptp(mesh.y))
    heights = np.full(mesh.heights.shape, np.nan)
    for (x, y), mm in zip(places.tolist(), off.tolist(), strict=True):
        heights[mesh.cell((x, y))] = mm
    return Compared(
        verdict,
        shift,
        float(slopes[0]) * wide,
        float(slopes[1]) * deep,
        plane.left_rms_mm,
        each_mm,
        count,
        Mesh(mesh.x, mesh.y, heights),
        common_mm,
    )


def _differences(mesh: Mesh, other: Mesh, whole: bool) -> tuple[Floats, Floats]:
    """Places (n x 2) and differences (n) where both show a height."""
    mine, its = (one if whole else one.without(outliers(one)) for one in (mesh, other))
    same = (
        mine.heights.shape == its.heights.shape
        and np.allclose(mine.x, its.x, atol=0.5)
        and np.allclose(mine.y, its.y, atol=0.5)
    )
    if same:
        measured = its.heights
    else:
        measured = filled(its).over(mine.x, mine.y)
        measured[:, (mine.x < its.x[0] - 0.5) | (mine.x > its.x[-1] + 0.5)] = np.nan
        measured[(mine.y < its.y[0] - 0.5) | (mine.y > its.y[-1] + 0.5), :] = np.nan
    off = mine.heights - measured
    at = np.argwhere(~np.isnan(off))
    return np.column_stack([mine.x[at[:, 1]], mine.y[at[:, 0]]]), off[at[:, 0], at[:, 1]]


def _spread(places: Floats, off: Floats) -> float:
    """Spread of one height: what a smooth surface leaves of the difference; with few points what is usual."""
    design = polynomial(places, len(off))
    freedom = len(off) - design.shape[1]
    if freedom < 6:
        return USUAL_MM
    basis, _ = np.linalg.qr(design)
    left = off - basis @ (basis.T @ off)
    return max(LEAST_MM, math.sqrt(float(left @ left) / freedom / 2))


def chi_squared(freedom: int) -> float:
    """Beyond this lies 1 % of chi squared (Wilson & Hilferty 1931)."""
    ninth = 2 / (9 * freedom)
    return float(freedom * (1 - ninth + 2.326 * math.sqrt(ninth)) ** 3)


SAMPLES = 3


SHOWS_MM = 0.03
"""A first layer looks the same while the bed is off by less, mm."""

SAME_BED_C = 8.0
"""A bed bends alike within so many °C."""


class CheckParameters(PrintWarmUp):
    """How often each of the five places is touched."""

    samples: int = setting("Touches at each of the five places.", low=2, high=10, default=SAMPLES)


async def mesh_check(bench: Bench, aim: CheckParameters) -> TrialResult:
    """Four corners of the mesh and its middle, against the live mesh: it holds, it is shifted, tilted, or another
    shape.
    """
    live = live_mesh(bench.settings.live)
    if live is None:
        raise TrialFailed(
            "No mesh is live on the board: probe one first, and keep it. Nothing moved.",
            GoTo("bed mesh", "probe a mesh and keep it", "bed-mesh"),
        )
    with bench.aside():
        taken = bench.record.earlier("bed-mesh")
    _, warm = await warm_up(bench, aim)
    cold = _colder(bench, taken)
    await home_unhomed(bench, ("x", "y", "z"))
    await home_axis(bench, "z")  # as warm as it is now: the probe and the bed have moved with the heat since
    columns, rows = (0, live.columns // 2, live.columns - 1), (0, live.rows // 2, live.rows - 1)
    heights = np.full((3, 3), np.nan)
    series: list[list[float]] = []
    five = ((0, 0), (2, 0), (1, 1), (0, 2), (2, 2))
    async with probing(bench, homing_approach(bench, aim.samples), 0.0, warm) as probe:
        for number, (column, row) in enumerate(five):
            bench.progress(Progress(f"place {number + 1}", number / len(five), None, f"of {len(five)}"))
            place = (float(live.x[columns[column]]), float(live.y[rows[row]]))
            touches = await probe.agreeing_at(place, aim.samples)
            series.append(touches)
            heights[row, column] = sum(touches) / len(touches)
        kind = probe.kind
    touched = Mesh(live.x[list(columns)], live.y[list(rows)], heights + _at_homing(bench.machine, live))
    single = pooled_u_mm(series)
    spread = math.hypot(single / math.sqrt(aim.samples), PLACE_MM.get(kind, max(PLACE_MM.values())))
    # Z homed by one touch each time, now and before the mesh's own reference: all heights of a check share that
    return _concluded(bench, compare(touched, live, spread, whole=True, common_mm=math.sqrt(2) * single), cold)


def _at_homing(machine: MachineFile, live: Mesh) -> float:
    """The live mesh's own height where Z homes, mm: touched heights count from there, the mesh's from its reference."""
    homing, offset = machine.axes.z.homing, probe_offset(machine)
    if homing.over_x_mm is None or homing.over_y_mm is None:
        return 0.0
    return float(live.over([homing.over_x_mm + offset[0]], [homing.over_y_mm + offset[1]])[0, 0])


def _colder(bench: Bench, taken: TrialResult | None) -> str:
    """How the bed's temperature differs from that of the mesh, as a sentence; empty: it is the same, or not known."""
    if taken is None:
        return ""
    now = conditions(bench)
    for name in beds(bench.machine):
        then, here = taken.conditions.get(f"{name}_c"), now.get(f"{name}_c")
        if isinstance(then, (int, float)) and here is not None and abs(then - here) > SAME_BED_C:
            return (
                f"The mesh was taken with the {name} at {then:.0f} °C, this check at {here:.0f}: a bed bends with "
                f"heat. Check it as warm as it was (p: bed_c={then:.0f})."
            )
    return ""


def _concluded(bench: Bench, comparison: Compared, cold: str) -> TrialResult:
    sigma = comparison.spread_mm * math.sqrt(2)
    findings = (
        Finding(
            "shift",
            comparison.shift_mm,
            math.hypot(sigma / math.sqrt(comparison.points), comparison.common_mm),
            "mm",
            words="shifted by",
        ),
        Finding("tilt_x", comparison.tilt_x_mm, sigma, "mm", words="more rise to the right"),
        Finding("tilt_y", comparison.tilt_y_mm, sigma, "mm", words="more rise to the back"),
        Finding("shape", comparison.shape_rms_mm, None, "mm", words="left by a plane, RMS"),
    )
    small = comparison.verdict != "same" and comparison.largest_mm < SHOWS_MM
    holds = comparison.verdict == "same" or small
    why = (
        f"The live mesh {comparison.words}."
        if comparison.verdict == "same"
        else f"The live mesh no longer holds: {comparison.words}."
    )
    if small:
        why = (
            f"The live mesh still holds: it differs by up to {comparison.largest_mm:.3f} mm ({comparison.words}), "
            "which is "
            f"measured and less than a first layer shows ({SHOWS_MM:g} mm)."
        )
    if cold and not holds:
        why = f"{cold} As it is: {comparison.words}."
    return TrialResult(
        "proven" if holds else "failed",
        why,
        conditions(bench),
        findings,
        remedies=() if holds else _ways_out(bench.machine, comparison),
    )


def _ways_out(machine: MachineFile, comparison: Compared) -> tuple[Remedy, ...]:
    """What puts right a mesh that no longer holds: a tilt is levelled first, a shift is the Z offset's."""
    mesh = GoTo("bed mesh", "probe it anew", "bed-mesh")
    if comparison.verdict == "tilt":
        return (level_first(machine), mesh)
    if comparison.verdict == "shift":
        return (GoTo("Z offset", "the nozzle's height over the bed"), mesh)
    return (mesh,)


def _needs(machine: MachineFile, aim: CheckParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return probe_needs(machine, aim, read)


def _announce(machine: MachineFile, aim: CheckParameters) -> str:
    return (
        f"Homes axes not yet homed, then touches the corners of the live mesh and its middle, {aim.samples} times "
        f"each, and holds them against it ({HEIGHTS}). {warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    return "still holds" if result.outcome == "proven" else ""


def _lasts(machine: MachineFile, aim: CheckParameters, times: TrialTimes) -> float:
    again_s = times.axis_s(machine, "z")  # it homes Z anew
    return (
        times.home_s(machine, ("x", "y"))
        + warming_s(machine, aim, times)
        + again_s
        + times.touches_s(machine, 5, aim.samples, 180.0)
    )


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "mesh-check",
        "bed mesh",
        "Whether the live mesh still holds: five touches distinguish same, shift, tilt and shape.",
        CheckParameters,
        mesh_check,
        (TOUCHES,),
        _announce,
        _needs,
        figure=_figure,
        idle=lambda machine: "asked whenever you want to know" if senses(machine) else NO_PROBE,
        lasts=_lasts,
        uses=lambda machine: (*probing_uses(machine), "mesh"),
        facts=facts("surface"),
    ),
)
