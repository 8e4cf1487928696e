"""Two meshes compared: the same, shifted, tilted, or another shape; only what is significant counts."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ublet.core.level.mesh import Mesh, filled, outliers, polynomial
from ublet.core.level.surface import Floats, fit_surface

Verdict = Literal["same", "shift", "tilt", "shape"]

SURE_Z = 2.576
"""Quantile of the normal distribution beyond which 1 % lies on both sides."""

USUAL_MM = 0.005
"""Spread of a touch where nothing tells it, mm."""

LEAST_MM = 0.0005
"""No probe repeats better than this, whatever a few heights seem to tell, mm."""

FEWEST = 4


@dataclass(frozen=True)
class Compared:
    """One mesh less another, mm. spread_mm: of one height, as given or as the difference itself tells."""

    verdict: Verdict
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
        raise ValueError(f"the two have {count} points in common: four are the fewest that tell anything")
    each_mm = spread_mm if spread_mm is not None else _spread(places, off)
    sigma = max(each_mm, 1e-6) * math.sqrt(2)
    plane = fit_surface([(float(x), float(y)) for x, y in places], off.tolist())
    slopes = np.array(plane.slope)
    inverse = np.linalg.pinv(plane.covariance[1:3, 1:3])
    left = float(plane.left @ plane.left) / sigma**2
    tilted = float(slopes @ inverse @ slopes) / sigma**2
    shift = float(off.mean())
    verdict: Verdict = "same"
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
    """Places (n x 2) and differences (n) where both tell a height."""
    mine, its = (each if whole else each.without(outliers(each)) for each in (mesh, other))
    same = (
        mine.heights.shape == its.heights.shape
        and np.allclose(mine.x, its.x, atol=0.5)
        and np.allclose(mine.y, its.y, atol=0.5)
    )
    if same:
        told = its.heights
    else:
        told = filled(its).over(mine.x, mine.y)
        told[:, (mine.x < its.x[0] - 0.5) | (mine.x > its.x[-1] + 0.5)] = np.nan
        told[(mine.y < its.y[0] - 0.5) | (mine.y > its.y[-1] + 0.5), :] = np.nan
    off = mine.heights - told
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
