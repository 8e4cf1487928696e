"""Large figures, three rows high: what must be read from where one stands at the machine."""

from __future__ import annotations

from ublet.tui.instruments.cells import Cells

SHAPES: dict[str, tuple[str, str, str]] = {
    "0": ("█▀█", "█ █", "▀▀▀"),
    "1": (" ▀█", "  █", "  ▀"),
    "2": ("▀▀█", "█▀▀", "▀▀▀"),
    "3": ("▀▀█", " ▀█", "▀▀▀"),
    "4": ("█ █", "▀▀█", "  ▀"),
    "5": ("█▀▀", "▀▀█", "▀▀▀"),
    "6": ("█▀▀", "█▀█", "▀▀▀"),
    "7": ("▀▀█", "  █", "  ▀"),
    "8": ("█▀█", "█▀█", "▀▀▀"),
    "9": ("█▀█", "▀▀█", "▀▀▀"),
    "-": ("   ", "▀▀▀", "   "),
    "+": (" ▄ ", "▀█▀", "   "),
    ".": (" ", " ", "▀"),
    " ": (" ", " ", " "),
}


def put_large(cells: Cells, column: int, row: int, figures: str, style: str) -> None:
    """Draw figures (digits, signs and points)."""
    for figure in figures:
        shape = SHAPES[figure]
        for offset, line in enumerate(shape):
            cells.put(column, row + offset, line, style)
        column += len(shape[0]) + 1
