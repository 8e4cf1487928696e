"""A warm start: what falls and what only reads wrong, and how long until it is near the room."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.bench import HeatSample
from ublet.core.heat.start import falls, time_to_room


def test_noise_does_not_fall_and_a_slow_bed_does() -> None:
    time_s = np.arange(81) * 0.1
    said = []
    for seed in range(200):
        noise = np.random.default_rng(seed).normal(0, 0.05, 81)
        said.append(falls(time_s.tolist(), (40 + noise).tolist()))
        assert falls(time_s.tolist(), (23 + 60 * np.exp(-time_s / 400) + noise).tolist())
    assert sum(said) <= 3, "three errors: one in seven hundred"


def test_the_time_left_is_that_of_an_exponential_fall() -> None:
    def at(time_s: float) -> HeatSample:
        return HeatSample(time_s, 23 + 100 * math.exp(-time_s / 300), 0.0, 0.0)

    left = time_to_room(at(0), at(8), 23.0, 1.5)
    assert left is not None and at(8 + left).celsius == pytest.approx(24.5)
    assert time_to_room(at(2000), at(2008), 23.0) == 0 and time_to_room(at(8), at(0), 23.0) is None
