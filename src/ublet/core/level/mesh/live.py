"""The mesh that is live on the board: read back, corrected where the probe is not the nozzle, and put aside."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ublet.core.arrays import Floats, Point
from ublet.core.bench import Bench
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.settings import Value, number_or

HEIGHTS, SHIFT = "mesh.heights_mm", "mesh.shift_mm"
ENDS = ("mesh.from_x_mm", "mesh.to_x_mm", "mesh.from_y_mm", "mesh.to_y_mm")
DIGITS = 4


def live_mesh(read: Callable[[str], Value]) -> Mesh | None:
    """The mesh that settings show, read by their paths; None: there is none."""
    stored = read(HEIGHTS)
    if not isinstance(stored, tuple) or not stored:
        return None
    heights = np.array(stored, dtype=np.float64)
    left, right, front, back = (number_or(read(path), 0.0) for path in ENDS)
    if heights.ndim != 2 or min(heights.shape) < 2 or right <= left or back <= front:
        return None
    return Mesh(np.linspace(left, right, heights.shape[1]), np.linspace(front, back, heights.shape[0]), heights)


def mesh_settings(mesh: Mesh) -> tuple[tuple[str, Value, str], ...]:
    """What settings hold a mesh: path, value and unit of each. All of it together: heights without their places mean
    nothing. How many columns and rows the next one is to have is another matter: that is declared (mesh.columns).
    """
    ends = (mesh.x[0], mesh.x[-1], mesh.y[0], mesh.y[-1])
    heights = tuple(tuple(round(float(mm), DIGITS) for mm in row) for row in mesh.heights)
    return (
        (HEIGHTS, heights, "mm"),
        *((path, float(mm), "mm") for path, mm in zip(ENDS, ends, strict=True)),
    )


CORRECTION = "mesh.correction_mm"
LINES = 3


def live_correction(read: Callable[[str], Value], mesh: Mesh) -> Mesh | None:
    """The correction that settings show, over a mesh's area; None: there is none."""
    stored = read(CORRECTION)
    if not isinstance(stored, tuple) or not stored:
        return None
    heights = np.array(stored, dtype=np.float64)
    if heights.ndim != 2 or min(heights.shape) < 2:
        return None
    x = np.linspace(mesh.x[0], mesh.x[-1], heights.shape[1])
    return Mesh(x, np.linspace(mesh.y[0], mesh.y[-1], heights.shape[0]), heights)


def corrected(places: Sequence[Point], wanted_mm: Sequence[float], mesh: Mesh, before: Mesh | None) -> Floats:
    """Heights (3 x 3), mm, over a mesh's area: what was there before and what n places want besides.

    Through the middle and four corners goes ``a + b u + c v + d u v + e (u^2 + v^2)`` exactly; with more places by
    least squares, with fewer by the smallest terms (Moore-Penrose inverse).
    """
    at = np.array(places, dtype=np.float64)
    middle = np.array([mesh.x[0] + mesh.x[-1], mesh.y[0] + mesh.y[-1]]) / 2
    half = np.array([mesh.x[-1] - mesh.x[0], mesh.y[-1] - mesh.y[0]]) / 2

    def terms(where: Floats) -> Floats:
        u, v = ((where - middle) / half).T
        return np.column_stack([np.ones(len(where)), u, v, u * v, u * u + v * v])

    solution = np.linalg.pinv(terms(at)) @ np.asarray(wanted_mm, dtype=np.float64)
    x, y = np.linspace(mesh.x[0], mesh.x[-1], LINES), np.linspace(mesh.y[0], mesh.y[-1], LINES)
    grid = np.array([(a, b) for b in y for a in x])
    more = (terms(grid) @ solution).reshape(LINES, LINES)
    return np.asarray(more + (before.over(x, y) if before is not None else 0.0)).round(DIGITS)


def raised_at(place: Point, by_mm: float, mesh: Mesh, before: Mesh | None) -> Floats:
    """A correction on the mesh's own points (rows x columns), mm: what was there before, and so much more at the point
    that is nearest to a place.
    """
    heights = np.zeros(mesh.heights.shape) if before is None else before.over(mesh.x, mesh.y)
    heights[mesh.cell(place)] += by_mm
    return np.asarray(heights).round(DIGITS)


FOLLOWS = "mesh.follows"


def unfollowed(bench: Bench) -> dict[str, Value]:
    """What is to be borrowed for it; nothing on a board that has no mesh, or follows none."""
    return {FOLLOWS: False} if bench.settings.shown(FOLLOWS) is True else {}
