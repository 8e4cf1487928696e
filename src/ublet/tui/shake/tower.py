"""The picture of a ringing tower: its bands from the side, its walls from above, what was read of each."""

from __future__ import annotations

import numpy as np
from rich.text import Text

from ublet.core.run import TrialResult
from ublet.core.shake.tower import SHOWS, WALLS, bands_of, place_of, wall_of
from ublet.core.shake.tower_trials import READ, TowerParameters
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.instruments.large import put_large
from ublet.tui.trial.recorded import SeriesReader
from ublet.tui.trial.watch import TrialWatch

TOWER_COLUMNS, SQUARE_COLUMNS, SQUARE_ROWS = 30, 26, 10
READ_ROWS = 10
"""Number of readings listed, the newest ones."""

SKETCH_TOP, SKETCH_ROWS, SKETCH_COLUMNS = 20, 8, 90


def tower_picture(
    session: Session,
    read: SeriesReader,
    result: TrialResult | None,
    watched: TrialWatch | None,
    aim: TowerParameters,
    width: int,
    height: int,
) -> Text:
    """From the side, from above, and what was read."""
    cells = Cells(width, height)
    bands = bands_of(session.document.machine, aim)
    about = watched.latest.about if watched is not None and watched.latest is not None else ""
    rows = max(2, min(4, (height - 4) // len(bands)))
    cells.put(0, 0, "from the side", Ink.dim)
    for place, band in enumerate(reversed(bands)):
        top = 2 + place * rows
        now = about in (place_of(band), *(wall_of(band, wall) for wall in SHOWS))
        ink = f"bold {Ink.focus}" if now else Ink.text if band in bands[-aim.read_bands :] else Ink.dim
        for row in range(rows):
            cells.put(2, top + row, "▏" + " " * (TOWER_COLUMNS - 14) + "▕", ink)
        cells.put(4, top, f"{band.number}", ink)
        cells.put(6, top, f"{band.mm_s2:>5.0f} mm/s²", ink)
    cells.put(2, 2 + rows * len(bands), "▔" * (TOWER_COLUMNS - 12), Ink.dim)
    left = TOWER_COLUMNS
    cells.put(left, 0, "from above", Ink.dim)
    cells.box(left, 2, left + SQUARE_COLUMNS, 2 + SQUARE_ROWS, Ink.faint)
    places = {
        "front": (2 + SQUARE_ROWS, 9),
        "back": (2, 9),
        "left": (2 + SQUARE_ROWS // 2, 1),
        "right": (2 + SQUARE_ROWS // 2, 14),
    }
    for wall, (row, column) in places.items():
        now = about in [wall_of(band, wall) for band in bands]
        word = f" {wall}: {SHOWS[wall].upper()} "
        cells.put(left + column, row, word, f"bold {Ink.focus}" if now else Ink.text)
    _read_off(cells, left + SQUARE_COLUMNS + 5, read, result)
    if height >= SKETCH_TOP + SKETCH_ROWS:
        _sketch(cells, min(SKETCH_TOP, height - SKETCH_ROWS), min(width, SKETCH_COLUMNS), aim.ripples)
    return cells.text()


def _sketch(cells: Cells, top: int, width: int, ripples: int) -> None:
    """A wall behind its corner, and what is measured of it."""
    cells.put(0, top, "along a wall, behind its corner", Ink.dim)
    middle, corner, left_out = top + 4, 4, 12
    at = np.linspace(0.0, 1.0, 40 * ripples)
    one = (width - corner - 8) / (ripples + 2.5)
    x = corner + at * (width - corner - 4)
    y = middle + 0.5 - 1.6 * np.exp(-2.2 * at) * np.cos(2 * np.pi * (x - corner - left_out) / one)
    for (column, row), code in polyline_cells(x, y, cells.width, cells.height).items():
        cells.add_dots(column, row, code, Ink.text)
    for row in range(top + 2, top + 7):
        cells.put(corner - 1, row, "▐", Ink.dim)
    cells.put(corner, top + 7, f"{'left out':<{left_out}}", Ink.quiet)
    first, last = corner + left_out, round(corner + left_out + ripples * one)
    words = f" {ripples} ripples, crest to crest: this length "
    cells.put(first, top + 7, "├" + words.center(last - first - 1, "─") + "┤", f"bold {Ink.focus}")


def _read_off(cells: Cells, left: int, read: SeriesReader, result: TrialResult | None) -> None:
    """Every wall that was read, and the frequencies that follow."""
    series = read(READ.name)
    cells.put(left, 0, f"{'band':<6}{'wall':<8}{'ripples':>8}{'mm':>8}{'Hz':>8}", Ink.dim)
    latest: dict[tuple[float, float], tuple[float, float, float]] = {}  # a wall that was measured again counts once
    for band, wall, ripples, mm, speed in series.rows.tolist() if series is not None else []:
        latest[band, wall] = (ripples, mm, speed)
    for row, ((band, wall), (ripples, mm, speed)) in enumerate(list(latest.items())[-READ_ROWS:]):
        words = f"{band:<6.0f}{WALLS[int(wall)]:<8}{ripples:>8.0f}{mm:>8.2f}{speed * ripples / mm:>8.1f}"
        cells.put(left, 1 + row, words, Ink.text)
    if series is None:
        cells.put(left, 2, "not read yet", Ink.quiet)
    for number, axis in enumerate(("x", "y")):
        finding = result.finding("frequency", axis=axis) if result is not None else None
        if finding is not None:
            column = left + 18 * number
            put_large(cells, column, 12, f"{finding.value:.0f}", f"bold {Ink.focus}")
            cells.put(column, 15, f"{axis.upper()}, ±{2 * (finding.uncertainty or 0.0):.1f} Hz", Ink.dim)
