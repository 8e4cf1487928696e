"""Curves as braille dots: many segments at once, so that a live chart costs little."""

from __future__ import annotations

import numpy as np

from ublet.core.arrays import Floats

BLANK = 0x2800
DOT_BITS = np.array([[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]], dtype=np.uint8)
"""Bit of each dot in a cell, by row and column (Unicode 15, block Braille Patterns)."""


def polyline_cells(columns: Floats, rows: Floats, width: int, height: int) -> dict[tuple[int, int], int]:
    """The cells that a polyline touches, each with its braille code point.

    Args:
        columns, rows: n points in cells (0, 0 is the upper left corner); 2 dots a column, 4 a row.
        width, height: size of the drawing in cells; dots outside are left out.
    """
    x, y = np.floor(columns * 2), np.floor(rows * 4)
    if len(x) > 1:
        counts = np.maximum(np.abs(np.diff(x)), np.abs(np.diff(y))).astype(np.int64)
        counts = np.maximum(counts, 1)
        owner = np.repeat(np.arange(len(counts)), counts)
        first = np.repeat(np.cumsum(counts) - counts, counts)
        fraction = (np.arange(len(owner)) - first) / counts[owner]
        dots_x = np.append(x[owner] + fraction * (x[owner + 1] - x[owner]), x[-1])
        dots_y = np.append(y[owner] + fraction * (y[owner + 1] - y[owner]), y[-1])
        x, y = np.rint(dots_x), np.rint(dots_y)
    inside = (x >= 0) & (x < 2 * width) & (y >= 0) & (y < 4 * height)
    dot_x, dot_y = x[inside].astype(np.int64), y[inside].astype(np.int64)
    cells = np.zeros(width * height, dtype=np.uint8)
    np.bitwise_or.at(cells, (dot_y // 4) * width + dot_x // 2, DOT_BITS[dot_y % 4, dot_x % 2])
    touched = np.flatnonzero(cells)
    return {
        (cell % width, cell // width): BLANK + code
        for cell, code in zip(touched.tolist(), cells[touched].tolist(), strict=True)
    }
