"""A printed box as callipers and eyes see it: outer lengths on the true frame, and the looks of its walls."""

from __future__ import annotations

import cmath
import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ublet.core.observations import PieceLooks
from ublet.world.frame import OVER_THE_BED, Frame
from ublet.world.laid import Laid, LaidColumns, WallCorner, closes_at

Impulses = Sequence[tuple[float, float]]
"""What the steps of an axis are spread over: times, s, and amplitudes."""

WALL_MM = 0.45
"""A wall stands out by half of this beyond the middle of its line, mm."""

FLAT_MM = 0.06
"""What lies no higher than this above the first layer is the first layer, mm."""

CORNER_MM, EDGE_MM = 1.5, 3.0
"""Distance from a corner within which a wall belongs to it, and beyond which it belongs to a side, mm."""


class Box(NamedTuple):
    """Outer lengths of a box: width, depth, height, and both diagonals, the first from its left front corner, mm."""

    x: float
    y: float
    z: float
    rising: float
    falling: float


class PrintedBox:
    """What was laid last around a place as a box of about a size.

    Raises:
        LookupError: nothing was.
    """

    def __init__(self, laid: Laid, size_mm: float) -> None:
        pieces, self._top_mm = laid.columns, laid.top_mm
        if not len(pieces.x):
            raise LookupError("nothing is printed")
        near = np.maximum(np.abs(pieces.x - pieces.x[-1]), np.abs(pieces.y - pieces.y[-1])) <= 1.3 * size_mm
        self._upper = upper = pieces.only(near & (pieces.z > FLAT_MM))
        if not len(upper.x):
            raise LookupError("nothing stands there")
        below = pieces.z <= FLAT_MM
        for at, of in ((pieces.x, upper.x), (pieces.y, upper.y)):
            below &= (at >= of.min() - 1) & (at <= of.max() + 1)
        self._first = pieces.only(below)

    def lengths(self, lean: float) -> Box:
        """Its outer lengths on a frame whose X goes on by ``lean`` for each mm of Y."""
        front_left, front_right, back_right, back_left = _corners(self._upper, lean)
        wide = float((front_right - front_left)[0] + (back_right - back_left)[0]) / 2 + WALL_MM
        deep = float((back_left - front_left)[1] + (back_right - front_right)[1]) / 2 + WALL_MM
        up, down = back_right - front_left, back_left - front_right
        rising = math.hypot(up[0] + WALL_MM, up[1] + WALL_MM)
        falling = math.hypot(down[0] - WALL_MM, down[1] + WALL_MM)
        return Box(wide, deep, self._top_mm, rising, falling)

    def looks(self, ghost_mm: float, width_mm: float, layer_mm: float) -> PieceLooks:
        """What its walls of lines of a width look like, in layers so high. ghost_mm: how far its edges ring on."""
        first, upper, layers = self._first, self._upper, self._layers()
        if len(layers) < 3 or not len(first.x):
            return PieceLooks(ghost_mm, 0.0, 0.0, 0.0, 0.0)
        outlines = np.array([np.concatenate(_corners(layer, 0.0)) for layer in layers])
        jumps = np.abs(np.diff(outlines, axis=0)).max(axis=0)  # of every corner: all of them, or it is no shift
        shift = float(max(jumps[0::2].min(), jumps[1::2].min()))
        nominal = (width_mm - layer_mm) * layer_mm + math.pi * layer_mm**2 / 4
        lacks = 1 - _mean(upper.section_mm2, upper) / nominal
        first_mm = _mean(first.gap_mm, first) - closes_at(_mean(first.section_mm2, first), width_mm)
        return PieceLooks(ghost_mm, _bulge(upper), shift, lacks, first_mm)

    def _layers(self) -> list[LaidColumns]:
        """What was laid at one height above the first layer, from the lowest."""
        upper = self._upper
        last, number = -math.inf, -1
        heights, which = np.unique(upper.z, return_inverse=True)
        of_height = []
        for height in heights:
            if height > last + 0.05:
                last, number = height, number + 1
            of_height.append(number)
        layers = np.array(of_height)[which]
        return [upper.only(layers == layer) for layer in range(number + 1)]


def _bulge(upper: LaidColumns) -> float:
    """How much wider walls are at three corners than between them, mm; at the fourth layers begin and end."""
    aways = [np.maximum(np.abs(upper.x - x), np.abs(upper.y - y)) for x, y in _corners(upper, 0.0)]
    sides = np.min(aways, axis=0) > EDGE_MM
    bulges = []
    for away in aways[1:]:
        near = away <= CORNER_MM
        if near.any() and sides.any():
            bulges.append(_mean(upper.width_mm[near], upper.only(near)))
    return float(np.mean(bulges)) - _mean(upper.width_mm[sides], upper.only(sides)) if bulges else 0.0


def _corners(pieces: LaidColumns, lean: float) -> list[NDArray[np.float64]]:
    """The outermost places towards left front, right front, right back and left back, mm."""
    places = np.column_stack([pieces.x + lean * pieces.y, pieces.y])
    towards = ((-1, -1), (1, -1), (1, 1), (-1, 1))
    return [places[int(np.argmax(places @ np.array(to)))] for to in towards]


def _mean(values: NDArray[np.float64], pieces: LaidColumns) -> float:
    """Mean over the length of what was laid."""
    return float(np.average(values, weights=pieces.length_mm))


def ghost_mm(
    frame: Frame,
    where: Mapping[str, float],
    corners: Mapping[str, WallCorner],
    impulses: Mapping[str, Impulses],
) -> float:
    """How far the nozzle rings on against the bed beside an edge, at its worst axis, mm.

    An axis that brakes evenly from ``v`` to ``c`` at ``a`` and jumps to rest leaves in each mode
    ``p / w |sum A_i e^(s t_i) (a (e^(sT) - 1) / s + c e^(sT))| e^(-z w t_end)``, where ``s = z w + j w_d`` and
    ``T = (v - c) / a``.
    """
    largest = 0.0
    for axis, corner in corners.items():
        times, amplitudes = (np.array(column) for column in zip(*impulses[axis], strict=True))
        brakes_s = (corner.mm_s - corner.left_mm_s) / corner.mm_s2 if corner.mm_s2 else 0.0
        total = 0.0
        for ring in frame.rings({axis: 1.0}, {axis: 1.0}, OVER_THE_BED, where):
            w, z = 2 * math.pi * ring.frequency_hz, ring.damping_ratio
            s = complex(z * w, w * math.sqrt(max(0.0, 1 - z * z)))
            gone = cmath.exp(s * brakes_s)
            one = corner.mm_s2 * (gone - 1) / s + corner.left_mm_s * gone
            summed = complex(np.sum(amplitudes * np.exp(s * times))) * one
            ends_s = brakes_s + float(times[-1])
            total += abs(ring.modal_share) / w * abs(summed) * math.exp(-z * w * ends_s)
        largest = max(largest, total)
    return largest
