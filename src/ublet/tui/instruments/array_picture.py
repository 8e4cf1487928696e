"""An array as what it is: a small picture of its numbers, its size and its range."""

from __future__ import annotations

from rich.text import Text

from ublet.core.settings import Array, numbers_in, shape_of
from ublet.core.typed import size_of
from ublet.core.units import show
from ublet.tui.frame.theme import Ink

LEVELS = "▁▂▃▄▅▆▇█"
COLUMNS_A_NUMBER = 3
NARROW_COUNT = 2
"""An array with so few numbers in a row is a table, not a map."""


def array_picture(value: Array, unit: str, columns: int, rows: int) -> Text:
    """A map with the back of the bed above (or, of few columns, a table), and below it size and range."""
    text, numbers = Text(no_wrap=True), numbers_in(value)
    if not numbers:
        text.append("none yet", Ink.dim)
        return text
    low, high = min(numbers), max(numbers)
    text.append(f"{size_of(value)}   ", f"bold {Ink.text}")
    text.append(f"{show(low, unit, 3)} to {show(high, unit, 3)}\n", Ink.dim)
    lines: list[tuple[float, ...]] = [element if isinstance(element, tuple) else (element,) for element in value]
    if len(shape_of(value)) > 1 and len(lines[0]) > NARROW_COUNT:
        _map(text, lines, low, high, columns, rows - 1)
    else:
        _table(text, lines, rows - 1)
    return text


def _map(text: Text, lines: list[tuple[float, ...]], low: float, high: float, columns: int, rows: int) -> None:
    step = max(1, -(-len(lines) // max(1, rows)))  # rows that are left out when there is no room
    wide = COLUMNS_A_NUMBER if COLUMNS_A_NUMBER * len(lines[0]) <= columns else 1
    for line in reversed(lines[::step]):
        for number in line:
            level = round((number - low) / (high - low) * (len(LEVELS) - 1)) if high > low else 0
            text.append(LEVELS[level] * (wide - 1) or LEVELS[level], Ink.focus)
            text.append(" " if wide > 1 else "")
        text.append("\n")


def _table(text: Text, lines: list[tuple[float, ...]], rows: int) -> None:
    for line in lines[: max(1, rows - (len(lines) > rows))]:
        text.append("  ".join(f"{number:>10.5g}" for number in line) + "\n", Ink.focus)
    if len(lines) > rows:
        text.append(f"… and {len(lines) - rows + 1} more\n", Ink.dim)
