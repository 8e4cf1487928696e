"""Commanded and measured lengths from a table: by how much an axis is too long, and whether that means anything."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ublet.core.least_squares import Floats
from ublet.core.motion.measuring import HALF_WIDTH_MM, Instrument
from ublet.core.motion.steps import COVERAGE, Drive, telling_part


@dataclass(frozen=True)
class Scale:
    """Measured over commanded length with its standard uncertainty; what to do, and why."""

    scale: float
    uncertainty: float
    choice: str
    why: str


def analyse_steps(commanded_mm: Floats, measured_mm: Floats, instrument: Instrument = "callipers") -> Scale:
    """The scale of an axis from n readings, by least squares through zero: ``sum(c m) / sum(c^2)``.

    Each reading's error is uniform within the instrument's half-width; scatter beyond it is added in squares.

    Raises:
        ValueError: a commanded length of zero.
    """
    if np.any(commanded_mm == 0):
        raise ValueError("a commanded length is 0: every row needs a move")
    weight = float(np.sum(commanded_mm**2))
    scale = float(np.sum(commanded_mm * measured_mm)) / weight
    count = len(commanded_mm)
    scatter = float(np.sum((measured_mm - scale * commanded_mm) ** 2)) / max(1, count - 1)
    read = HALF_WIDTH_MM[instrument] ** 2 / 3
    uncertainty = math.sqrt(max(read, scatter) / weight)
    if abs(scale) <= COVERAGE * uncertainty:
        return Scale(scale, uncertainty, "look", "it did not move: not enabled, no current, or a wire open")
    if abs(scale - 1) <= COVERAGE * uncertainty:
        return Scale(scale, uncertainty, "leave it", "the difference is inside the error of measuring")
    part = telling_part(scale, Drive("belt", 16)) or telling_part(scale, Drive("screw", 16))
    if part is not None:
        return Scale(scale, uncertainty, "look", f"{scale:.3g} times as far as told is telling, for example: {part[0]}")
    return Scale(scale, uncertainty, "change", f"multiply the steps per mm by {1 / scale:.5f}")
