"""A correction that lies on a mesh: what a probe senses is not what is printed on, where metal below a sheet is uneven.

It is kept apart from the heights that were measured, covers the same area, and is added to them by the board.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ublet.core.level.mesh import Mesh
from ublet.core.level.surface import Floats, Place
from ublet.core.settings import Value

CORRECTION = "mesh.correction_mm"
LINES = 3
DIGITS = 4


def live_correction(read: Callable[[str], Value], mesh: Mesh) -> Mesh | None:
    """The correction that settings tell, over a mesh's area; None: there is none."""
    told = read(CORRECTION)
    if not isinstance(told, tuple) or not told:
        return None
    heights = np.array(told, dtype=np.float64)
    if heights.ndim != 2 or min(heights.shape) < 2:
        return None
    x = np.linspace(mesh.x[0], mesh.x[-1], heights.shape[1])
    return Mesh(x, np.linspace(mesh.y[0], mesh.y[-1], heights.shape[0]), heights)


def corrected(places: Sequence[Place], wanted_mm: Sequence[float], mesh: Mesh, before: Mesh | None) -> Floats:
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

    told = np.linalg.pinv(terms(at)) @ np.asarray(wanted_mm, dtype=np.float64)
    x, y = np.linspace(mesh.x[0], mesh.x[-1], LINES), np.linspace(mesh.y[0], mesh.y[-1], LINES)
    grid = np.array([(a, b) for b in y for a in x])
    more = (terms(grid) @ told).reshape(LINES, LINES)
    return np.asarray(more + (before.over(x, y) if before is not None else 0.0)).round(DIGITS)
