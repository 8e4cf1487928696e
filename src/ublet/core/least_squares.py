"""Small nonlinear least squares: Levenberg-Marquardt with a difference Jacobian and box bounds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats


@dataclass(frozen=True)
class Minimum:
    """Parameters (m) and residuals (n) at the minimum."""

    x: Floats
    residual: Floats


def minimise(
    residual: Callable[[Floats], Floats],
    start: Floats,
    low: Floats,
    high: Floats,
    tolerance: float = 1e-8,
    most_rounds: int = 60,
    slopes_at: Callable[[Floats], Floats] | None = None,
) -> Minimum:
    """Minimise the sum of squares of ``residual(x)`` inside a box (Levenberg 1944, Marquardt 1963).

    Meant for a handful of parameters of similar scale (use logarithms for positive ones); steps are
    clipped to the box. Stops when a step lowers the sum by less than ``tolerance`` of it. slopes_at: the Jacobian
    (n x m) where it is known in closed form; else it is taken by differences.
    """
    x = np.clip(np.asarray(start, dtype=np.float64), low, high)
    here = residual(x)
    cost = float(here @ here)
    damping = 1e-3
    slopes = slopes_at(x) if slopes_at is not None else jacobian(residual, x, here, high)
    for _ in range(most_rounds):
        normal = slopes.T @ slopes
        gradient = slopes.T @ here
        scale = np.diag(np.maximum(np.diag(normal), 1e-12))
        gained = 0.0
        while damping < 1e12:
            trial = np.clip(x - np.linalg.solve(normal + damping * scale, gradient), low, high)
            there = residual(trial)
            trial_cost = float(there @ there)
            if trial_cost < cost:
                gained = cost - trial_cost
                x, here, cost = trial, there, trial_cost
                damping = max(damping / 5, 1e-12)
                break
            damping *= 4
        if gained <= tolerance * max(cost, 1e-30):
            break
        slopes = slopes_at(x) if slopes_at is not None else jacobian(residual, x, here, high)
    return Minimum(x, here)


def jacobian(residual: Callable[[Floats], Floats], x: Floats, here: Floats, high: Floats) -> Floats:
    """Differences of n residuals by each of m parameters (n x m); here: the residuals at x."""
    columns = []
    for index in range(len(x)):
        step = 1e-5 * max(1.0, abs(float(x[index])))
        if x[index] + step > high[index]:
            step = -step
        moved = x.copy()
        moved[index] += step
        columns.append((residual(moved) - here) / step)
    return np.stack(columns, axis=1)
