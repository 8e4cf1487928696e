"""Ways of doing something that were tried one after the other: how long each takes, and how well it repeats."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells

NAME_COLUMNS, FIGURE_COLUMNS = 24, 12
WIDEST_MM = 0.02
"""Least full scale of the spreads, mm."""


@dataclass(frozen=True)
class Tried:
    """A way that was tried: seconds, and the standard deviation of what it found, mm (None: it found nothing)."""

    seconds: float
    deviation_mm: float | None
    taken: bool


def draw_attempts(
    cells: Cells, names: Sequence[str], tried: Sequence[Tried], width: int, height: int, takes: str, goes_on: bool
) -> None:
    """A line for each, with a bar for its time and one for its spread; what was taken is marked.

    names: of all ways, of which those at the beginning were tried. takes: what the seconds are of. goes_on: the next
    one is being tried.
    """
    bars = max(8, (width - NAME_COLUMNS - 2 * FIGURE_COLUMNS - 6) // 2)
    longest = max((one.seconds for one in tried), default=1.0)
    widest = max([WIDEST_MM, *(one.deviation_mm or 0.0 for one in tried)])
    second = NAME_COLUMNS + FIGURE_COLUMNS + bars + 3
    cells.put(0, 0, "tried", Ink.dim)
    cells.put(NAME_COLUMNS, 0, f"{takes:>{FIGURE_COLUMNS}}", Ink.dim)
    cells.put(second, 0, f"{'spread':>{FIGURE_COLUMNS}}", Ink.dim)
    apart = 3 if height > 3 * len(names) else 2 if height > 2 * len(names) else 1
    for number, name in enumerate(names):
        line = 1 + apart * number + (apart > 1)
        one = tried[number] if number < len(tried) else None
        now = one is None and goes_on and number == len(tried)
        mark = "◆" if now else "○" if one is None else "✓" if one.taken else "·"
        ink = Ink.focus if now else Ink.good if one is not None and one.taken else Ink.dim
        cells.put(0, line, f"{mark} {name}", f"bold {ink}" if one is not None and one.taken else ink)
        if one is None:
            continue
        cells.put(NAME_COLUMNS, line, f"{f'{one.seconds:.2f} s':>{FIGURE_COLUMNS}}", Ink.text)
        cells.put(NAME_COLUMNS + FIGURE_COLUMNS + 1, line, "━" * max(1, round(one.seconds / longest * bars)), ink)
        if one.deviation_mm is None:
            cells.put(second, line, f"{'lost':>{FIGURE_COLUMNS}}", Ink.stop)
            continue
        cells.put(second, line, f"{f'{1000 * one.deviation_mm:.1f} µm':>{FIGURE_COLUMNS}}", Ink.text)
        cells.put(second + FIGURE_COLUMNS + 1, line, "━" * max(1, round(one.deviation_mm / widest * bars)), ink)
