"""Commanded and measured lengths from a table: by how much an axis is too long, and whether that means anything."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ublet.core.least_squares import Floats
from ublet.core.motion.measuring import INSTRUMENTS, Instrument
from ublet.core.motion.steps import COVERAGE, Drive, telling_part

LONGEST_MM = 10_000.0


@dataclass(frozen=True)
class Scale:
    """Measured over commanded length with its standard uncertainty; what to do, and why."""

    scale: float
    uncertainty: float
    choice: str
    why: str


def analyse_steps(commanded_mm: Floats, measured_mm: Floats, instrument: Instrument = "callipers") -> Scale:
    """The scale of an axis from n readings, by least squares through zero: ``sum(c m) / sum(c^2)``.

    Each placing's error is uniform within the instrument's half-width and scatter beyond it is added in squares; the
    common part shifts every reading alike and moves the scale by ``common sum(c) / sum(c^2)``.

    Raises:
        ValueError: a commanded length of zero, or lengths that no machine has.
    """
    if np.any(commanded_mm == 0):
        raise ValueError("a commanded length is 0: every row needs a move")
    longest = float(max(np.max(np.abs(commanded_mm)), np.max(np.abs(measured_mm))))
    if longest > LONGEST_MM:
        raise ValueError(f"a length of {longest:g} mm is not one of a printer: the columns must be in mm")
    weight = float(np.sum(commanded_mm**2))
    scale = float(np.sum(commanded_mm * measured_mm)) / weight
    count = len(commanded_mm)
    scatter = float(np.sum((measured_mm - scale * commanded_mm) ** 2)) / max(1, count - 1)
    errors = INSTRUMENTS[instrument]
    placing = math.sqrt(max(errors.placing_mm**2 / 3, scatter) / weight)
    common = errors.common_mm / math.sqrt(3) * abs(float(np.sum(commanded_mm))) / weight
    uncertainty = math.hypot(placing, common)
    if abs(scale) <= COVERAGE * uncertainty:
        return Scale(scale, uncertainty, "look", "it did not move: not enabled, no current, or a wire open")
    if scale < 0:
        why = "it went the other way than told, or the readings have the wrong sign: look at its direction first"
        return Scale(scale, uncertainty, "look", why)
    if abs(scale - 1) <= COVERAGE * uncertainty:
        return Scale(scale, uncertainty, "leave it", "no difference beyond the measurement error")
    part = telling_part(scale, Drive("belt", 16)) or telling_part(scale, Drive("screw", 16))
    if part is not None:
        return Scale(scale, uncertainty, "look", f"{scale:.3g} times as far as told is telling, for example: {part[0]}")
    return Scale(scale, uncertainty, "change", f"multiply the steps per mm by {1 / scale:.5f}")
