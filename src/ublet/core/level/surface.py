"""Surfaces through measured heights: a line, a plane or a twisted plane, with what it does not explain."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ublet.core.arrays import Floats, Point

Shape = Literal["line", "plane", "twisted"]


@dataclass(frozen=True)
class FittedSurface:
    """A fitted surface. terms: height at the middle, mm; slopes along X and Y, mm/mm; twist, mm/mm².

    covariance: of the terms for heights of standard uncertainty 1 mm (k x k). left: heights less the surface, mm (n).
    """

    middle: Point
    terms: tuple[float, ...]
    covariance: Floats
    left: Floats

    def at(self, place: Point) -> float:
        """Height there, mm."""
        return float(np.dot(self._row(place), self.terms))

    def uncertainty_at(self, place: Point, height_u_mm: float) -> float:
        """Standard uncertainty of the height there, mm, when each measured height has one of ``height_u_mm``."""
        row = self._row(place)
        return height_u_mm * math.sqrt(max(0.0, float(row @ self.covariance @ row)))

    @property
    def slope(self) -> Point:
        """Rise along X and along Y at the middle, mm a mm."""
        return float(self.terms[1]), float(self.terms[2])

    def slope_u(self, height_u_mm: float) -> Point:
        """Standard uncertainties of both slopes, mm a mm, when each measured height has one of ``height_u_mm``."""
        along_x, along_y = (math.sqrt(max(0.0, float(self.covariance[n, n]))) * height_u_mm for n in (1, 2))
        return along_x, along_y

    @property
    def left_range_mm(self) -> float:
        """Range of what it leaves: the warp."""
        return float(np.ptp(self.left))

    @property
    def left_rms_mm(self) -> float:
        """Root mean square of what it leaves."""
        return float(np.sqrt(np.mean(self.left**2)))

    def _row(self, place: Point) -> Floats:
        return np.asarray(_design(np.array([place]), self.middle, len(self.terms))[0])


def fit_surface(places: Sequence[Point], heights_mm: Sequence[float], shape: Shape = "plane") -> FittedSurface:
    """Least squares of ``h = a + b x + c y (+ d x y)`` about the middle of the places (n places, n heights, mm).

    A line, and places that do not show all terms (two lifts, points in a row), get the solution of least norm: no
    slope across what was measured (Moore-Penrose inverse).

    Raises:
        ValueError: fewer than two places.
    """
    if len(places) < 2:
        raise ValueError("a surface needs two places")
    at, heights = np.array(places, dtype=np.float64), np.asarray(heights_mm, dtype=np.float64)
    middle = (float(at[:, 0].mean()), float(at[:, 1].mean()))
    design = _design(at, middle, 4 if shape == "twisted" else 3)
    scale = np.abs(design).max(axis=0)
    scale[1:3] = scale[
        1:3
    ].max()  # alike, so that the solution of least norm has no slope across a line, however it lies
    scale[scale == 0] = 1.0
    inverse = np.linalg.pinv(design / scale, rcond=1e-9) / scale[:, None]
    terms = inverse @ heights
    return FittedSurface(middle, tuple(terms.tolist()), inverse @ inverse.T, heights - design @ terms)


def _design(places: Floats, middle: Point, terms: int) -> Floats:
    x, y = places[:, 0] - middle[0], places[:, 1] - middle[1]
    return np.column_stack([np.ones(len(places)), x, y, x * y][:terms])
