"""The mesh that is live on the board, as a mesh."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ublet.core.level.mesh import Mesh
from ublet.core.settings import Value, number_or

HEIGHTS, SHIFT = "mesh.heights_mm", "mesh.shift_mm"
ENDS = ("mesh.from_x_mm", "mesh.to_x_mm", "mesh.from_y_mm", "mesh.to_y_mm")
DIGITS = 4


def live_mesh(read: Callable[[str], Value]) -> Mesh | None:
    """The mesh that settings tell, read by their paths; None: there is none."""
    told = read(HEIGHTS)
    if not isinstance(told, tuple) or not told:
        return None
    heights = np.array(told, dtype=np.float64)
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
