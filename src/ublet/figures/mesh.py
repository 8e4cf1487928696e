"""Figure of a mesh: from above with its heights, and as a surface."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.level.mesh.mesh import Mesh

INK, QUIET, WRONG = "#14130f", "#8d8574", "#a3341c"
FINE = 61
MANY = 120


def draw_mesh(mesh: Mesh, outliers: Sequence[tuple[float, float]], title: str, path: Path) -> None:
    """Draw a mesh (SVG or PDF by the path's ending): isolines and heights in µm from above, a surface beside them.
    Points that look wrong are marked and, like holes, left out of the surface.

    Raises:
        ValueError: another ending. OSError: it cannot be written.
    """
    if path.suffix.lower() not in (".svg", ".pdf"):
        raise ValueError(f"{path.name}: a figure is written as .svg or .pdf")
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9.6, 4.4), layout="constrained")
    above: Any = figure.add_subplot(1, 2, 1)
    good = mesh.without(list(outliers))
    um = 1000 * good.heights
    level = max(1.0, float(np.nanmax(np.abs(um))))
    lines = above.contourf(good.x, good.y, um, levels=12, cmap="cividis", vmin=-level, vmax=level)
    above.contour(good.x, good.y, um, levels=12, colors=INK, linewidths=0.4)
    figure.colorbar(lines, ax=above, label="µm", shrink=0.8)
    if um.size <= MANY:
        for (x, y), height in zip(good.places, um.ravel().tolist(), strict=True):
            if not np.isnan(height):
                above.text(x, y, f"{height:+.0f}", ha="center", va="center", fontsize=6, color="white")
    for x, y in outliers:
        above.plot([x], [y], "x", ms=8, color=WRONG)
    above.set_aspect("equal")
    above.set_xlabel("X, mm", fontsize=8)
    above.set_ylabel("Y, mm", fontsize=8)
    above.tick_params(labelsize=7)
    above.set_title(title, fontsize=9, loc="left", color=INK)
    beside: Any = figure.add_subplot(1, 2, 2, projection="3d")
    fine_x, fine_y, heights = good.x, good.y, um
    if not np.isnan(good.heights).any():
        fine_x, fine_y = np.linspace(good.x[0], good.x[-1], FINE), np.linspace(good.y[0], good.y[-1], FINE)
        heights = 1000 * good.over(fine_x, fine_y)
    across, deep = np.meshgrid(fine_x, fine_y)
    beside.plot_surface(
        across, deep, heights, cmap="cividis", vmin=-level, vmax=level, linewidth=0, rcount=FINE, ccount=FINE
    )
    beside.set_zlabel("µm", fontsize=8)
    beside.tick_params(labelsize=6)
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})
