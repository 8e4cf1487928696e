"""Figure of a program of motion: its path over the bed, to scale; strings as wide as they are laid."""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path

from ublet.core.motion.program import Program, To

INK, QUIET, STRING, WAY = "#14130f", "#8d8574", "#8a6418", "#6f8fae"
TOGETHER_MM = 4.0
"""Places nearer to each other than this share their words."""

POINTS_A_MM = 72 / 25.4


def draw_program(
    program: Program, start: Mapping[str, float], bed_mm: tuple[float, float], width_mm: float, path: Path
) -> None:
    """Draw a program over a bed, seen from above (SVG or PDF by the path's ending).

    start: where it begins, mm by axis. width_mm: of the strings.

    Raises:
        ValueError: another ending. OSError: it cannot be written.
    """
    if path.suffix.lower() not in (".svg", ".pdf"):
        raise ValueError(f"{path.name}: a figure is written as .svg or .pdf")
    from matplotlib.figure import Figure
    from matplotlib.patches import Rectangle

    wide, deep = bed_mm
    figure = Figure(figsize=((wide + 30) / 25.4, (deep + 36) / 25.4))
    axes = figure.add_axes((15 / (wide + 30), 15 / (deep + 36), wide / (wide + 30), deep / (deep + 36)))
    axes.set_xlim(0, wide)
    axes.set_ylim(0, deep)
    axes.add_patch(Rectangle((0, 0), wide, deep, fill=False, ec=INK, lw=1.2))
    here = dict(start)
    named: list[tuple[tuple[float, float], list[str]]] = []
    for segment, end in zip(program.segments, program.ends(start), strict=True):
        if isinstance(segment, To):
            xs, ys = [here["x"], end["x"]], [here["y"], end["y"]]
            if segment.filament:
                axes.plot(xs, ys, color=STRING, lw=width_mm * POINTS_A_MM, solid_capstyle="round")
            elif xs[0] != xs[1] or ys[0] != ys[1]:
                axes.plot(xs, ys, color=WAY, lw=0.5, ls=(0, (4, 3)))
        if segment.place:
            near = next((place for place in named if math.dist(place[0], (end["x"], end["y"])) < TOGETHER_MM), None)
            if near is None:
                named.append(((end["x"], end["y"]), [segment.place]))
            else:
                near[1].append(segment.place)
        here = dict(end)
    for place, words in named:
        axes.plot(*place, marker="o", ms=3, color=INK)
        speeds = words[0] if len(words) == 1 else f"{words[0]} … {words[-1]}"
        axes.annotate(speeds, place, (5, 6), textcoords="offset points", fontsize=6, color=QUIET)
    axes.set_xlabel("X, mm", fontsize=8)
    axes.set_ylabel("Y, mm", fontsize=8)
    axes.tick_params(labelsize=7)
    axes.set_title(f"{program.name}: {program.note}" if program.note else program.name, fontsize=9, loc="left")
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})
