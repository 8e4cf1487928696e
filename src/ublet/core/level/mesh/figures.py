"""Range, warp and RMS of a bed from a mesh whose heights are uncertain: of the bed, not of the bed and the noise.

The range of n noisy heights is too large (of a flat bed by some 4.5 standard deviations for 49 points). Here the bed
is a plane and a smooth Gaussian process on it (Rasmussen & Williams 2006, sections 2.7 and 5.4.1): its amplitude and
length are weighed by their restricted likelihood, surfaces are drawn that agree with the heights, and what is said of
the bed is the mean and the standard deviation over these.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.level.mesh.mesh import Mesh

LENGTHS = (0.35, 0.6, 1.0)
"""Correlation lengths that are tried, as fractions of half of the longer side."""

AMPLITUDES = 2.0 ** np.arange(-2, 11)
"""Amplitudes that are tried, in units of the standard uncertainty of a height; no shape at all besides."""

DRAWS = 600
MOST_POINTS = 500
"""Of a finer mesh every so many points are taken: it then shows its shape many times over."""

LEAST_U_MM = 0.0005
NEGLIGIBLE = 0.01
LIKE_FLAT = 3.0
"""Up to so many times what noise alone makes of a flat bed, a figure may be nothing at all."""


@dataclass(frozen=True)
class _Model:
    """One amplitude and length: logarithm of its restricted likelihood; vectors that no plane is made of (n x n - 3),
    the heights along them, and the variances that the model expects there.
    """

    likely: float
    length: float
    amplitude_mm: float
    basis: Floats
    seen: Floats
    variance: Floats


@dataclass(frozen=True)
class MeshFigures:
    """Of the bed at a mesh's points, mm, with standard uncertainties. between_mm: standard error of what the mesh says
    between its points.
    """

    range_mm: float
    range_u_mm: float
    warp_mm: float
    warp_u_mm: float
    rms_mm: float
    rms_u_mm: float
    between_mm: float


def mesh_figures(mesh: Mesh, height_u_mm: float, common_u_mm: float = 0.0) -> MeshFigures:
    """Figures of the bed below a mesh without holes.

    Args:
        mesh: heights (rows x columns), mm.
        height_u_mm: standard uncertainty of each height, new at each point.
        common_u_mm: of a height, alike at neighbouring points, so that it looks like the bed's own shape.
    """
    step = max(1, math.ceil(math.sqrt(mesh.heights.size / MOST_POINTS)))
    x, y, heights = mesh.x[::step], mesh.y[::step], mesh.heights[::step, ::step]
    noise = max(height_u_mm, LEAST_U_MM)
    scale = max(float(np.ptp(x)), float(np.ptp(y)), 1e-9) / 2
    at = np.array([((a - x.mean()) / scale, (b - y.mean()) / scale) for b in y for a in x])
    known = heights.ravel()
    plane = np.column_stack([np.ones(len(at)), at])
    whole, _ = np.linalg.qr(plane, mode="complete")
    apart = whole[:, 3:]  # what no plane is made of (n x n - 3)
    squared = ((at[:, None, :] - at[None, :, :]) ** 2).sum(axis=2)
    models = []
    for length in LENGTHS:
        values, vectors = np.linalg.eigh(apart.T @ np.exp(-0.5 * squared / length**2) @ apart)
        basis = apart @ vectors
        seen = basis.T @ known
        for amplitude in (0.0, *AMPLITUDES):
            variance = (amplitude * noise) ** 2 * np.maximum(values, 0.0) + noise**2
            likely = -0.5 * float(np.sum(np.log(variance) + seen**2 / variance))
            models.append(_Model(likely, length, amplitude * noise, basis, seen, variance))
    best = max(model.likely for model in models)
    weights = np.array([math.exp(model.likely - best) for model in models])
    weights /= weights.sum()
    counts = np.floor(weights * DRAWS + 0.5).astype(int)
    random = np.random.default_rng(len(known))
    drawn = [
        _surfaces(known, noise, model, count, random)
        for count, model in zip(counts.tolist(), models, strict=True)
        if count
    ]
    surfaces = np.concatenate(drawn)
    free = noise * random.standard_normal((DRAWS // 4, len(known)))
    flat = free - free @ apart @ apart.T  # planes that noise alone may make
    pair = math.sqrt(2) * common_u_mm
    measures: tuple[Callable[[Floats], Floats], ...] = (_range, lambda draw: _range(draw @ apart @ apart.T), _rms)
    figures: list[tuple[float, float]] = []
    for measure, common in zip(measures, (pair, pair, pair / 2), strict=True):
        measured_values = measure(surfaces)
        value, u = float(measured_values.mean()), math.hypot(float(measured_values.std()), common)
        if value < LIKE_FLAT * float(measure(flat).mean()):
            u = max(u, value / 2)  # a bed without any would have given as much
        figures.append((value, u))
    middle = _middles(x, y, scale)
    weighed = [(float(w), model) for w, model in zip(weights, models, strict=True) if w > NEGLIGIBLE]
    between = math.sqrt(sum(w * _between_mm2(model, at, squared, noise, middle) for w, model in weighed))
    (bed, bed_u), (warp, warp_u), (rms, rms_u) = figures
    return MeshFigures(bed, bed_u, warp, warp_u, rms, rms_u, between)


def _range(surfaces: Floats) -> Floats:
    """From lowest to highest of each surface (k x n), mm (k)."""
    return np.asarray(np.ptp(surfaces, axis=1))


def _rms(surfaces: Floats) -> Floats:
    """Root mean square of each surface about its mean, mm (k)."""
    return np.asarray(surfaces.std(axis=1))


def _surfaces(known: Floats, noise: float, model: _Model, count: int, random: np.random.Generator) -> Floats:
    """Surfaces (count x n) drawn from what one model says of the bed, given the heights."""
    basis, variance = model.basis, model.variance
    mean = known - noise**2 * (basis @ (model.seen / variance))
    free = noise * random.standard_normal((count, len(known)))
    within = free @ basis
    shaped = np.sqrt(np.maximum(0.0, 1 - noise**2 / variance)) * within
    return np.asarray(mean + free - within @ basis.T + shaped @ basis.T)


def _middles(x: Floats, y: Floats, scale: float) -> Floats:
    """Places (k x 2) in the middle between four points, where a mesh knows least: in its middle and in a corner."""
    middles = []
    for column, row in ((len(x) // 2, len(y) // 2), (1, 1)):
        middles.append(((x[column] + x[column - 1]) / 2 - x.mean(), (y[row] + y[row - 1]) / 2 - y.mean()))
    return np.array(middles) / scale


def _between_mm2(model: _Model, at: Floats, squared: Floats, noise: float, middle: Floats) -> float:
    """Variance of the bed's height at these places, given the heights at the points, mm² (simple kriging)."""
    if not model.amplitude_mm:
        return 0.0
    shape = model.amplitude_mm**2 * np.exp(-0.5 * squared / model.length**2)
    apart = ((middle[:, None, :] - at[None, :, :]) ** 2).sum(axis=2)
    towards = model.amplitude_mm**2 * np.exp(-0.5 * apart / model.length**2)
    known = np.linalg.solve(shape + noise**2 * np.eye(len(at)), towards.T)
    return float(np.mean(model.amplitude_mm**2 - np.sum(towards.T * known, axis=0)))
