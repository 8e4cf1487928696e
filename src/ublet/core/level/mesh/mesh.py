"""A mesh: the bed's height on a grid, what lies between its points, its tilt and warp, points that look wrong."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ublet.core.arrays import Floats, Point
from ublet.core.level.surface import FittedSurface, fit_surface

Between = Literal["bilinear", "bicubic"]

SAME_MM = 0.5
"""Coordinates that differ by less belong to the same row or column, mm; less on a grid that is finer than that."""

LARGEST = 200
"""A grid of more rows or columns is none that anybody probed."""

WRONG, WRONG_MM, MOST_POINTS = 6.0, 0.015, 1600
"""A point is wrong that is so many robust standard deviations from what the others say of it, and at least so far, mm.
On a finer grid than that nobody looks at single points.
"""

FEWEST = 8
"""Fewer points than this show of none among them that it is wrong."""

LEAST_LEVERAGE = 1e-9

MOST_DEGREE, POINTS_A_TERM = 5, 2.5
"""Of the polynomial that the others are described by: its degree at most, and how many points a term needs."""


@dataclass(frozen=True)
class Mesh:
    """Heights (rows x columns), mm, over columns at x (m) and rows at y (n), mm; a hole is not a number."""

    x: Floats
    y: Floats
    heights: Floats

    @property
    def columns(self) -> int:
        """Points along X."""
        return len(self.x)

    @property
    def rows(self) -> int:
        """Points along Y."""
        return len(self.y)

    @property
    def places(self) -> tuple[Point, ...]:
        """Every place, row by row from the front left."""
        return tuple((float(x), float(y)) for y in self.y for x in self.x)

    @property
    def holes(self) -> tuple[Point, ...]:
        """Places without a height."""
        return tuple((float(self.x[c]), float(self.y[r])) for r, c in np.argwhere(np.isnan(self.heights)).tolist())

    def cell(self, place: Point) -> tuple[int, int]:
        """Row and column of the point that is nearest to a place."""
        return int(np.argmin(np.abs(self.y - place[1]))), int(np.argmin(np.abs(self.x - place[0])))

    def without(self, places: Sequence[Point]) -> Mesh:
        """The same without the heights at some places."""
        heights = self.heights.copy()
        for place in places:
            heights[self.cell(place)] = np.nan
        return Mesh(self.x, self.y, heights)

    def over(self, x: Sequence[float] | Floats, y: Sequence[float] | Floats, between: Between = "bicubic") -> Floats:
        """Heights on another grid (len(y) x len(x)), mm. Outside of its own the edge is held.

        Bicubic: the tensor product of cubic splines (not-a-knot, de Boor 1978) along both axes, so that a value is a
        sum of all heights with weights by column and by row. With fewer than four points along an axis that one is
        straight.

        Raises:
            ValueError: it has holes.
        """
        if np.isnan(self.heights).any():
            raise ValueError("a mesh with holes cannot be interpolated")
        return np.asarray(
            weights(self.y, np.asarray(y, dtype=np.float64), between)
            @ self.heights
            @ weights(self.x, np.asarray(x, dtype=np.float64), between).T
        )


def weights(knots: Floats, at: Floats, between: Between) -> Floats:
    """What each of n heights along a line counts at k places (k x n); beyond the ends the end is held."""
    inside = np.clip(at, knots[0], knots[-1])
    if between == "bicubic" and len(knots) >= 4:
        from scipy.interpolate import CubicSpline

        return np.asarray(CubicSpline(knots, np.eye(len(knots)))(inside), dtype=np.float64)
    cell = np.clip(np.searchsorted(knots, inside, side="right") - 1, 0, len(knots) - 2)
    fraction = (inside - knots[cell]) / (knots[cell + 1] - knots[cell])
    matrix = np.zeros((len(at), len(knots)))
    rows = np.arange(len(at))
    matrix[rows, cell], matrix[rows, cell + 1] = 1 - fraction, fraction
    return matrix


def mesh_of(x_mm: Floats, y_mm: Floats, z_mm: Floats) -> Mesh:
    """The grid that points in any order lie on (n each); what is missing of it are holes, and what was measured more
    than once is averaged.

    Raises:
        ValueError: fewer than two rows or columns, or points that lie on no grid.
    """
    columns, rows = _lines(x_mm), _lines(y_mm)
    if len(columns) < 2 or len(rows) < 2:
        line = "one row" if len(rows) < 2 else "one column"
        raise ValueError(f"the points lie in {line}: a mesh has at least two rows and two columns")
    if max(len(columns), len(rows)) > LARGEST or len(columns) * len(rows) > 4 * len(z_mm):
        raise ValueError(
            f"{len(z_mm)} points make {len(columns)} columns and {len(rows)} rows: they do not lie on a grid"
        )
    heights = np.full((len(rows), len(columns)), np.nan)
    column = np.argmin(np.abs(x_mm[:, None] - columns[None, :]), axis=1)
    row = np.argmin(np.abs(y_mm[:, None] - rows[None, :]), axis=1)
    by_place: dict[tuple[int, int], list[float]] = {}
    for number, (r, c) in enumerate(zip(row.tolist(), column.tolist(), strict=True)):
        by_place.setdefault((r, c), []).append(float(z_mm[number]))
    for (r, c), heights_there in by_place.items():
        heights[r, c] = sum(heights_there) / len(heights_there)
    return Mesh(columns, rows, heights)


def _lines(at: Floats) -> Floats:
    """The rows or columns of a grid: coordinates that differ by next to nothing are one."""
    positions = np.sort(at)
    steps = np.diff(positions)
    real = steps[steps > 1e-6 * max(1.0, float(np.ptp(positions)))]
    same = min(SAME_MM, 0.25 * float(real.max())) if len(real) else SAME_MM
    groups = np.split(positions, np.flatnonzero(steps > same) + 1)
    return np.array([float(group.mean()) for group in groups])


@dataclass(frozen=True)
class Described:
    """A mesh in figures, mm, without its holes and outliers. rms: about the mean. tilt: rise over the grid's width and
    depth. warp: what the plane leaves.
    """

    mesh: Mesh
    plane: FittedSurface
    range_mm: float
    rms_mm: float
    tilt_x_mm: float
    tilt_y_mm: float
    warp_range_mm: float
    warp_rms_mm: float
    outliers: tuple[Point, ...]


def describe(mesh: Mesh) -> Described:
    """Range, tilt and warp of a mesh, by a plane through its good points (least squares).

    Raises:
        ValueError: fewer than three good points.
    """
    wrong = outliers(mesh)
    good = mesh.without(wrong)
    places, heights = _known_points(good)
    if len(places) < 3:
        raise ValueError(f"only {len(places)} good points: a plane needs three")
    plane = fit_surface(places, heights.tolist())
    along_x, along_y = plane.slope
    return Described(
        mesh,
        plane,
        float(np.ptp(heights)),
        float(np.std(heights)),
        along_x * float(np.ptp(mesh.x)),
        along_y * float(np.ptp(mesh.y)),
        plane.left_range_mm,
        plane.left_rms_mm,
        wrong,
    )


def _known_points(mesh: Mesh) -> tuple[list[Point], Floats]:
    """Places that have a height, and these heights."""
    known = ~np.isnan(mesh.heights.ravel())
    places = [place for place, there in zip(mesh.places, known.tolist(), strict=True) if there]
    return places, mesh.heights.ravel()[known]


def outliers(mesh: Mesh) -> tuple[Point, ...]:
    """Points that the others do not explain. The worst one goes first, since it spoils what is said of its
    neighbours.
    """
    places, heights = _known_points(mesh)
    if len(heights) > MOST_POINTS:
        return ()
    if len(heights) < FEWEST:
        return ()
    wrong: list[Point] = []
    spline = spline_inverse(np.array(places))
    while len(heights) >= FEWEST and len(wrong) <= len(heights) // 8:
        off, comparable = deleted_residuals(spline, heights)
        width = 1.4826 * float(np.median(np.abs(comparable)))
        worst = int(np.argmax(np.abs(comparable)))
        if abs(comparable[worst]) <= WRONG * width or abs(off[worst]) <= WRONG_MM:
            break
        wrong.append(places.pop(worst))
        heights = np.delete(heights, worst)
        spline = without_row(spline, worst)
    return tuple(wrong)


def filled(mesh: Mesh) -> Mesh:
    """Holes filled from those around them: by a plane through the four nearest heights."""
    heights = mesh.heights.copy()
    places, known = _known_points(mesh)
    for row, column in np.argwhere(np.isnan(heights)).tolist():
        x, y = float(mesh.x[column]), float(mesh.y[row])
        near = sorted(range(len(places)), key=lambda n: (places[n][0] - x) ** 2 + (places[n][1] - y) ** 2)[:4]
        heights[row, column] = fit_surface([places[n] for n in near], [float(known[n]) for n in near]).at((x, y))
    return Mesh(mesh.x, mesh.y, heights)


def spline_inverse(places: Floats) -> Floats:
    """The matrix G (n x n) that makes coefficients ``c = G z`` of heights z: of the thin plate spline through n places
    (Duchon 1977). Places that lie in a line show no slope across it, and add none.
    """
    scale = float(np.ptp(places, axis=0).max()) or 1.0
    at = (places - places.mean(axis=0)) / scale
    squared = ((at[:, None, :] - at[None, :, :]) ** 2).sum(axis=2)
    kernel = 0.5 * squared * np.log(np.where(squared > 0, squared, 1.0))
    plane = np.column_stack([np.ones(len(at)), at])
    whole = np.zeros((len(at) + 3, len(at) + 3))
    whole[: len(at), : len(at)] = kernel
    whole[: len(at), len(at) :], whole[len(at) :, : len(at)] = plane, plane.T
    try:
        return np.asarray(np.linalg.inv(whole)[: len(at), : len(at)])
    except np.linalg.LinAlgError:
        return np.asarray(np.linalg.pinv(whole)[: len(at), : len(at)])


def without_row(spline: Floats, number: int) -> Floats:
    """The same matrix for all places but one, from the one for all: block elimination (Hager 1989)."""
    own = spline[number, number]
    left = np.delete(np.delete(spline, number, axis=0), number, axis=1)
    column = np.delete(spline[:, number], number)
    return left - np.outer(column, column) / own if abs(own) > LEAST_LEVERAGE else left


def deleted_residuals(spline: Floats, heights: Floats) -> tuple[Floats, Floats]:
    """How far each of n points lies from the thin plate spline through all others, mm; and the same made comparable
    between points in the middle and at the rim.

    In closed form, without leaving one out after the other (Rippa 1999): with ``c = G z`` the spline's coefficients,
    the first is ``c_i / G_ii`` and the second ``c_i / sqrt(G_ii)``. A point without which the others show no slope
    (one off a row) cannot be held against them: its residual is 0.
    """
    own = np.abs(np.diag(spline))
    usual = float(np.median(own)) or 1.0
    determined = own > LEAST_LEVERAGE * usual
    residuals = np.where(determined, spline @ heights, 0.0)
    own = np.where(determined, own, usual)
    return np.asarray(residuals / own), np.asarray(residuals / np.sqrt(own) / math.sqrt(usual))


def polynomial(places: Floats, points: int) -> Floats:
    """Terms of a polynomial in x and y at n places (n x k), of the highest degree for which there are points enough and
    rows and columns enough.
    """
    low, high = places.min(axis=0), places.max(axis=0)
    u, v = (2 * (places - low) / np.where(high > low, high - low, 1.0) - 1).T
    lines = [len(np.unique(np.round(coordinate, 6))) for coordinate in (u, v)]
    degree = 1
    while degree < MOST_DEGREE and (degree + 2) * (degree + 3) / 2 * POINTS_A_TERM <= points:
        degree += 1
    terms = [
        np.polynomial.legendre.legval(u, np.eye(a + 1)[a]) * np.polynomial.legendre.legval(v, np.eye(b + 1)[b])
        for a in range(degree + 1)
        for b in range(degree + 1 - a)
        if a < lines[0] and b < lines[1]
    ]
    return np.column_stack(terms)
