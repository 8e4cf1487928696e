"""Figures of filament: widths over pressure advance, what went in over the flow."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

INK, QUIET, LIVE = "#14130f", "#8d8574", "#8a6418"


def draw_advance(
    values_s: NDArray[np.float64],
    differences_mm: NDArray[np.float64],
    zero_s: float,
    zero_u_s: float,
    title: str,
    path: Path,
) -> None:
    """Draw width differences over pressure advance, with their zero and two of its uncertainties (SVG or PDF).

    Raises:
        ValueError: another ending. OSError: it cannot be written.
    """

    def plot(axes: Any) -> None:
        slope, level = np.polyfit(values_s, differences_mm, 1)
        ends = np.array([values_s.min(), values_s.max()])
        axes.axhline(0.0, color=QUIET, lw=0.8)
        axes.axvspan(zero_s - 2 * zero_u_s, zero_s + 2 * zero_u_s, color=LIVE, alpha=0.15, lw=0)
        axes.plot(ends, level + slope * ends, color=QUIET, lw=1.0)
        axes.plot(values_s, differences_mm, "o", ms=4, color=LIVE)
        axes.set_xlabel("pressure advance, s", fontsize=8)
        axes.set_ylabel("wider after slowing down by, mm", fontsize=8)

    _drawn(plot, title, path)


def draw_flow(
    flows_mm3_s: NDArray[np.float64],
    fed: NDArray[np.float64],
    limit_mm3_s: float,
    limit_u_mm3_s: float,
    short: float,
    title: str,
    path: Path,
) -> None:
    """Draw what went in over the flow, with the line of the share that falls short and the limit (SVG or PDF).

    Raises:
        ValueError: another ending. OSError: it cannot be written.
    """

    def plot(axes: Any) -> None:
        axes.axhline(100 * (1 - short), color=QUIET, lw=0.8)
        low, high = limit_mm3_s - 2 * limit_u_mm3_s, limit_mm3_s + 2 * limit_u_mm3_s
        axes.axvspan(low, high, color=LIVE, alpha=0.15, lw=0)
        axes.plot(flows_mm3_s, 100 * fed, "o-", ms=4, lw=0.8, color=LIVE)
        axes.set_xlabel("flow, mm³/s", fontsize=8)
        axes.set_ylabel("fed / commanded, % of slow pushes", fontsize=8)

    _drawn(plot, title, path)


def _drawn(plot: Callable[[Any], None], title: str, path: Path) -> None:
    if path.suffix.lower() not in (".svg", ".pdf"):
        raise ValueError(f"{path.name}: a figure is written as .svg or .pdf")
    from matplotlib.figure import Figure

    figure = Figure(figsize=(6.4, 3.6), layout="constrained")
    axes = figure.add_subplot()
    plot(axes)
    axes.tick_params(labelsize=7)
    axes.set_title(title, fontsize=9, loc="left", color=INK)
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})
