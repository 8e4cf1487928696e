"""The machine to scale: from above with bed, reach and nozzle, and from the front with the gap below the nozzle."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from rich.text import Text

from ublet.core.machine.schema import Axis
from ublet.core.motion.homing_moves import axis_of
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells

CELL_RATIO = 2.1
"""A cell is so many times as high as it is wide."""

RULER_COLUMNS = 6
SIDE_COLUMNS = 34
APART = 9
GRID_MM = 50.0
LEAST_COLUMNS, LEAST_ROWS = 40, 6
"""With less room the places stand there in words."""


@dataclass(frozen=True)
class AxisSpan:
    """An axis on the drawing: mm from low to high over cells from first to last (last may lie before first)."""

    low: float
    high: float
    first: int
    last: int

    def at(self, mm: float) -> int:
        """The cell of a place."""
        length = self.high - self.low
        return self.first + round((mm - self.low) / length * (self.last - self.first)) if length else self.first


def map_picture(session: Session, step_mm: float, axes: tuple[str, ...], width: int, height: int) -> Text:
    """Both views. Hollow marks show where the nozzle would be after one step along the axes that can be jogged."""
    where = {name: session.connection.channel(f"axes.{name}.mm") for name in ("x", "y", "z")}
    if width < LEAST_COLUMNS or height < LEAST_ROWS:
        positions = ", ".join(
            f"{name.upper()} {'not homed' if mm is None else f'{mm:.2f} mm'}" for name, mm in where.items()
        )
        return Text(positions[: max(0, width)], Ink.text, no_wrap=True)
    cells = Cells(width, height)
    side = min(SIDE_COLUMNS, width // 3)
    right = _above(cells, session, where, step_mm, axes, width - side - APART)
    _front(cells, session, where, step_mm, axes, right + APART, side)
    return cells.text()


def _limits(session: Session, name: str) -> tuple[float, float]:
    """An axis's soft limits as they are live."""
    axis: Axis = axis_of(session.document.machine, name)
    limits = []
    for key, declared in (("minimum_mm", axis.minimum_mm), ("maximum_mm", axis.maximum_mm)):
        live = session.live(f"axes.{name}.{key}")
        limits.append(float(live) if isinstance(live, (int, float)) else declared)
    return limits[0], limits[1]


def _above(
    cells: Cells,
    session: Session,
    where: Mapping[str, float | None],
    step_mm: float,
    axes: tuple[str, ...],
    width: int,
) -> int:
    """Draws at the left; returns the last column that it used."""
    machine, height = session.document.machine, cells.height
    bed = machine.bed
    (x_low, x_high), (y_low, y_high) = _limits(session, "x"), _limits(session, "y")
    x, y = where["x"], where["y"]
    left, right = min(x_low, 0.0, x or 0.0), max(x_high, bed.width_mm, x or 0.0)
    front, back = min(y_low, 0.0, y or 0.0), max(y_high, bed.depth_mm, y or 0.0)
    rows, columns = height - 4, width - RULER_COLUMNS - 2
    per_column = max((right - left) / columns, (back - front) / rows / CELL_RATIO)
    wide, deep = round((right - left) / per_column), round((back - front) / per_column / CELL_RATIO)
    across = AxisSpan(left, right, RULER_COLUMNS, RULER_COLUMNS + wide)
    down = AxisSpan(front, back, 1 + deep, 1)
    cells.put(RULER_COLUMNS, 0, "from above", Ink.dim)
    for column, words, style in (
        (12, "┌─┐ bed", Ink.faint),
        (21, "┄┄ reach", Ink.proposal),
        (31, "━━ home end", Ink.good),
    ):
        if column + len(words) < wide + APART:
            cells.put(RULER_COLUMNS + column, 0, words, style)
    for x_mm in range(0, int(bed.width_mm) + 1, int(GRID_MM)):
        for y_mm in range(0, int(bed.depth_mm) + 1, int(GRID_MM)):
            cells.put(across.at(x_mm), down.at(y_mm), "·", Ink.faint)
    cells.box(across.at(0), down.at(bed.depth_mm), across.at(bed.width_mm), down.at(0), Ink.faint)
    reach = across.at(x_low), down.at(y_high), across.at(x_high), down.at(y_low)
    cells.box(*reach, Ink.proposal, "┄┆╭╮╰╯")
    _home_ends(cells, session, reach)
    _rulers(cells, across, down, x, y)
    if x is None or y is None:
        words = "nobody knows where the nozzle stands: h homes"
        words = words if len(words) < wide else "not homed"
        cells.put(across.at((left + right) / 2) - len(words) // 2, down.at((front + back) / 2), words, Ink.focus)
        return across.last
    for name, dx, dy in (("x", 1, 0), ("x", -1, 0), ("y", 0, 1), ("y", 0, -1)):
        if name in axes:
            place = across.at(x + dx * step_mm), down.at(y + dy * step_mm)
            low, high = (x_low, x_high) if name == "x" else (y_low, y_high)
            there = x + dx * step_mm if name == "x" else y + dy * step_mm
            if place != (across.at(x), down.at(y)) and place[0] >= RULER_COLUMNS:
                allowed = low - 1e-6 <= there <= high + 1e-6
                cells.put(*place, "○" if allowed else "×", Ink.proposal if allowed else Ink.stop)
    cells.put(across.at(x), down.at(y), "◉", f"bold {Ink.focus}")
    return across.last


def _home_ends(cells: Cells, session: Session, reach: tuple[int, int, int, int]) -> None:
    machine = session.document.machine
    left, top, right, bottom = reach
    column = right if axis_of(machine, "x").homing.end == "high" else left
    for row in range(top + 1, bottom):
        cells.put(column, row, "┃", Ink.good)
    row = top if axis_of(machine, "y").homing.end == "high" else bottom
    cells.put(left + 1, row, "━" * (right - left - 1), Ink.good)


def _rulers(cells: Cells, across: AxisSpan, down: AxisSpan, x: float | None, y: float | None) -> None:
    base = down.first + 1
    for mm in range(0, int(across.high) + 1, 100):
        cells.put(across.at(mm), base, "╵", Ink.dim)
        cells.put(across.at(mm), base + 1, f"{mm}", Ink.dim)
    for mm in range(0, int(down.high) + 1, 100):
        cells.put(0, down.at(mm), f"{mm:>{RULER_COLUMNS - 2}} ╴", Ink.dim)
    if x is not None:
        cells.put(across.at(x), base, "▲", Ink.focus)
        words = f"X {round(x, 2) + 0.0:.2f}"
        cells.put(min(across.last - len(words), across.at(x) + 2), base, words, f"bold {Ink.focus}")
    if y is not None:
        cells.put(0, down.at(y), f"{round(y, 1) + 0.0:>{RULER_COLUMNS - 1}.1f}", f"bold {Ink.focus}")
        cells.put(RULER_COLUMNS - 1, down.at(y), "▶", Ink.focus)


def _front(
    cells: Cells,
    session: Session,
    where: Mapping[str, float | None],
    step_mm: float,
    axes: tuple[str, ...],
    left: int,
    width: int,
) -> None:
    low, top = _limits(session, "z")
    z = where["z"]
    up = AxisSpan(0.0, max(top, z or 0.0), cells.height - 3, 1)
    ruler = left + 7
    cells.put(left, 0, "from the front", Ink.dim)
    for row in range(1, cells.height - 3):
        cells.put(ruler, row, "│", Ink.faint)
    for mm in range(0, int(top) + 1, 100):
        cells.put(left, up.at(mm), f"{mm:>5} ╶", Ink.dim)
    bed = min(cells.width - ruler - 2, width - 8)
    cells.put(ruler, cells.height - 3, "═" * bed, Ink.good)
    cells.put(ruler + bed // 2 - 1, cells.height - 2, "bed", Ink.dim)
    middle = ruler + bed // 2
    if z is None:
        cells.put(ruler + 3, up.at(top / 2), "Z is not homed", Ink.focus)
        return
    row = up.at(z)
    if "z" in axes:
        for sign in (1, -1):
            there = z + sign * step_mm
            if up.at(there) != row and low <= there <= top:
                cells.put(middle, up.at(there), "○", Ink.proposal)
    cells.put(middle - 1, row - 1, "▐█▌", Ink.text)
    cells.put(middle, row, "▼", f"bold {Ink.focus}")
    cells.put(left, row, f"{round(z, 2) + 0.0:>6.2f}", f"bold {Ink.focus}")
    cells.put(ruler, row, "▶", Ink.focus)
