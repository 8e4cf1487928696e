"""A strip chart in braille dots: curves over time on plain ground, with scales at its edges."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from textual.geometry import Region
from textual.strip import Strip
from textual.widget import Widget

from ublet.core.arrays import Floats
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.instruments.picture import strip_of_runs

T = TypeVar("T", float, NDArray[np.float64])
LABEL_COLUMNS = 6


@dataclass(frozen=True)
class ChartLine:
    """One curve: times and values (n each), a style, and whether it holds its value between samples."""

    x: Floats
    y: Floats
    style: str
    stepped: bool = False


@dataclass(frozen=True)
class Mark:
    """A vertical mark at a time, with a short word at the top."""

    x: float
    word: str
    style: str


@dataclass(frozen=True)
class Picture:
    """What a chart shows. Limits are (low, high); ``level`` draws a thin line across at a value."""

    curves: Sequence[ChartLine]
    x_limits: tuple[float, float]
    y_limits: tuple[float, float]
    level: float | None = None
    marks: Sequence[Mark] = ()
    x_labels: bool = True
    title: str = ""
    x_unit: str = "s"
    most_ticks: int = 6

    def same_as(self, other: Picture) -> bool:
        """Whether it would be drawn the same."""
        apart = replace(self, curves=()) != replace(other, curves=()) or len(self.curves) != len(other.curves)
        return not apart and all(
            mine.style == its.style and np.array_equal(mine.x, its.x) and np.array_equal(mine.y, its.y)
            for mine, its in zip(self.curves, other.curves, strict=True)
        )


class StripChart(Widget):
    """Draws a :class:`Picture`; where curves cross, the dots of both stay."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    def __init__(self, id: str | None = None, classes: str | None = None) -> None:
        super().__init__(id=id, classes=classes)
        self.picture: Picture | None = None
        self._cells = Cells(0, 0)

    def show(self, picture: Picture | None) -> None:
        """Draw a picture, or nothing; one that shows the same as before is not drawn again."""
        before, self.picture = self.picture, picture
        if picture is None and before is None:
            return
        if picture is None or before is None or not picture.same_as(before):
            self.redraw()

    def on_resize(self) -> None:
        """Draw again in the new size."""
        self.redraw()

    def redraw(self) -> None:
        """Draw the picture anew. Only lines that changed are painted: a key pressed meanwhile waits the less."""
        before, self._cells = self._cells, Cells(self.size.width, self.size.height)
        if self.picture is not None and self.size.width >= LABEL_COLUMNS + 4 and self.size.height >= 2:
            self._draw(self.picture)
        changed = self._cells.changed_since(before)
        if changed is None:
            self.refresh()
        elif changed:
            self.refresh(*(Region(0, row, self.size.width, 1) for row in changed))

    def render_line(self, y: int) -> Strip:
        """One line of the drawing."""
        if y >= self._cells.height:
            return Strip.blank(self.size.width, self.visual_style.rich_style)
        return strip_of_runs(self, self._cells.runs(y))

    def _draw(self, picture: Picture) -> None:
        cells, width, height = self._cells, self.size.width, self.size.height
        left, bottom = LABEL_COLUMNS + 1, height - (1 if picture.x_labels else 0)
        plot_width, plot_height = width - left, bottom
        (x0, x1), (y0, y1) = picture.x_limits, picture.y_limits
        if x1 <= x0 or y1 <= y0 or plot_height < 1:
            return
        dim, faint = Ink.dim, Ink.faint

        def column(x: T) -> T:
            return left + (x - x0) / (x1 - x0) * (plot_width - 0.5)

        def row(y: T) -> T:
            return (y1 - y) / (y1 - y0) * (plot_height - 0.25)

        for tick in ticks(y0, y1, max(2, min(picture.most_ticks, plot_height // 2))):
            at = int(row(tick))
            if 0 <= at < bottom:
                cells.put(0, at, f"{tick:>{LABEL_COLUMNS}g}", dim)
                for x in range(left, width, 4):
                    cells.put(x, at, "·", faint)
        if picture.level is not None and y0 <= picture.level <= y1:
            at = int(row(picture.level))
            for x in range(left, width):
                cells.put(x, at, "╌", faint)
            cells.put(0, at, f"{picture.level:>{LABEL_COLUMNS}g}", Ink.text)
        for mark in picture.marks:
            at = int(column(mark.x))
            if left <= at < width:
                for y in range(bottom):
                    cells.put(at, y, "╎", faint)
                cells.put(min(at + 1, width - len(mark.word)), 0, mark.word, mark.style)
        for curve in picture.curves:
            self._draw_curve(curve, column, row, (x0, x1), bottom)
        if picture.x_labels:
            self._draw_x_labels(picture, column, left, width, bottom)
        if picture.title:
            cells.put(left + 1, 0, picture.title, dim)

    def _draw_curve(
        self,
        curve: ChartLine,
        column: Callable[[Floats], Floats],
        row: Callable[[Floats], Floats],
        x_limits: tuple[float, float],
        bottom: int,
    ) -> None:
        inside = (curve.x >= x_limits[0]) & (curve.x <= x_limits[1])
        if not np.any(inside):
            return
        x, y = curve.x[inside], curve.y[inside]
        columns = column(x)
        rows = np.clip(row(y), -bottom, 2 * bottom)
        if curve.stepped:
            columns, rows = np.repeat(columns, 2)[1:], np.repeat(rows, 2)[:-1]
        for (x_cell, y_cell), code in polyline_cells(columns, rows, self.size.width, bottom).items():
            self._cells.add_dots(x_cell, y_cell, code, curve.style)

    def _draw_x_labels(
        self, picture: Picture, column: Callable[[float], float], left: int, width: int, bottom: int
    ) -> None:
        cells, (x0, x1) = self._cells, picture.x_limits
        free_from = left
        for tick in ticks(x0, x1, max(2, (width - left) // 9)):
            text = f"{tick:g}"
            at = int(column(tick)) - len(text) // 2
            if at >= free_from and at + len(text) <= width - 2:
                cells.put(at, bottom, text, Ink.dim)
                free_from = at + len(text) + 2
        cells.put(width - len(picture.x_unit), bottom, picture.x_unit, Ink.dim)


def ticks(low: float, high: float, most: int) -> list[float]:
    """Round values within limits, at most so many: steps of 1, 2 or 5 times a power of ten."""
    raw = (high - low) / max(1, most)
    power = 10 ** math.floor(math.log10(raw))
    step = next(power * factor for factor in (1, 2, 5, 10) if power * factor >= raw * 0.999)
    first = math.ceil(low / step - 1e-9)
    return [round(step * n, 10) for n in range(first, math.floor(high / step + 1e-9) + 1)]
