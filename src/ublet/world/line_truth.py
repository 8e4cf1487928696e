"""How wide a line becomes as it is laid, from what the melt does: the truth behind trials that print lines."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.motion.planner import LinearMove, along
from ublet.world.extrude import ExtruderTruth, Filament
from ublet.world.mechanics import MotorTruth

ROUND_ENDS = 1 - math.pi / 4
GOLDEN = (math.sqrt(5) - 1) / 2


@dataclass(frozen=True)
class LineLaid:
    """A straight line: stretches of a length, mm, and a speed, mm/s; filament pushed for each mm of it; its gap, mm;
    the acceleration between stretches, mm/s².
    """

    stretches: Sequence[tuple[float, float]]
    filament_per_mm: float
    gap_mm: float
    acceleration_mm_s2: float


def laid_widths(
    truth: ExtruderTruth, motor: MotorTruth | None, melt: tuple[float, float], line: LineLaid, advance_s: float
) -> NDArray[np.float64]:
    """A line as it comes out with a pressure advance: n rows of place along it and width, mm. melt: the block's
    temperature, °C, and the current in the extruder's motor, A.
    """
    filament = Filament(truth, motor, np.random.default_rng(1))
    direction = {"x": 1.0, "e": line.filament_per_mm}
    moves = [LinearMove(direction, length, mm_s, line.acceleration_mm_s2) for length, mm_s in line.stretches]
    rows, here, per_mm = [], 0.0, line.filament_per_mm
    for _, pace in along(moves, lambda before, after: min(before.top, after.top)):
        ahead = per_mm * advance_s * pace.acceleration_mm_s2
        came = filament.turn(per_mm * pace.speed_mm_s + ahead, per_mm * pace.acceleration_mm_s2, pace.seconds, melt)
        now = 0.0
        for seconds, out in came:
            length = pace.gone(now + seconds) - pace.gone(now)
            now += seconds
            if length > 1e-6:
                section = out * truth.section_mm2(filament.fed_mm) / length
                rows.append((here + pace.gone(now) - length / 2, section / line.gap_mm + line.gap_mm * ROUND_ENDS))
        here += pace.gone(pace.seconds)
    return np.array(rows).reshape(-1, 2)


def evenest_advance_s(
    truth: ExtruderTruth,
    motor: MotorTruth | None,
    melt: tuple[float, float],
    line: LineLaid,
    most_s: float,
) -> float:
    """The pressure advance at which a line of a slow, a fast and a slow stretch is as even as it can be: the least mean
    square of its width about its mean after the first stretch's first half, found by golden section.
    """
    start = line.stretches[0][0] / 2
    end = sum(length for length, _ in line.stretches) - line.stretches[-1][0] / 4

    def uneven(advance_s: float) -> float:
        rows = laid_widths(truth, motor, melt, line, advance_s)
        grid = np.arange(start, end, 0.25)
        widths = np.interp(grid, rows[:, 0], rows[:, 1])
        return float(np.var(widths))

    low, high = 0.0, most_s
    for _ in range(22):
        left, right = high - GOLDEN * (high - low), low + GOLDEN * (high - low)
        if uneven(left) < uneven(right):
            high = right
        else:
            low = left
    return (low + high) / 2
