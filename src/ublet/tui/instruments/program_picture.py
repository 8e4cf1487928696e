"""A program of motion over the bed, to scale: its path, its places with their times, and how it goes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from rich.text import Text

from ublet.core.motion.program import Program, Timetable, To
from ublet.core.units import duration
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.instruments.machine_map import CELL_RATIO, AxisSpan

SIDE_COLUMNS = 46
NARROW_SIDE = 34
WIDE = 100
RULER = 6
GRID_MM = 100
DASH_MM = 9.0
"""A way between lines is drawn as dots so far apart, mm."""

BAR_COLUMNS = 24


Pieces = list[tuple[str, str]]
"""A line as words with their inks."""


@dataclass(frozen=True)
class Followed:
    """A program that runs: the segment of its last named place, nudge in mm, shares of its feed and of its
    filament, whether it is held, time left in s.
    """

    segment: int
    height_mm: float
    feed: float
    flow: float
    held: bool
    left_s: float

    def gone_s(self, table: Timetable) -> float:
        """How far into its timetable it is, s."""
        return self.gone_s_of(table.seconds)

    def gone_s_of(self, seconds: float) -> float:
        """The same by how long it takes, s."""
        return max(0.0, seconds - self.left_s * self.feed)


def program_picture(
    table: Timetable,
    printed: Program,
    start: Mapping[str, float],
    bed_mm: tuple[float, float],
    here: Mapping[str, float | None],
    followed: Followed | None,
    width: int,
    height: int,
) -> Text:
    """At the left the bed from above, at the right what there is to know of it.

    printed: the program with its filament, which shows lines that are laid from ways between them. start: where it is
    taken to begin, mm by axis. here: where the axes stand. followed: None before it runs.
    """
    side = SIDE_COLUMNS if width > WIDE else NARROW_SIDE
    cells = Cells(width, max(height, 6))
    last = _bed(cells, table, printed, start, bed_mm, here, followed, width - side - 4)
    put_beside(cells, last, _side_lines(table, printed, followed, side, cells.height))
    return cells.text()


def put_bed(cells: Cells, bed_mm: tuple[float, float], width: int) -> tuple[AxisSpan, AxisSpan]:
    """The bed from above to scale, with rulers, in a width in columns; returns where its sides lie."""
    wide_mm, deep_mm = bed_mm
    rows, columns = max(2, cells.height - 3), max(4, width - RULER - 1)
    per_column = max(wide_mm / columns, deep_mm / rows / CELL_RATIO)
    across = AxisSpan(0.0, wide_mm, RULER, RULER + round(wide_mm / per_column))
    down = AxisSpan(0.0, deep_mm, 1 + round(deep_mm / per_column / CELL_RATIO), 1)
    cells.box(across.first, down.last, across.last, down.first, Ink.faint)
    for mm in range(0, int(wide_mm) + 1, GRID_MM):
        cells.put(across.at(mm), down.first + 1, f"{mm}", Ink.quiet)
    for mm in range(0, int(deep_mm) + 1, GRID_MM):
        cells.put(0, down.at(mm), f"{mm:>{RULER - 2}} ", Ink.quiet)
    return across, down


def put_beside(cells: Cells, last: int, lines: Iterable[Iterable[tuple[str, str]]]) -> None:
    """Lines of words with their inks, right of the last column that a picture used."""
    for row, line in enumerate(lines):
        column = last + 4
        for words, ink in line:
            cells.put(column, row, words, ink)
            column += len(words)


def _bed(
    cells: Cells,
    table: Timetable,
    program: Program,
    start: Mapping[str, float],
    bed_mm: tuple[float, float],
    here: Mapping[str, float | None],
    followed: Followed | None,
    width: int,
) -> int:
    """Draws at the left; returns the last column that it used."""
    across, down = put_bed(cells, bed_mm, width)

    def dots(way_mm: NDArray[np.float64], ink: str) -> None:
        x = across.first + way_mm[:, 0] / bed_mm[0] * (across.last - across.first) + 0.5
        y = down.first + way_mm[:, 1] / bed_mm[1] * (down.last - down.first) + 0.5
        for (column, row), code in polyline_cells(x, y, cells.width, cells.height).items():
            cells.add_dots(column, row, code, ink)

    x, y = here.get("x"), here.get("y")
    for way, segment, _ in _ways(program, start):
        if segment.filament:
            dots(way, Ink.text)
        else:
            for fraction in np.arange(0.0, 1.0, DASH_MM / float(np.hypot(*(way[1] - way[0])))):
                dots(way[:1] + fraction * (way[1:] - way[:1]), Ink.proposal)
    gone_s = followed.gone_s(table) if followed is not None else -1.0
    for way, _, number in _ways(table.program, start):
        timed = table.segments[number]
        if timed.begins_s + timed.seconds <= gone_s:
            dots(way, Ink.focus)
        elif timed.begins_s <= gone_s and x is not None and y is not None:
            dots(np.array([way[0], [x, y]]), Ink.focus)
    for words, place in _named(program, start).items():
        cells.put(across.at(place[0]) + 2, down.at(place[1]) - 1, words, Ink.dim)
    if x is not None and y is not None:
        cells.put(across.at(x), down.at(y), "◉", f"bold {Ink.focus}")
    return across.last


def _ways(program: Program, start: Mapping[str, float]) -> Iterator[tuple[NDArray[np.float64], To, int]]:
    """Lines over the bed (2 x 2, mm), each with its segment and that one's number."""
    before = dict(start)
    for number, (segment, end) in enumerate(zip(program.segments, program.ends(start), strict=True)):
        way = np.array([[before["x"], before["y"]], [end["x"], end["y"]]])
        if isinstance(segment, To) and (way[0] != way[1]).any():
            yield way, segment, number
        before = dict(end)


def _named(program: Program, start: Mapping[str, float]) -> dict[str, tuple[float, float]]:
    """Where the first of the places of a kind begins (``square 1 of 3``: the squares'), mm."""
    names: dict[str, tuple[float, float]] = {}
    for segment, end in zip(program.segments, program.ends(start), strict=True):
        kind = segment.place.rstrip("0123456789 of").strip() if segment.place else ""
        if kind and isinstance(segment, To) and {"x", "y"} <= set(segment.at):
            names.setdefault(kind, (end["x"], end["y"]))
    return names


def _side_lines(table: Timetable, printed: Program, followed: Followed | None, width: int, height: int) -> list[Pieces]:
    """Time, filament, what was changed, and the places with their times."""
    seconds, program = table.seconds, table.program
    lines: list[Pieces] = []

    def line(word: str, value: str, after: str = "", ink: str = f"bold {Ink.text}") -> None:
        lines.append([(f"{word:<10}", Ink.dim), (f"{value:>8} ", ink), (after, Ink.dim)])

    if followed is None:
        line("time", duration(seconds), "by live settings", f"bold {Ink.focus}")
    else:
        line("left", duration(followed.left_s), f"of {duration(seconds)}", f"bold {Ink.focus}")
        full = round(min(1.0, followed.gone_s(table) / seconds) * BAR_COLUMNS) if seconds else BAR_COLUMNS
        lines.append([(" " * 10, ""), ("━" * full, Ink.focus), ("─" * (BAR_COLUMNS - full), Ink.faint)])
    line("filament", f"{printed.filament_mm:.0f} mm", "" if program.pushes else "if printed; now dry")
    if followed is not None:
        changed = f"bold {Ink.focus}"
        line("height", f"{followed.height_mm:+.2f}", "mm nudged", changed if followed.height_mm else Ink.text)
        line("feed", f"{100 * followed.feed:.0f} %", "", changed if followed.feed != 1 else Ink.text)
        if program.pushes:
            line("flow", f"{100 * followed.flow:.0f} %", "", changed if followed.flow != 1 else Ink.text)
        held = [("held: it stands, and knows where", f"bold {Ink.focus}")] if followed.held else [("", "")]
        lines.append(held)
    elif table.capped:
        path, times = max(table.capped.items(), key=lambda piece: piece[1])
        line("slower in", f"{times}", f"of {len(program.segments)} moves, by")
        lines.append([(" " * 10, ""), (path[: width - 10], Ink.dim)])
    lines.append([])
    for number, (segment, timed) in enumerate(zip(program.segments, table.segments, strict=True)):
        if segment.place and len(lines) < height:
            lines.append(_place(segment.place, timed.begins_s, number, followed, table))
    return lines


def _place(place: str, begins_s: float, number: int, followed: Followed | None, table: Timetable) -> Pieces:
    """A named place with the time at which it begins; whether it is done, begun, or to come."""
    now = done = False
    if followed is not None:
        begun = [at for at, segment in enumerate(table.program.segments) if segment.place and at <= followed.segment]
        now, done = bool(begun) and begun[-1] == number, number < followed.segment
    mark, ink = ("◆", f"bold {Ink.focus}") if now else ("●", Ink.good) if done else ("○", Ink.dim)
    return [(f"{mark} ", ink), (f"{_clock(begins_s):>6}  ", Ink.dim), (place, ink if now else Ink.text)]


def _clock(seconds: float) -> str:
    """``1:05``."""
    return f"{round(seconds) // 60}:{round(seconds) % 60:02d}"
