"""Lines of filament laid on the bed: how far above it the nozzle was, and how much came out, place by place."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ublet.core.sockets import Pace
from ublet.world.extrude import Filament
from ublet.world.mechanics import EXTRUDER, Stretch

HIGHEST_MM = 1.5
"""From higher than this nothing that comes out is a line on the bed, mm."""

KEPT = 20_000
"""So many pieces are remembered."""

LAST_FRACTION = 0.3
"""Of a patch the last lines are looked at, this share of them."""

FEWEST = 3


@dataclass(frozen=True)
class Looks:
    """What a patch is like: its true gap, and what the gap would be at which its lines just touch, mm."""

    gap_mm: float
    closes_mm: float

    @property
    def error_mm(self) -> float:
        """How much too high it is."""
        return self.gap_mm - self.closes_mm


class Laid:
    """Pieces of lines in the order in which they were laid: x, y, gap, section of what came out, mm and mm²."""

    def __init__(self, filament: Filament) -> None:
        self._filament = filament
        self._pieces: list[tuple[float, float, float, float]] = []

    def follow(
        self,
        stretch: Stretch,
        length: float,
        pace: Pace,
        melt: tuple[float, float],
        where: Mapping[str, float],
        gap_mm: float,
    ) -> None:
        """The nozzle went along so much of a stretch, pushing, and is there now. melt: how warm it is, and the current
        in the motor that pushes.
        """
        pushed = stretch.motors[EXTRUDER] * length
        direction = math.hypot(stretch.axes.get("x", 0.0), stretch.axes.get("y", 0.0)) * length
        if pushed <= 0 or direction <= 0 or gap_mm >= HIGHEST_MM:
            return
        middle = (pace.reached(stretch.start_mm) + pace.reached(stretch.start_mm + length)) / 2
        comes = self._filament.comes(stretch.motors[EXTRUDER] * pace.speed(middle), *melt)
        section = pushed * comes * math.pi * self._filament.truth.diameter_mm**2 / 4 / direction
        self._pieces.append((where["x"], where["y"], gap_mm, section))
        if len(self._pieces) > KEPT:
            del self._pieces[: KEPT // 2]

    def forget(self) -> None:
        """The sheet is empty again."""
        self._pieces.clear()

    @property
    def gaps(self) -> np.ndarray:
        """Every true gap (n), mm."""
        return np.array([gap for _, _, gap, _ in self._pieces])

    def latest(self, count: int, spacing_mm: float) -> Looks | None:
        """How the last pieces look, wherever they lie; None: there are none."""
        return self._look(self._pieces[-count:], spacing_mm)

    def patch(self, x: float, y: float, wide: float, deep: float, spacing_mm: float) -> Looks | None:
        """How the last lines within a rectangle look; lines are so far apart. None: nothing is there."""
        inside = [
            piece
            for piece in self._pieces
            if abs(piece[0] - x) <= wide / 2 + 0.5 and abs(piece[1] - y) <= deep / 2 + 0.5
        ]
        return self._look(inside[-max(FEWEST, int(LAST_FRACTION * len(inside))) :], spacing_mm)

    def _look(self, pieces: list[tuple[float, float, float, float]], spacing_mm: float) -> Looks | None:
        sections = [section for *_, section in pieces]
        if len(pieces) < FEWEST or sum(section > 0 for section in sections) < len(sections) / 2:
            return None
        gap = sum(piece[2] for piece in pieces) / len(pieces)
        return Looks(gap, closes_at(sum(sections) / len(sections), spacing_mm))


def closes_at(section_mm2: float, spacing_mm: float) -> float:
    """The gap at which a string with round ends is as wide as lines are apart: ``(w - h) h + pi h^2 / 4 = section``."""
    round_ends = 1 - math.pi / 4
    left = spacing_mm**2 - 4 * round_ends * section_mm2
    return (spacing_mm - math.sqrt(left)) / (2 * round_ends) if left > 0 else spacing_mm
