"""A print of one's own over the bed: one layer to scale, and at the right what there is to know of the whole."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from rich.text import Text

from ublet.core.motion.print_plan import PrintPlan
from ublet.core.units import duration
from ublet.core.words import counted
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.instruments.program_picture import NARROW_SIDE, SIDE_COLUMNS, WIDE, Followed, put_bed, put_beside

MOST_DRAWN = 4000
"""A layer with more moves than this is drawn with every n-th of them."""

PROFILE_ROWS = 8
"""Rows of the sketch of how long the layers take."""


def print_picture(
    plan: PrintPlan,
    layer: int,
    bed_mm: tuple[float, float],
    here: Mapping[str, float | None],
    followed: Followed | None,
    width: int,
    height: int,
) -> Text:
    """The layer (from 0) from above, lines that are laid in text ink, and what is laid already in the live one."""
    side = SIDE_COLUMNS if width > WIDE else NARROW_SIDE
    cells = Cells(width, max(height, 6))
    last = _layer(cells, plan, layer, bed_mm, here, followed, width - side - 4)
    put_beside(cells, last, _facts(plan, layer, followed, side, cells.height))
    return cells.text()


def _layer(
    cells: Cells,
    plan: PrintPlan,
    layer: int,
    bed_mm: tuple[float, float],
    here: Mapping[str, float | None],
    followed: Followed | None,
    width: int,
) -> int:
    """Draws at the left; returns the last column that it used."""
    across, down = put_bed(cells, bed_mm, width)
    if plan.layers:
        first = plan.layers[layer].first
        end = plan.layers[layer + 1].first if layer + 1 < len(plan.layers) else len(plan.text.moves)
        gone_s = followed.gone_s_of(plan.duration_s) if followed is not None else -1.0
        moves = plan.text.moves
        ends = moves.end_mm[max(0, first - 1) : end, :2].astype(np.float64)
        laid = moves.filament_mm[max(0, first - 1) : end] > 0
        done = plan.begins_s[max(0, first - 1) : end] <= gone_s
        every = max(1, len(ends) // MOST_DRAWN)
        x = across.first + ends[:, 0] / bed_mm[0] * (across.last - across.first) + 0.5
        y = down.first + ends[:, 1] / bed_mm[1] * (down.last - down.first) + 0.5
        for ink, chosen in ((Ink.text, laid & ~done), (Ink.focus, laid & done)):
            for start, stop in _stretches(chosen):
                begin = max(0, start - 1)
                points = slice(begin, stop, every if stop - begin > 3 * every else 1)
                for (column, row), code in polyline_cells(x[points], y[points], cells.width, cells.height).items():
                    cells.add_dots(column, row, code, ink)
    at_x, at_y = here.get("x"), here.get("y")
    if at_x is not None and at_y is not None:
        cells.put(across.at(at_x), down.at(at_y), "◉", f"bold {Ink.focus}")
    return across.last


def _stretches(chosen: np.ndarray) -> list[tuple[int, int]]:
    """Where runs of True begin and end."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], chosen, [False]]).astype(np.int8)))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _facts(
    plan: PrintPlan, layer: int, followed: Followed | None, width: int, height: int
) -> list[list[tuple[str, str]]]:
    """Time, layer, filament, flow, what was changed, what is wrong."""
    lines: list[list[tuple[str, str]]] = []

    def line(word: str, value: str, after: str = "", ink: str = f"bold {Ink.text}") -> None:
        lines.append([(f"{word:<10}", Ink.dim), (f"{value:>12} ", ink), (after, Ink.dim)])

    if followed is None:
        line("time", duration(plan.duration_s), "by live settings", f"bold {Ink.focus}")
    else:
        line("left", duration(followed.left_s), f"of {duration(plan.duration_s)}", f"bold {Ink.focus}")
    if plan.layers:
        now = plan.layers[layer]
        line("layer", f"{layer + 1} of {len(plan.layers)}", f"Z {now.z_mm:g} mm, {duration(now.seconds)}")
    line("filament", f"{plan.filament_mm / 1000:.2f} m", "")
    line("flow", f"{plan.largest_flow_mm3_s:.1f} mm³/s", "at the most")
    line("moves", f"{len(plan.text.moves):,}", f"in {counted(plan.text.lines, 'line')}")
    if followed is not None:
        changed = f"bold {Ink.focus}"
        line("height", f"{followed.height_mm:+.2f} mm", "nudged", changed if followed.height_mm else Ink.text)
        line("feed", f"{100 * followed.feed:.0f} %", "", changed if followed.feed != 1 else Ink.text)
        line("flow", f"{100 * followed.flow:.0f} %", "of the text's", changed if followed.flow != 1 else Ink.text)
        if followed.held:
            lines.append([("held: it stands, and knows where", f"bold {Ink.focus}")])
    lines.append([])
    mark = "✓ it fits this machine" if plan.fits else f"✗ {counted(len(plan.problems), 'problem')}"
    lines.append([(mark, Ink.good if plan.fits else Ink.stop)])
    for problem in (*plan.problems, *plan.advice):
        words = f"line {problem.line}: {problem.text}"
        while words and len(lines) < height - 2:
            cut = words if len(words) <= width else words[:width].rpartition(" ")[0] or words[:width]
            lines.append([(cut, Ink.text)])
            words = words[len(cut) :].strip()
    for setting, count in list(plan.capped.items())[:2]:
        lines.append([(f"slower in {counted(count, 'move')}: {setting}"[:width], Ink.dim)])
    if plan.text.left_out:
        listed = ", ".join(f"{word} ({count})" for word, count in plan.text.left_out.items())
        lines.append([(f"left out: {listed}"[:width], Ink.dim)])
    return lines[:height]
