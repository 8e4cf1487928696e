"""A strip chart in braille dots: curves over time on plain ground, with scales at its edges."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from textual.events import Resize
from textual_hires_canvas import Canvas

from ublet.tui.dots import polyline_cells
from ublet.tui.theme import Palette

Floats = NDArray[np.float64]
T = TypeVar("T", float, NDArray[np.float64])
BRAILLE = range(0x2800, 0x2900)
LABEL_COLUMNS = 6


@dataclass(frozen=True)
class Curve:
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

    curves: Sequence[Curve]
    x_limits: tuple[float, float]
    y_limits: tuple[float, float]
    level: float | None = None
    marks: Sequence[Mark] = ()
    x_labels: bool = True
    title: str = ""
    x_unit: str = "s"
    most_ticks: int = 6


class StripChart(Canvas):
    """Draws a :class:`Picture`; where curves cross, the dots of both stay."""

    DEFAULT_CSS = "StripChart { width: 1fr; height: 1fr; }"

    def __init__(self, palette: Palette, **arguments: object) -> None:
        super().__init__(10, 4, **arguments)  # type: ignore[arg-type]
        self.palette = palette
        self.picture: Picture | None = None

    def show(self, picture: Picture | None) -> None:
        """Draw a picture, or nothing."""
        self.picture = picture
        self.redraw()

    def on_resize(self, event: Resize) -> None:
        """Draw again in the new size."""
        self.redraw()

    def set_pixel(self, x: int, y: int, char: str = "█", style: str = "white") -> None:
        """Put a character; dots are added to the dots that are there."""
        there = self._buffer[y][x] if 0 <= y < len(self._buffer) and 0 <= x < len(self._buffer[y]) else ""
        if there and len(char) == 1 and ord(char) in BRAILLE and ord(there) in BRAILLE:
            char = chr(ord(char) | ord(there))
        super().set_pixel(x, y, char, style)

    def put(self, x: int, y: int, text: str, style: str) -> None:
        """Write plain text from a column on; what is outside is cut off."""
        for offset, char in enumerate(text):
            super().set_pixel(x + offset, y, char, style)

    def redraw(self) -> None:
        """Draw the picture anew."""
        if self.size.width < LABEL_COLUMNS + 4 or self.size.height < 2:
            return
        with self.batch_refresh():
            self.reset(self.size, refresh=False)
            if self.picture is not None:
                self._draw(self.picture)

    def _draw(self, picture: Picture) -> None:
        width, height = self.size.width, self.size.height
        left, bottom = LABEL_COLUMNS + 1, height - (1 if picture.x_labels else 0)
        plot_width, plot_height = width - left, bottom
        (x0, x1), (y0, y1) = picture.x_limits, picture.y_limits
        if x1 <= x0 or y1 <= y0 or plot_height < 1:
            return
        dim, faint = self.palette.dim, self.palette.faint

        def column(x: T) -> T:
            return left + (x - x0) / (x1 - x0) * (plot_width - 0.5)

        def row(y: T) -> T:
            return (y1 - y) / (y1 - y0) * (plot_height - 0.25)

        for tick in ticks(y0, y1, max(2, min(picture.most_ticks, plot_height // 2))):
            at = int(row(tick))
            if 0 <= at < bottom:
                self.put(0, at, f"{tick:>{LABEL_COLUMNS}g}", dim)
                for x in range(left, width, 4):
                    super().set_pixel(x, at, "·", faint)
        if picture.level is not None and y0 <= picture.level <= y1:
            at = int(row(picture.level))
            for x in range(left, width):
                super().set_pixel(x, at, "╌", faint)
            self.put(0, at, f"{picture.level:>{LABEL_COLUMNS}g}", self.palette.text)
        for mark in picture.marks:
            at = int(column(mark.x))
            if left <= at < width:
                for y in range(bottom):
                    super().set_pixel(at, y, "╎", faint)
                self.put(min(at + 1, width - len(mark.word)), 0, mark.word, mark.style)
        for curve in picture.curves:
            self._draw_curve(curve, column, row, (x0, x1), bottom)
        if picture.x_labels:
            self._draw_x_labels(picture, column, left, width, bottom)
        if picture.title:
            self.put(left + 1, 0, picture.title, dim)

    def _draw_curve(
        self,
        curve: Curve,
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
            self.set_pixel(x_cell, y_cell, chr(code), curve.style)

    def _draw_x_labels(
        self, picture: Picture, column: Callable[[float], float], left: int, width: int, bottom: int
    ) -> None:
        x0, x1 = picture.x_limits
        free_from = left
        for tick in ticks(x0, x1, max(2, (width - left) // 9)):
            text = f"{tick:g}"
            at = int(column(tick)) - len(text) // 2
            if at >= free_from and at + len(text) <= width - 2:
                self.put(at, bottom, text, self.palette.dim)
                free_from = at + len(text) + 2
        self.put(width - len(picture.x_unit), bottom, picture.x_unit, self.palette.dim)


def ticks(low: float, high: float, most: int) -> list[float]:
    """Round values within limits, at most so many: steps of 1, 2 or 5 times a power of ten."""
    raw = (high - low) / max(1, most)
    power = 10 ** math.floor(math.log10(raw))
    step = next(power * factor for factor in (1, 2, 5, 10) if power * factor >= raw * 0.999)
    first = math.ceil(low / step - 1e-9)
    return [round(step * n, 10) for n in range(first, math.floor(high / step + 1e-9) + 1)]
