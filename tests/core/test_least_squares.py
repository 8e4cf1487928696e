"""Our least squares against scipy's and against exact answers."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import least_squares

from ublet.core.least_squares import minimise

X = np.linspace(0, 4, 60)


def residual(p: np.ndarray) -> np.ndarray:
    return np.asarray(p[0] * np.exp(-p[1] * X) + p[2] - SEEN)


SEEN = 3 * np.exp(-0.7 * X) + 1 + 0.05 * np.sin(17 * X)
LOW, HIGH = np.array([0.0, 0.0, -5.0]), np.array([10.0, 5.0, 5.0])


def test_the_same_minimum_as_scipy() -> None:
    ours = minimise(residual, np.array([1.0, 1.0, 0.0]), LOW, HIGH)
    theirs = least_squares(residual, [1.0, 1.0, 0.0], bounds=(LOW, HIGH))
    assert ours.x == pytest.approx(theirs.x, rel=1e-4)


def test_a_linear_problem_is_exact() -> None:
    found = minimise(lambda p: np.asarray(2 * p - np.array([4.0, 6.0])), np.zeros(2), np.full(2, -9.0), np.full(2, 9.0))
    assert found.x == pytest.approx([2.0, 3.0], abs=1e-6)


def test_bounds_hold() -> None:
    found = minimise(residual, np.array([1.0, 1.0, 0.0]), LOW, np.array([2.0, 5.0, 5.0]))
    assert found.x[0] <= 2.0
