"""How wide a line becomes as it is laid, from what the melt does: the truth behind trials that print lines."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ublet.core.motion.caps import Caps
from ublet.core.motion.planner import Corner, LinearMove, along
from ublet.world.extrude import ExtruderTruth, Filament
from ublet.world.mechanics import MotorTruth

ROUND_ENDS = 1 - math.pi / 4
GOLDEN = (math.sqrt(5) - 1) / 2
GRID_MM, CORNER_MM, SCANNED = 0.25, 1.0, 21

DRAWN_MM_S, BETWEEN_S = 30.0, 1.5
"""Speed at which filament is drawn back between two lines, and the time of the travel between them."""


class LaidPath(Protocol):
    """A way on which filament is laid: filament for each mm of it, its gap, mm."""

    @property
    def filament_per_mm(self) -> float: ...
    @property
    def gap_mm(self) -> float: ...
    @property
    def drawn_mm(self) -> float | None:
        """By how much filament is drawn back after a first one like it, with whose pressure it begins, mm; None: it
        brings its own beginning along.
        """
        ...

    def counts(self) -> NDArray[np.float64]:
        """Places along it at which evenness counts, n, mm."""
        ...

    def moves(self, advance_s: float) -> tuple[Sequence[LinearMove], Corner]:
        """Its lines as they are followed with a pressure advance, and how fast their corners are."""
        ...


@dataclass(frozen=True)
class LineLaid:
    """A straight line: stretches of a length, mm, and a speed, mm/s; filament pushed for each mm of it; its gap, mm;
    the acceleration between stretches, mm/s²; how far filament is drawn back between two such lines, mm; the
    acceleration that the extruder follows at a pressure advance, mm/s². Its first stretch's first half and its end do
    not count.
    """

    stretches: Sequence[tuple[float, float]]
    filament_per_mm: float
    gap_mm: float
    acceleration_mm_s2: float
    drawn_mm: float | None = 0.0
    followed_mm_s2: Callable[[float], float] = field(default=lambda advance_s: math.inf)

    def counts(self) -> NDArray[np.float64]:
        """Where evenness counts."""
        whole = sum(length for length, _ in self.stretches)
        return np.arange(self.stretches[0][0] / 2, whole - self.stretches[-1][0] / 4, GRID_MM)

    def moves(self, advance_s: float) -> tuple[Sequence[LinearMove], Corner]:
        """Its stretches."""
        direction = {"x": 1.0, "e": self.filament_per_mm}
        mm_s2 = min(self.acceleration_mm_s2, self.followed_mm_s2(advance_s))
        lines = [LinearMove(direction, length, mm_s, mm_s2) for length, mm_s in self.stretches]
        return lines, lambda before, after: min(before.top, after.top)


@dataclass(frozen=True)
class LoopLaid:
    """A closed way of sides along X and Y, gone round twice; the second time counts, but for what is next to a corner,
    where no change of speed can be seen.

    start: the middle of its first side; sides: where each ends, mm, with its speed, mm/s; filament for each mm; gap,
    mm; caps of the machine; acceleration at the most, mm/s².
    """

    start: tuple[float, float]
    sides: Sequence[tuple[float, float, float]]
    filament_per_mm: float
    gap_mm: float
    caps: Caps
    acceleration_mm_s2: float
    drawn_mm: None = None

    def counts(self) -> NDArray[np.float64]:
        """The second time round, without its corners."""
        ends = np.cumsum([math.hypot(*travel.values()) for travel, _ in self._travels()])
        grid = np.arange(ends[-1], 2 * ends[-1], GRID_MM)
        corners = ends[-1] + ends[:-1]
        near = np.abs(grid[:, None] - corners[None, :]).min(axis=1)
        away: NDArray[np.float64] = grid[near >= CORNER_MM]
        return away

    def moves(self, advance_s: float) -> tuple[Sequence[LinearMove], Corner]:
        """Its sides as the machine follows them."""
        caps = self.caps.with_advance(advance_s)
        lines = []
        for travel, mm_s in (*self._travels(), *self._travels()):
            line = caps.line({**travel, "e": math.hypot(*travel.values()) * self.filament_per_mm}, mm_s)
            lines.append(replace(line, acceleration=min(line.acceleration, self.acceleration_mm_s2)))
        return lines, caps.corner

    def _travels(self) -> list[tuple[dict[str, float], float]]:
        travels, (x, y) = [], self.start
        for to_x, to_y, mm_s in self.sides:
            travel = {axis: mm for axis, mm in (("x", to_x - x), ("y", to_y - y)) if mm}
            travels.append((travel, mm_s))
            x, y = to_x, to_y
        return travels


def laid_widths(
    truth: ExtruderTruth, motor: MotorTruth | None, melt: tuple[float, float], path: LaidPath, advance_s: float
) -> NDArray[np.float64]:
    """A way as it is laid with a pressure advance: n rows of place along it and width, mm. melt: the block's
    temperature, °C, and the current in the extruder's motor, A.
    """
    filament = Filament(truth, motor, np.random.default_rng(1))
    if (drawn := path.drawn_mm) is not None:
        _laid_once(filament, melt, path, advance_s)
        for mm_s in (-DRAWN_MM_S, 0.0, DRAWN_MM_S):
            filament.turn(mm_s, 0.0, drawn / DRAWN_MM_S if mm_s else BETWEEN_S, melt)
    return _laid_once(filament, melt, path, advance_s)


def _laid_once(filament: Filament, melt: tuple[float, float], path: LaidPath, advance_s: float) -> NDArray[np.float64]:
    truth, (moves, corner) = filament.truth, path.moves(advance_s)
    rows, here, per_mm = [], 0.0, path.filament_per_mm
    for _, pace in along(moves, corner):
        ahead = per_mm * advance_s * pace.acceleration_mm_s2
        came = filament.turn(per_mm * pace.speed_mm_s + ahead, per_mm * pace.acceleration_mm_s2, pace.seconds, melt)
        now = 0.0
        for seconds, out in came:
            length = pace.gone(now + seconds) - pace.gone(now)
            now += seconds
            if length > 1e-6:
                section = out * truth.section_mm2(filament.fed_mm) / length
                rows.append((here + pace.gone(now) - length / 2, section / path.gap_mm + path.gap_mm * ROUND_ENDS))
        here += pace.gone(pace.seconds)
    return np.array(rows).reshape(-1, 2)


def evenest_advance_s(
    truth: ExtruderTruth,
    motor: MotorTruth | None,
    melt: tuple[float, float],
    path: LaidPath,
    most_s: float,
) -> float:
    """The pressure advance at which a way of slow and fast stretches is as even as it can be: the least mean square of
    its width about its mean where evenness counts, looked for over the whole range, then by golden section.
    """
    grid = path.counts()

    def uneven(advance_s: float) -> float:
        rows = laid_widths(truth, motor, melt, path, advance_s)
        widths = np.interp(grid, rows[:, 0], rows[:, 1])
        return float(np.var(widths))

    values = np.linspace(0.0, most_s, SCANNED)
    best = int(np.argmin([uneven(value) for value in values]))
    low, high = float(values[max(0, best - 1)]), float(values[min(SCANNED - 1, best + 1)])
    for _ in range(12):
        left, right = high - GOLDEN * (high - low), low + GOLDEN * (high - low)
        if uneven(left) < uneven(right):
            high = right
        else:
            low = left
    return (low + high) / 2
