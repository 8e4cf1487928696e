"""The spread of an end from repeated homings: against its definition, and with a coverage that is honest."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.motion.homing_trials import spread_of


def test_shifts_are_summed_to_ends() -> None:
    spread = spread_of([0.01, -0.01, 0.02, -0.02])  # ends at 0, 0.01, 0, 0.02, 0
    assert spread.count == 5 and spread.range_mm == pytest.approx(0.02)
    assert spread.deviation_mm == pytest.approx(float(np.std([0, 0.01, 0, 0.02, 0], ddof=1)))
    with pytest.raises(ValueError, match="two"):
        spread_of([0.01])


@pytest.mark.parametrize("count", [4, 7, 12, 40])
def test_the_uncertainty_of_a_spread_covers_the_truth_as_often_as_it_says(count: int) -> None:
    random, truth, covered = np.random.default_rng(3), 0.02, 0
    for _ in range(2000):
        ends = random.normal(0.0, truth, count)
        spread = spread_of(np.diff(ends).tolist())
        covered += abs(spread.deviation_mm - truth) <= 2 * spread.uncertainty_mm
    assert 0.92 <= covered / 2000 <= 0.99
