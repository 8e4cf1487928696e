"""Roots against their closed forms: smooth, steep, flat, far to one side, and none."""

from __future__ import annotations

import math
from collections.abc import Callable

import pytest

from ublet.world.roots import rising_root


@pytest.mark.parametrize(
    ("of", "high", "root"),
    [
        (lambda x: math.sqrt(x) - 0.3, 5.0, 0.09),
        (lambda x: math.exp(20 * x) - 5, 3.0, math.log(5) / 20),
        (lambda x: x**3 - 1e-6, 10.0, 0.01),
        (lambda x: math.tanh(1000 * (x - 0.123)), 1.0, 0.123),
        (lambda x: x - 1e-9, 1.0, 1e-9),
    ],
)
def test_a_root_is_found_as_exactly_as_is_asked(of: Callable[[float], float], high: float, root: float) -> None:
    looks: list[float] = []

    def looked(x: float) -> float:
        looks.append(x)
        return of(x)

    assert rising_root(looked, 0.0, high) == pytest.approx(root, abs=1e-12 * high)
    assert len(looks) < 60


def test_where_it_does_not_cross_the_nearer_end_is_told() -> None:
    assert rising_root(lambda x: x + 1, 0.0, 2.0) == 0.0
    assert rising_root(lambda x: x - 3, 0.0, 2.0) == 2.0
