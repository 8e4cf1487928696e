"""Figure of a board's wiring, to print and take to the machine: outline, sockets, what is plugged where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

INK, QUIET, RUST = "#14130f", "#8d8574", "#cf5b3c"
LABEL_MM = 46.0
"""Room around the board for the labels, mm."""

STEP_MM = 5.5
"""Distance of labels that stand further out than their neighbours', mm."""


def draw_wiring(
    title: str,
    width_mm: float,
    height_mm: float,
    sockets: Sequence[tuple[str, str, float, str]],
    plugged: Mapping[str, Sequence[str]],
    path: Path,
) -> None:
    """Draw a board to scale (SVG or PDF by the path's ending).

    sockets: name, edge, place along it 0..1, kind. plugged: words of what sits at each socket; more than one is
    drawn as a fault.

    Raises:
        ValueError: another ending. OSError: it cannot be written.
    """
    if path.suffix.lower() not in (".svg", ".pdf"):
        raise ValueError(f"{path.name}: a figure is written as .svg or .pdf")
    from matplotlib.figure import Figure
    from matplotlib.patches import FancyBboxPatch

    figure = Figure(figsize=(11.7, 8.3))
    axes = figure.add_axes((0.02, 0.02, 0.96, 0.9))
    axes.set_aspect("equal")
    axes.axis("off")
    axes.set_xlim(-LABEL_MM, width_mm + LABEL_MM)
    axes.set_ylim(-LABEL_MM, height_mm + LABEL_MM)
    axes.add_patch(
        FancyBboxPatch((0, 0), width_mm, height_mm, boxstyle="round,pad=0,rounding_size=3", fill=False, lw=1.2)
    )
    axes.text(width_mm / 2, height_mm / 2, title, ha="center", va="center", color=QUIET, fontsize=12)
    for edge in ("top", "bottom", "left", "right"):
        number = 0
        for name, where, at, kind in sorted(sockets, key=lambda socket: socket[2]):
            if where != edge:
                continue
            words = list(plugged.get(name, ()))
            colour = RUST if len(words) > 1 else INK if words else QUIET
            label = f"{name}  {', '.join(words) or 'free'}"
            x, y = _place(edge, at, width_mm, height_mm)
            out = 4 + STEP_MM * (number % 3 if edge in ("top", "bottom") else 0)
            dx, dy = {"top": (0, out), "bottom": (0, -out), "left": (-4, 0), "right": (4, 0)}[edge]
            axes.plot([x, x + dx], [y, y + dy], color=colour, lw=0.8)
            axes.plot([x], [y], marker="o", color=colour, mfc=colour if words else "white", ms=5)
            side = {"left": "right", "right": "left"}.get(edge, "left")
            axes.text(
                x + dx + (-1 if edge == "left" else 1),
                y + dy,
                label,
                ha=side,
                va={"top": "bottom", "bottom": "top"}.get(edge, "center"),
                color=colour,
                fontsize=8.5,
                rotation=28 if edge == "top" else -28 if edge == "bottom" else 0,
                rotation_mode="anchor",
            )
            inward = {"top": (0, -3), "bottom": (0, 3), "left": (3, 0), "right": (-3, 0)}[edge]
            axes.text(
                x + inward[0],
                y + inward[1],
                kind,
                ha={"left": "left", "right": "right"}.get(edge, "center"),
                va={"top": "top", "bottom": "bottom"}.get(edge, "center"),
                color=QUIET,
                fontsize=6.5,
            )
            number += 1
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})


def _place(edge: str, at: float, width_mm: float, height_mm: float) -> tuple[float, float]:
    """Where a socket stands, mm from the lower left corner; ``at`` counts from the left or the top."""
    return {
        "top": (at * width_mm, height_mm),
        "bottom": (at * width_mm, 0.0),
        "left": (0.0, (1 - at) * height_mm),
        "right": (width_mm, (1 - at) * height_mm),
    }[edge]
