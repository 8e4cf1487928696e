"""The bed from above, to scale: its outline, places on and beside it, a clock's dial for a screw."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Point
from ublet.core.machine.level_parts import BedSettings
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.instruments.machine_map import CELL_RATIO, AxisSpan

LEAST_COLUMNS, LEAST_ROWS = 24, 8
LABELS = 7
"""Columns that are kept free for words on either side."""


@dataclass(frozen=True)
class BedMap:
    """A bed drawn on cells; places, mm from its front left corner, turn into cells."""

    cells: Cells
    across: AxisSpan
    down: AxisSpan

    def cell(self, place: Point) -> tuple[int, int]:
        """The cell of a place."""
        return self.across.at(place[0]), self.down.at(place[1])

    def mark(self, place: Point, glyph: str, style: str) -> None:
        """A glyph at a place."""
        self.cells.put(*self.cell(place), glyph, style)

    def label(self, place: Point, lines: Iterable[tuple[str, str]], below: bool) -> None:
        """Words under or above a place, centred on it, kept on the drawing."""
        column, row = self.cell(place)
        for number, (words, style) in enumerate(lines, start=1):
            words = f" {words} "
            start = max(0, min(self.cells.width - len(words), column - len(words) // 2))
            self.cells.put(start, row + number if below else row - number, words, style)


def bed_map(cells: Cells, bed: BedSettings, beside: Iterable[Point], width: int, height: int, top: int = 0) -> BedMap:
    """Draw a bed's outline into the left ``width`` columns; room is left for places beside it."""
    places = list(beside)
    left = min([0.0, *(x for x, _ in places)])
    right = max([bed.width_mm, *(x for x, _ in places)])
    front = min([0.0, *(y for _, y in places)])
    back = max([bed.depth_mm, *(y for _, y in places)])
    columns, rows = max(LEAST_COLUMNS, width - 2 * LABELS), max(LEAST_ROWS, height - 5)
    per_column = max((right - left) / columns, (back - front) / rows / CELL_RATIO)
    wide, deep = round((right - left) / per_column), round((back - front) / per_column / CELL_RATIO)
    start = max(LABELS, (width - wide) // 2)
    across = AxisSpan(left, right, start, start + wide)
    down = AxisSpan(front, back, top + 2 + deep, top + 2)
    outline = (across.at(0.0), down.at(bed.depth_mm), across.at(bed.width_mm), down.at(0.0))
    cells.box(*outline, Ink.faint, "─│╭╮╰╯")
    cells.put((outline[0] + outline[2]) // 2 - 2, outline[3], " front ", Ink.quiet)
    return BedMap(cells, across, down)


def dial(cells: Cells, column: int, row: int, rows: int, turns: float) -> None:
    """A clock's dial, its middle at a cell: from twelve the way that a hand goes round for so many turns (clockwise is
    positive). Whole turns are written beside it.
    """
    radius = rows / 2
    round_the = np.linspace(0.0, 2 * math.pi, 120)
    wide = radius * CELL_RATIO

    def ring(fraction: float, angles: np.ndarray, style: str) -> None:
        columns = column + 0.5 + fraction * wide * np.sin(angles)
        lines = row + 0.5 - fraction * radius * np.cos(angles)
        for (x, y), code in polyline_cells(columns, lines, cells.width, cells.height).items():
            cells.add_dots(x, y, code, style)

    ring(1.0, round_the, Ink.faint)
    part = math.copysign(min(1.0, abs(turns)), turns) if turns else 0.0
    sweep = np.linspace(0.0, 2 * math.pi * part, 90)
    for fraction in (0.98, 0.92):
        ring(fraction, sweep, f"bold {Ink.focus}")
    end = 2 * math.pi * turns
    hand = np.array([0.0, 0.72])
    columns = column + 0.5 + hand * wide * math.sin(end)
    lines = row + 0.5 - hand * radius * math.cos(end)
    for (x, y), code in polyline_cells(columns, lines, cells.width, cells.height).items():
        cells.add_dots(x, y, code, f"bold {Ink.focus}")
    for hour in range(0, 12, 3):
        angle = hour * math.pi / 6
        at = (round(column + 0.8 * wide * math.sin(angle)), round(row - 0.8 * radius * math.cos(angle)))
        cells.put(at[0] - (1 if hour == 0 else 0), at[1], f"{hour or 12}", Ink.dim)
