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
from ublet.world.laid import Laid, LaidPiece, WallCorner, closes_at

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
        if not laid.pieces:
            raise LookupError("nothing is printed")
        last, self._laid = laid.pieces[-1], laid
        upper = [p for p in laid.pieces if p.z > FLAT_MM and max(abs(p.x - last.x), abs(p.y - last.y)) <= 1.3 * size_mm]
        if not upper:
            raise LookupError("nothing stands there")
        low, high = ([side([p[axis] for p in upper]) for axis in (0, 1)] for side in (min, max))
        first = [
            p
            for p in laid.pieces
            if p.z <= FLAT_MM and all(low[axis] - 1 <= p[axis] <= high[axis] + 1 for axis in (0, 1))
        ]
        self._first, self._upper = first, upper

    def lengths(self, lean: float) -> Box:
        """Its outer lengths on a frame whose X goes on by ``lean`` for each mm of Y."""
        front_left, front_right, back_right, back_left = self._corners(self._upper, lean)
        wide = float((front_right - front_left)[0] + (back_right - back_left)[0]) / 2 + WALL_MM
        deep = float((back_left - front_left)[1] + (back_right - front_right)[1]) / 2 + WALL_MM
        up, down = back_right - front_left, back_left - front_right
        rising = math.hypot(up[0] + WALL_MM, up[1] + WALL_MM)
        falling = math.hypot(down[0] - WALL_MM, down[1] + WALL_MM)
        return Box(wide, deep, self._laid.top_mm, rising, falling)

    def looks(self, ghost_mm: float, width_mm: float, layer_mm: float) -> PieceLooks:
        """What its walls of lines of a width look like, in layers so high. ghost_mm: how far its edges ring on."""
        first, upper, layers = self._first, self._upper, self._layers()
        if len(layers) < 3 or not first:
            return PieceLooks(ghost_mm, 0.0, 0.0, 0.0, 0.0)
        outlines = np.array([np.concatenate(self._corners(layer, 0.0)) for layer in layers])
        jumps = np.abs(np.diff(outlines, axis=0)).max(axis=0)  # of every corner: all of them, or it is no shift
        shift = float(max(jumps[0::2].min(), jumps[1::2].min()))
        nominal = (width_mm - layer_mm) * layer_mm + math.pi * layer_mm**2 / 4
        lacks = 1 - _mean([p.section_mm2 for p in upper], upper) / nominal
        gap, section = (_mean(of, first) for of in ([p.gap_mm for p in first], [p.section_mm2 for p in first]))
        first_mm = gap - closes_at(section, width_mm)
        return PieceLooks(ghost_mm, self._bulge(upper), shift, lacks, first_mm)

    def _bulge(self, upper: Sequence[LaidPiece]) -> float:
        """How much wider walls are at three corners than between them, mm; at the fourth layers begin and end."""
        corners = self._corners(upper, 0.0)
        places = np.array([(p.x, p.y) for p in upper])
        widths, lengths = (np.array(of) for of in ([p.width_mm for p in upper], [p.length_mm for p in upper]))
        far = np.full(len(upper), np.inf)
        for corner in corners:
            far = np.minimum(far, np.abs(places - corner).max(axis=1))
        sides = far > EDGE_MM
        bulges = []
        for corner in corners[1:]:
            near = np.abs(places - corner).max(axis=1) <= CORNER_MM
            if near.any() and sides.any():
                bulges.append(np.average(widths[near], weights=lengths[near]))
        return float(np.mean(bulges) - np.average(widths[sides], weights=lengths[sides])) if bulges else 0.0

    def _layers(self) -> list[list[LaidPiece]]:
        """What was laid at one height above the first layer, from the lowest."""
        layers: dict[float, list[LaidPiece]] = {}
        last = -math.inf
        for piece in sorted(self._upper, key=lambda p: p.z):
            if piece.z > last + 0.05:
                last = piece.z
                layers[last] = []
            layers[last].append(piece)
        return [layer for _, layer in sorted(layers.items())]

    def _corners(self, pieces: Sequence[LaidPiece], lean: float) -> list[NDArray[np.float64]]:
        """The outermost places towards left front, right front, right back and left back, mm."""
        places = np.array([(p.x + lean * p.y, p.y) for p in pieces])
        towards = ((-1, -1), (1, -1), (1, 1), (-1, 1))
        return [places[int(np.argmax(places @ np.array(to)))] for to in towards]


def _mean(values: Sequence[float], pieces: Sequence[LaidPiece]) -> float:
    """Mean over the length of what was laid."""
    return sum(of * p.length_mm for of, p in zip(values, pieces, strict=True)) / sum(p.length_mm for p in pieces)


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
