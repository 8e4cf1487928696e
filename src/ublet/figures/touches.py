"""Figure of touches: every height in its order, or over the speed at which it was touched."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

INK, QUIET, LIVE = "#14130f", "#8d8574", "#8a6418"


def draw_touches(
    heights_mm: NDArray[np.float64], speeds_mm_s: NDArray[np.float64] | None, title: str, path: Path
) -> None:
    """Draw touches about their mean in µm (SVG or PDF by the path's ending); with speeds a column for each.

    Raises:
        ValueError: another ending. OSError: it cannot be written.
    """
    if path.suffix.lower() not in (".svg", ".pdf"):
        raise ValueError(f"{path.name}: a figure is written as .svg or .pdf")
    from matplotlib.figure import Figure

    figure = Figure(figsize=(6.4, 3.6), layout="constrained")
    axes = figure.add_subplot()
    off = 1000 * (heights_mm - heights_mm.mean())
    across = np.arange(1, len(off) + 1) if speeds_mm_s is None else speeds_mm_s
    axes.axhline(0.0, color=QUIET, lw=0.8)
    axes.plot(across, off, "o", ms=4, color=LIVE)
    axes.set_xlabel("touch" if speeds_mm_s is None else "speed towards the bed, mm/s", fontsize=8)
    axes.set_ylabel("µm about the mean", fontsize=8)
    axes.tick_params(labelsize=7)
    axes.set_title(title, fontsize=9, loc="left", color=INK)
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})
