"""A cube or a flat frame, printed and measured: scale of each axis, shrinkage and skew apart from one another."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from ublet.core.extrude.melting import extruder_of
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.measuring import INSTRUMENTS
from ublet.core.motion.patterns import RIM_MM, Laying, Stroke
from ublet.core.motion.program import Program
from ublet.core.observations import DIAGONALS
from ublet.core.remedy import ChangeParameter
from ublet.core.run import TrialFailed

LAYER_MM, FIRST_MM, WIDTH_MM, MM_S = 0.25, 0.2, 0.45, 50.0
FIRST_MM_S = 25.0
WALLS = 2

SQUEEZE_FRACTION = 0.0003
"""Callipers squeeze a print by no more than this share, standard."""

PRINT_U_MM = 0.02
"""Walls of a good print stand off by so much from one side to the next, standard."""

FIRST_U_MM = 0.03
"""Standard error of the height of a good first layer, mm; it adds to every height above it."""

AXIS_SHORT = 0.003
"""An axis that differs from the others by less than this is left, whatever its uncertainty."""

SIDES = ("x", "y", "z")

FRAME_HIGH_MM = 4.0
"""A flat frame is so high: high enough for callipers, too low to show the scale of Z."""

FRAME_WALLS = 4

PieceShape = Literal["cube", "flat frame"]
USUAL_MM: Mapping[PieceShape, float] = {"cube": 30.0, "flat frame": 100.0}
"""Sides of a piece that callipers of 150 mm can measure, with its diagonals."""


def sides_of(shape: PieceShape) -> tuple[str, ...]:
    """The axes along which a shape is measured."""
    return SIDES if shape == "cube" else SIDES[:2]


def cube_program(machine: MachineFile, size_mm: float, shape: PieceShape = "cube") -> Program:
    """A hollow cube in the middle of the bed, walls of two lines, or a flat frame with walls of four; its first layer
    beside a purge line.

    Raises:
        TrialFailed: it does not fit.
    """
    extruder, bed = extruder_of(machine), machine.bed
    rim = bed.margin_mm + RIM_MM
    room = min(bed.width_mm, bed.depth_mm) - 2 * rim - 10.0
    if size_mm > room or size_mm > machine.axes.z.maximum_mm - 20.0:
        raise TrialFailed(
            f"A {shape} of {size_mm:g} mm does not fit: {room:.0f} mm at the most on this bed.",
            ChangeParameter("size_mm", f"{room:.0f} mm or less"),
        )
    laying = Laying(extruder, Stroke(WIDTH_MM, FIRST_MM, FIRST_MM_S))
    laying.purge(bed.width_mm / 2, rim)
    middle_x, middle_y = bed.width_mm / 2, bed.depth_mm / 2
    high, walls = (size_mm, WALLS) if shape == "cube" else (FRAME_HIGH_MM, FRAME_WALLS)
    layers = max(2, round((high - FIRST_MM) / LAYER_MM) + 1)
    layer_mm = (high - FIRST_MM) / (layers - 1)
    for layer in range(layers):
        height = FIRST_MM + layer * layer_mm
        laying.at_height(Stroke(WIDTH_MM, layer_mm if layer else FIRST_MM, MM_S if layer else FIRST_MM_S), height)
        for wall in range(walls):
            half = size_mm / 2 - WIDTH_MM * (wall + 0.5)
            corners = [(-half, -half), (half, -half), (half, half), (-half, half)]
            place = f"layer {layer + 1} of {layers}" if not wall else ""
            laying.go(middle_x - half, middle_y - half, place)
            for x, y in (*corners[1:], corners[0]):
                laying.lay(middle_x + x, middle_y + y, 2 * half)
    return Program(shape, laying.end(), f"{size_mm:g} mm {shape}, {layers} layers, {walls} walls")


@dataclass(frozen=True)
class Ratio:
    """A measured over a commanded length, with its standard uncertainty."""

    value: float
    uncertainty: float


@dataclass(frozen=True)
class CubeJudged:
    """What the measured lengths show. scales: of each axis; shrinks: share that all are short by alike; odd: the axis
    that differs from the others (empty: none), by which share; skew_deg: deviation of the corner from a right angle.
    """

    scales: Mapping[str, Ratio]
    shrinks: Ratio
    odd: str
    odd_by: Ratio
    skew_deg: Ratio

    @property
    def skewed(self) -> bool:
        """Whether the skew is more than measuring errs by."""
        return abs(self.skew_deg.value) > 2 * self.skew_deg.uncertainty

    @property
    def shrunk(self) -> bool:
        """Whether all sides are short, or long, by more than measuring errs by."""
        return abs(self.shrinks.value) > 2 * self.shrinks.uncertainty


def judge_cube(size_mm: float, readings: Mapping[str, Sequence[float]]) -> CubeJudged:
    """Tell apart what a piece's lengths show.

    Skew: ``sin(skew) = (d1² - d2²) / (4 x y)`` for the sides x, y and both diagonals of a face: twice as sharp as the
    single diagonal of an L with arms as long. Shrinkage is what all axes have in common; an axis is odd that differs
    from the mean of the others by more than two standard uncertainties and by more than ``AXIS_SHORT``; of two it is
    the one that is further from its commanded length.

    Args:
        readings: every reading of ``x``, ``y``, of ``z`` where it was measured, and of both diagonals, mm.
    """
    sides = [axis for axis in SIDES if axis in readings]
    errors = INSTRUMENTS["callipers"]
    placing, common = errors.placing_mm / math.sqrt(3), errors.common_mm / math.sqrt(3)
    means = {name: sum(values) / len(values) for name, values in readings.items()}
    own = {name: math.hypot(placing / math.sqrt(len(values)), PRINT_U_MM) for name, values in readings.items()}
    if "z" in own:
        own["z"] = math.hypot(own["z"], FIRST_U_MM)
    scales = {axis: Ratio(means[axis] / size_mm, math.hypot(own[axis], common) / size_mm) for axis in sides}
    apart: dict[str, Ratio] = {}
    for axis in sides:
        others = [other for other in sides if other != axis]
        difference = scales[axis].value - sum(scales[other].value for other in others) / len(others)
        error = math.hypot(own[axis], math.hypot(*(own[other] / len(others) for other in others))) / size_mm
        apart[axis] = Ratio(difference, error)
    odd = max(sides, key=lambda axis: (round(abs(apart[axis].value), 9), abs(scales[axis].value - 1)))
    is_odd = abs(apart[odd].value) > max(2 * apart[odd].uncertainty, AXIS_SHORT)
    alike = [axis for axis in sides if not (is_odd and axis == odd)]
    mean = sum(scales[axis].value for axis in alike) / len(alike)
    error = math.hypot(
        math.hypot(*(own[axis] / len(alike) for axis in alike)) / size_mm, common / size_mm, SQUEEZE_FRACTION
    )
    first, second = (means[name] for name in DIAGONALS)
    sine = (first**2 - second**2) / (4 * means["x"] * means["y"])
    sine_u = math.hypot(first * own[DIAGONALS[0]], second * own[DIAGONALS[1]]) / (2 * means["x"] * means["y"])
    skew = Ratio(math.degrees(math.asin(max(-1.0, min(1.0, sine)))), math.degrees(sine_u))
    return CubeJudged(scales, Ratio(1 - mean, error), odd if is_odd else "", apart[odd], skew)
