"""A cube that is printed and measured: scale of each axis, shrinkage and skew apart from one another."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ublet.core.extrude.melting import extruder_of
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.measuring import INSTRUMENTS
from ublet.core.motion.patterns import RIM_MM, Laying, Stroke
from ublet.core.motion.program import Program
from ublet.core.observations import DIAGONALS
from ublet.core.remedy import ChangeParameter
from ublet.core.run import TrialFailed

LAYER_MM, FIRST_MM, WIDTH_MM, MM_S = 0.25, 0.2, 0.45, 50.0
WALLS = 2

SQUEEZE_FRACTION = 0.0003
"""Callipers squeeze a print by no more than this share, standard."""

PRINT_U_MM = 0.02
"""Walls of a good print stand off by so much from one side to the next, standard."""

AXIS_SHORT = 0.003
"""An axis that differs from the others by less than this is left, whatever its uncertainty."""

SIDES = ("x", "y", "z")


def cube_program(machine: MachineFile, size_mm: float) -> Program:
    """A hollow cube in the middle of the bed, walls of two lines, its first layer beside a purge line.

    Raises:
        TrialFailed: it does not fit.
    """
    extruder, bed = extruder_of(machine), machine.bed
    rim = bed.margin_mm + RIM_MM
    room = min(bed.width_mm, bed.depth_mm) - 2 * rim - 10.0
    if size_mm > room or size_mm > machine.axes.z.maximum_mm - 20.0:
        raise TrialFailed(
            f"A cube of {size_mm:g} mm does not fit: {room:.0f} mm at the most on this bed.",
            ChangeParameter("size_mm", f"{room:.0f} mm or less"),
        )
    laying = Laying(extruder, Stroke(WIDTH_MM, FIRST_MM, 25.0))
    laying.purge(bed.width_mm / 2, rim)
    middle_x, middle_y = bed.width_mm / 2, bed.depth_mm / 2
    layers = max(1, round((size_mm - FIRST_MM) / LAYER_MM) + 1)
    for layer in range(layers):
        height = FIRST_MM + layer * LAYER_MM
        laying.at_height(Stroke(WIDTH_MM, LAYER_MM if layer else FIRST_MM, MM_S if layer else 25.0), height)
        for wall in range(WALLS):
            half = size_mm / 2 - WIDTH_MM * (wall + 0.5)
            corners = [(-half, -half), (half, -half), (half, half), (-half, half)]
            place = f"layer {layer + 1} of {layers}" if not wall else ""
            laying.go(middle_x - half, middle_y - half, place)
            for x, y in (*corners[1:], corners[0]):
                laying.lay(middle_x + x, middle_y + y, 2 * half)
    return Program("cube", laying.end(), f"{size_mm:g} mm cube, {layers} layers, {WALLS} walls")


@dataclass(frozen=True)
class Ratio:
    """A measured over a commanded length, with its standard uncertainty."""

    value: float
    uncertainty: float


@dataclass(frozen=True)
class CubeJudged:
    """What the measured lengths show. scales: of each axis; shrinks: share that all are short by alike; odd: the axis
    that differs from the other two (empty: none), by which share; skew_deg: by which the corner is no right angle.
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
    """Tell apart what a cube's lengths show.

    Skew: ``sin(skew) = (d1² - d2²) / (4 x y)`` for the sides x, y and both diagonals of a face. Shrinkage is what all
    three axes have in common; an axis is odd that differs from the mean of the other two by more than two standard
    uncertainties and by more than ``AXIS_SHORT``.

    Args:
        readings: every reading of ``x``, ``y``, ``z`` and both diagonals, mm.
    """
    errors = INSTRUMENTS["callipers"]
    placing, common = errors.placing_mm / math.sqrt(3), errors.common_mm / math.sqrt(3)
    means = {name: sum(values) / len(values) for name, values in readings.items()}
    own = {name: math.hypot(placing / math.sqrt(len(values)), PRINT_U_MM) for name, values in readings.items()}
    scales = {axis: Ratio(means[axis] / size_mm, math.hypot(own[axis], common) / size_mm) for axis in SIDES}
    apart: dict[str, Ratio] = {}
    for axis in SIDES:
        others = [other for other in SIDES if other != axis]
        difference = scales[axis].value - sum(scales[other].value for other in others) / 2
        error = math.hypot(own[axis], math.hypot(*(own[other] / 2 for other in others))) / size_mm
        apart[axis] = Ratio(difference, error)
    odd = max(SIDES, key=lambda axis: abs(apart[axis].value))
    is_odd = abs(apart[odd].value) > max(2 * apart[odd].uncertainty, AXIS_SHORT)
    alike = [axis for axis in SIDES if not (is_odd and axis == odd)]
    mean = sum(scales[axis].value for axis in alike) / len(alike)
    error = math.hypot(
        math.hypot(*(own[axis] / len(alike) for axis in alike)) / size_mm, common / size_mm, SQUEEZE_FRACTION
    )
    first, second = (means[name] for name in DIAGONALS)
    sine = (first**2 - second**2) / (4 * means["x"] * means["y"])
    sine_u = math.hypot(first * own[DIAGONALS[0]], second * own[DIAGONALS[1]]) / (2 * means["x"] * means["y"])
    skew = Ratio(math.degrees(math.asin(max(-1.0, min(1.0, sine)))), math.degrees(sine_u))
    return CubeJudged(scales, Ratio(1 - mean, error), odd if is_odd else "", apart[odd], skew)
