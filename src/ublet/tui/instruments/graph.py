"""A graph on cells: one quantity against another, with a few marks on both axes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells

MARGIN = 9
"""Columns at the left for the numbers of the upright axis."""

ROWS_A_MARK, COLUMNS_A_MARK = 5, 9


@dataclass(frozen=True)
class Graph:
    """An area of cells that stands for ranges of two quantities; left, top: its upper left cell inside the axes."""

    cells: Cells
    left: int
    top: int
    width: int
    height: int
    across: tuple[float, float]
    up: tuple[float, float]

    def at(self, x: float, y: float) -> tuple[float, float]:
        """Where a pair stands, in cells and parts of them."""
        low_x, high_x = self.across
        low_y, high_y = self.up
        column = self.left + (x - low_x) / (high_x - low_x) * (self.width - 1)
        return column, self.top + (high_y - y) / (high_y - low_y) * (self.height - 1)

    def line(self, xs: Sequence[float], ys: Sequence[float], style: str) -> None:
        """A line through pairs, in dots."""
        places = np.array([self.at(x, y) for x, y in zip(xs, ys, strict=True)]) + 0.5
        for (column, row), code in polyline_cells(
            places[:, 0], places[:, 1], self.cells.width, self.cells.height
        ).items():
            if self.left <= column < self.left + self.width and self.top <= row < self.top + self.height:
                self.cells.add_dots(column, row, code, style)

    def mark(self, x: float, y: float, glyph: str, style: str) -> None:
        """A glyph at a pair."""
        column, row = self.at(x, y)
        self.cells.put(round(column), round(row), glyph, style)


def graph(
    cells: Cells,
    left: int,
    top: int,
    size: tuple[int, int],
    across: tuple[float, float],
    up: tuple[float, float],
    words: tuple[str, str],
) -> Graph:
    """Draw the axes of a graph of so many columns and rows; words: what stands up, what goes across."""
    width, height = max(10, size[0] - MARGIN), max(4, size[1] - 4)
    drawn = Graph(cells, left + MARGIN, top + 1, width, height, across, up)
    cells.put(left, top, words[0], Ink.dim)
    for value in ticks(*up, max(2, height // ROWS_A_MARK)):
        row = round(drawn.at(across[0], value)[1])
        cells.put(left, row, f"{value:>{MARGIN - 2}g}", Ink.dim)
        cells.put(drawn.left, row, "·" * width, Ink.faint)
    bottom = drawn.top + height
    for value in ticks(*across, max(2, width // COLUMNS_A_MARK)):
        column, shown = round(drawn.at(value, up[0])[0]), f"{value:g}"
        cells.put(column, bottom, "╵", Ink.faint)
        cells.put(min(column - len(shown) // 2, drawn.left + width - len(shown)), bottom + 1, shown, Ink.dim)
    cells.put(drawn.left + width - len(words[1]), bottom + 2, words[1], Ink.dim)
    return drawn


def ticks(low: float, high: float, most: int) -> list[float]:
    """Round numbers in a range, some ``most`` of them."""
    step = 10 ** math.floor(math.log10((high - low) / most))
    step *= next(multiple for multiple in (1, 2, 5, 10) if (high - low) / (step * multiple) <= most)
    first = math.ceil(low / step - 1e-9)
    return [round(number * step, 10) for number in range(first, math.floor(high / step + 1e-9) + 1)]
