"""The plane through a gauge's differences: known tilts and shifts come back, and noise is neither."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.level.mesh.gauge_check_trials import standing
from ublet.core.level.probe.offset_trials import FEEL_MM

PLACES = np.array([(20.0, 20.0), (180.0, 20.0), (100.0, 180.0)])
SIZE = (200.0, 200.0)


def test_a_tilt_and_a_shift_come_back() -> None:
    off = 0.1 + 0.001 * (PLACES[:, 0] - 100) - 0.0005 * (PLACES[:, 1] - PLACES[:, 1].mean())
    stands = standing(PLACES, off, 0.007, 0.0035, SIZE)
    assert stands.shift[0] == pytest.approx(0.1) and stands.rise_x[0] == pytest.approx(0.2)
    assert stands.rise_y[0] == pytest.approx(-0.1) and stands.tilted and stands.shifted


def test_its_uncertainty_is_that_of_many_gauges() -> None:
    random = np.random.default_rng(3)
    felt = FEEL_MM / np.sqrt(3)
    many = [standing(PLACES, random.uniform(-FEEL_MM, FEEL_MM, 3), felt, 0.0, SIZE) for _ in range(2000)]
    for name in ("shift", "rise_x", "rise_y"):
        values = np.array([getattr(one, name)[0] for one in many])
        assert np.std(values) == pytest.approx(getattr(many[0], name)[1], rel=0.06), name
    assert np.mean([one.tilted or one.shifted for one in many]) < 0.03
