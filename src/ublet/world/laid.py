"""Lines of filament laid on the bed and on one another: how far the nozzle was above what lies there, and how much came
out, place by place.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ublet.core.sockets import Pace
from ublet.world.extrude import Filament
from ublet.world.mechanics import EXTRUDER, Stretch

HIGHEST_MM = 1.5
"""From higher than this above what lies there nothing that comes out is a line, mm."""

KEPT = 200_000
"""Number of pieces remembered."""

CELL_MM, ON_TOP_MM = 0.8, 0.06
"""What lies where is remembered by cells of this size; what is laid higher than it by this lies on top of it, mm."""

SHORTEST_MM = 0.4
"""Pieces of a line are no shorter than this, mm."""

NEAR_MM, BEGINS_MM = 0.3, 2.0
"""A line is looked for so near to where it should lie, and its beginning is so long, mm."""

FLATTEST_MM = 0.02
"""No line is flatter than this, mm."""

LAST_FRACTION = 0.3
"""Of a patch the last lines are looked at, this share of them."""

BARE_MM2 = 0.01
"""A string with a smaller section than this is drops that do not stick, mm²."""

FEWEST_MM = 3.0
"""Less of a line cannot be judged, mm."""


@dataclass(frozen=True)
class Looks:
    """What a patch is like: its true gap, and what the gap would be at which its lines just touch, mm."""

    gap_mm: float
    closes_mm: float

    @property
    def error_mm(self) -> float:
        """How much too high it is."""
        return self.gap_mm - self.closes_mm


class WallCorner(NamedTuple):
    """How an axis came to a corner of a wall: from a speed, braking so hard, to the speed that it still had there, mm/s
    and mm/s².
    """

    mm_s: float
    mm_s2: float
    left_mm_s: float


class WallSide(NamedTuple):
    """The side that is laid now: its axis, its top speed and its hardest braking so far, its speed now."""

    axis: str = ""
    mm_s: float = 0.0
    mm_s2: float = 0.0
    now_mm_s: float = 0.0


class LaidPiece(NamedTuple):
    """A piece of a line as it was laid: its end, mm; the true gap to what lies below, mm; its section, mm²; its length,
    mm; how far the nozzle was above the first layer there, mm.
    """

    x: float
    y: float
    gap_mm: float
    section_mm2: float
    length_mm: float
    z: float

    @property
    def width_mm(self) -> float:
        """How wide a string with round ends is: ``w = section / h + h (1 - pi/4)``; bare: 0."""
        gap = max(self.gap_mm, FLATTEST_MM)
        return self.section_mm2 / gap + gap * (1 - math.pi / 4) if self.section_mm2 > 0 else 0.0


@dataclass(frozen=True)
class LaidColumns:
    """Pieces as columns, n each, in their order: ends along X, Y and above the first layer, mm; true gap, mm; section,
    mm²; length and width, mm.
    """

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    z: NDArray[np.float64]
    gap_mm: NDArray[np.float64]
    section_mm2: NDArray[np.float64]
    length_mm: NDArray[np.float64]
    width_mm: NDArray[np.float64]

    def only(self, which: NDArray[np.bool_]) -> LaidColumns:
        """Some of them."""
        return LaidColumns(*(getattr(self, column.name)[which] for column in fields(self)))


class Laid:
    """Pieces of lines in the order in which they were laid."""

    def __init__(self, filament: Filament) -> None:
        self._filament = filament
        self._pieces: list[LaidPiece] = []
        self.changes = 0
        """How often anything was laid or taken off."""
        self._columns: tuple[int, LaidColumns] | None = None
        self._tops: dict[tuple[int, int], tuple[float, float, float]] = {}  # Z of a cell: top, below, first
        self.top_mm = 0.0
        self.corners: dict[str, WallCorner] = {}
        self._side = WallSide()
        self._travels: list[tuple[float, float, float, float, float]] = []

    def follow(
        self,
        stretch: Stretch,
        pace: Pace,
        began_s: float,
        came: Iterable[tuple[float, float]],
        ends: tuple[Mapping[str, float], Mapping[str, float]],
        gap_mm: float,
    ) -> None:
        """The nozzle went along a stretch from one place to another. began_s: when, in the pace; came: what came out of
        it in pieces of time, mm of filament.
        """
        way = math.hypot(stretch.axes.get("x", 0.0), stretch.axes.get("y", 0.0))
        if stretch.motors.get(EXTRUDER, 0.0) <= 0 or way <= 0:
            return
        if gap_mm >= HIGHEST_MM and not self._tops:
            return
        self._turn_corner(stretch, pace, began_s)
        before, after = ends
        area = self._filament.truth.section_mm2(self._filament.fed_mm)
        start, whole = pace.gone(began_s), 0.0
        reached: list[tuple[float, float]] = []
        now, waiting = began_s, 0.0
        for seconds, out in came:
            now += seconds
            waiting += out
            gone = pace.gone(now) - start
            if gone - whole >= SHORTEST_MM:
                reached.append((gone, waiting))
                whole, waiting = gone, 0.0
        if waiting and reached:
            reached[-1] = (pace.gone(now) - start, reached[-1][1] + waiting)
        elif waiting:
            reached.append((pace.gone(now) - start, waiting))
        if not reached or reached[-1][0] <= 0:
            return
        self.changes += 1
        total, last = reached[-1][0], 0.0
        for until, out in reached:
            length = (until - last) * way
            if length <= 0:
                continue
            parts = math.ceil(length / CELL_MM)  # a steady piece is long, and lies in every cell on its way
            for part in range(1, parts + 1):
                gone = (last + (until - last) * part / parts) / total
                x, y = (before[axis] + (after[axis] - before[axis]) * gone for axis in ("x", "y"))
                gap, above = self._lies(x, y, after.get("z", gap_mm), gap_mm)
                if gap < HIGHEST_MM:
                    self._pieces.append(LaidPiece(x, y, gap, out * area / length, length / parts, above))
                    self.top_mm = max(self.top_mm, gap_mm)
            last = until
        if len(self._pieces) > KEPT:
            del self._pieces[: KEPT // 2]

    def _turn_corner(self, stretch: Stretch, pace: Pace, began_s: float) -> None:
        """Note how one axis came to the place where another takes over."""
        axis = max(("x", "y"), key=lambda name: abs(stretch.axes.get(name, 0.0)))
        per_mm = abs(stretch.axes.get(axis, 0.0))
        side = self._side
        if side.axis and side.axis != axis:
            self.corners[side.axis] = WallCorner(side.mm_s, side.mm_s2, side.now_mm_s)
            side = WallSide()
        brakes = max(0.0, -pace.acceleration_mm_s2) * per_mm
        self._side = WallSide(
            axis,
            max(side.mm_s, per_mm * pace.speed(began_s)),
            max(side.mm_s2, brakes),
            per_mm * pace.speed(pace.reached(stretch.end_mm)),
        )

    def _lies(self, x: float, y: float, z: float, gap_mm: float) -> tuple[float, float]:
        """The gap to what lies below a nozzle whose carriage stands at z, mm, and how far it is above the first layer
        there, mm; what it lays lies there from now on. gap_mm: to the bed.
        """
        cell = (round(x / CELL_MM), round(y / CELL_MM))
        known = self._tops.get(cell)
        if known is None:  # beside a wall it still rests on it
            beside = ((cell[0] + i, cell[1] + j) for i in (-1, 0, 1) for j in (-1, 0, 1))
            stacks = [stack for at in beside if (stack := self._tops.get(at)) is not None and stack[2] < z - ON_TOP_MM]
            tops = [(top if top < z - ON_TOP_MM else under, first) for top, under, first in stacks]
            if tops:
                top, first = max(tops)
                known = (z, top, first)
        top, under, first = known or (z, -math.inf, z)
        if z > top + ON_TOP_MM:
            top, under = z, top
        self._tops[cell] = (max(top, z), under, first)
        return (z - under if under > -math.inf else gap_mm), z - first

    def region(self, x: tuple[float, float], y: tuple[float, float], z: tuple[float, float]) -> NDArray[np.float64]:
        """What was laid within bounds, in its order: n rows of a piece's end, its width, its length, mm."""
        all_of = self.columns
        inside = np.ones(len(all_of.x), dtype=np.bool_)
        for at, bounds in ((all_of.x, x), (all_of.y, y), (all_of.z, z)):
            inside &= (at >= min(bounds)) & (at <= max(bounds) + 1e-6)
        within = all_of.only(inside)
        return np.column_stack([within.x, within.y, within.width_mm, within.length_mm])

    @property
    def columns(self) -> LaidColumns:
        """Every piece; made anew when something was laid: it is looked at again and again, and long."""
        if self._columns is None or self._columns[0] != self.changes:
            rows = np.array(self._pieces, dtype=np.float64).reshape(-1, len(LaidPiece._fields))
            x, y, gap, section, length, z = rows.T
            flat = np.maximum(gap, FLATTEST_MM)
            width = np.where(section > 0, section / flat + flat * (1 - math.pi / 4), 0.0)
            self._columns = self.changes, LaidColumns(x, y, z, gap, section, length, width)
        return self._columns[1]

    def mean_width(
        self, x: tuple[float, float], y: tuple[float, float], z: tuple[float, float] = (0.0, math.inf)
    ) -> float | None:
        """The mean width of what was laid within bounds, mm; None: nothing was."""
        rows = self.region(x, y, z)
        return float((rows[:, 2] * rows[:, 3]).sum() / rows[:, 3].sum()) if len(rows) else None

    def travelled(self, before: Mapping[str, float], after: Mapping[str, float], oozed_mm: float) -> None:
        """The nozzle went over without pushing, and so much filament oozed out of it."""
        self._travels.append((before["x"], before["y"], after["x"], after["y"], oozed_mm))
        del self._travels[:-KEPT]

    def oozed(self, x: tuple[float, float], y: float) -> float | None:
        """Filament that oozed on each way between two places along X, on average, mm; None: nothing went there."""
        low, high = min(x), max(x)
        reach, total, ways = 0.0, 0.0, 0.0
        for from_x, from_y, to_x, to_y, mm in self._travels:
            if abs(from_y - y) > NEAR_MM or abs(to_y - y) > NEAR_MM or abs(to_x - from_x) < 1e-6:
                continue
            inside = max(0.0, min(high, max(from_x, to_x)) - max(low, min(from_x, to_x)))
            reach += inside
            total += mm * inside / abs(to_x - from_x)
        ways = reach / (high - low)
        return total / ways if ways > 0.5 else None

    def begun(self, x: tuple[float, float], y: float) -> float | None:
        """The share of its section that a line along X lacks where it begins, on average; None: there is no line."""
        inside = [p for p in self._pieces if abs(p.y - y) <= NEAR_MM and x[0] - 1e-6 <= p.x <= x[1] + 1e-6]
        early = [p for p in inside if p.x - x[0] <= BEGINS_MM]
        late = [p for p in inside if p.x - x[0] > BEGINS_MM]
        if not early or not late:
            return None
        first, rest = (
            sum(p.section_mm2 * p.length_mm for p in pieces) / sum(p.length_mm for p in pieces)
            for pieces in (early, late)
        )
        return 1 - first / rest if rest > 0 else None

    def forget(self) -> None:
        """The sheet is empty again."""
        self._pieces.clear()
        self._travels.clear()
        self._tops.clear()
        self.corners.clear()
        self._side = WallSide()
        self.top_mm = 0.0
        self.changes += 1

    @property
    def pieces(self) -> Sequence[LaidPiece]:
        """Every piece, in the order in which it was laid."""
        return self._pieces

    @property
    def gaps(self) -> np.ndarray:
        """Every true gap (n), mm."""
        return np.array([piece.gap_mm for piece in self._pieces])

    def latest(self, length_mm: float, spacing_mm: float) -> Looks | None:
        """How the last lines look over so much of their length, wherever they lie; None: there are none."""
        pieces: list[LaidPiece] = []
        for piece in reversed(self._pieces):
            pieces.append(piece)
            length_mm -= piece.length_mm
            if length_mm <= 0:
                break
        return self._look(pieces, spacing_mm)

    def patch(self, x: float, y: float, wide: float, deep: float, spacing_mm: float) -> Looks | None:
        """How the last lines within a rectangle look; lines are so far apart. None: nothing is there."""
        inside = [p for p in self._pieces if abs(p.x - x) <= wide / 2 + 0.5 and abs(p.y - y) <= deep / 2 + 0.5]
        left, last = LAST_FRACTION * sum(piece.length_mm for piece in inside), 0
        while left > 0 and last < len(inside):
            last += 1
            left -= inside[-last].length_mm
        return self._look(inside[len(inside) - last :], spacing_mm)

    def _look(self, pieces: list[LaidPiece], spacing_mm: float) -> Looks | None:
        length = sum(piece.length_mm for piece in pieces)
        if length < FEWEST_MM or sum(p.length_mm for p in pieces if p.section_mm2 > BARE_MM2) < length / 2:
            return None
        gap, section = (
            sum(of * piece.length_mm for of, piece in zip(values, pieces, strict=True)) / length
            for values in ([p.gap_mm for p in pieces], [p.section_mm2 for p in pieces])
        )
        return Looks(gap, closes_at(section, spacing_mm))


def closes_at(section_mm2: float, spacing_mm: float) -> float:
    """The gap at which a string with round ends is as wide as lines are apart: ``(w - h) h + pi h^2 / 4 = section``."""
    round_ends = 1 - math.pi / 4
    left = spacing_mm**2 - 4 * round_ends * section_mm2
    return (spacing_mm - math.sqrt(left)) / (2 * round_ends) if left > 0 else spacing_mm
