"""Creeps and steps against planted ones, and against noise alone."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.trend import trend

SERIES = 200


def series(seed: int, count: int = 10) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal(count)


@pytest.mark.parametrize("count", [6, 10, 20])
def test_noise_alone_is_called_a_trend_in_one_of_twenty_at_most(count: int) -> None:
    called = sum(trend(series(seed, count).tolist()).kind != "scatters" for seed in range(SERIES))  # type: ignore[union-attr]
    assert called <= SERIES * 0.075, "5 %, and what 200 series scatter by"


def test_a_creep_is_named_with_its_slope() -> None:
    """Three spreads of single touches, each run the mean of five of them."""
    named = covered = 0
    for seed in range(SERIES):
        truth = 3.0 / 9
        values = truth * np.arange(10) + series(seed) / np.sqrt(5)
        found = trend(values.tolist())
        assert found is not None
        named += found.kind != "scatters"
        covered += found.kind != "creeps" or abs(found.slope - truth) <= 2 * found.slope_u
    assert named >= 0.95 * SERIES and covered >= 0.88 * SERIES


def test_a_step_is_told_from_a_creep_and_placed() -> None:
    right = 0
    for seed in range(SERIES):
        values = np.where(np.arange(12) >= 7, 5.0, 0.0) + series(seed, 12)
        found = trend(values.tolist())
        assert found is not None
        right += found.kind == "stepped" and abs(found.at - 7) <= 1 and abs(found.step - 5.0) < 4 * found.step_u
    assert right >= 0.9 * SERIES


def test_few_values_say_nothing_and_equal_ones_are_no_trend() -> None:
    assert trend([1.0, 2.0, 3.0, 4.0]) is None
    constant = trend([0.25] * 12)
    assert constant is not None and constant.kind == "scatters"
