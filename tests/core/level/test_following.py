"""What following a mesh costs, against a ramp whose layers are worked out by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from tests.conftest import tern
from ublet.core.level.mesh.following import following_costs
from ublet.core.level.mesh.mesh import Mesh

X, Y = np.linspace(30.0, 250.0, 3), np.linspace(20.0, 220.0, 3)


def ramp(mm: float) -> Mesh:
    return Mesh(X, Y, np.tile(np.linspace(-mm, mm, 3), (3, 1)))


def test_layers_differ_by_the_height_over_the_fade() -> None:
    costs = following_costs(tern(), ramp(0.2), 10.0)
    assert costs.uneven == pytest.approx(0.02) and costs.better_mm is None
    assert costs.margins_mm == pytest.approx((30.0, 30.0, 20.0, tern().bed.depth_mm - 220.0))
    # a nozzle that rises by h less while z goes from 0 to f: layers of h_l become h_l (1 - h / f)
    z = np.arange(0, 10.0, 0.2)
    over_low_end = z + -0.2 * (1 - z / 10.0)
    assert np.diff(over_low_end).mean() / 0.2 - 1 == pytest.approx(costs.uneven)


def test_a_fade_that_is_too_short_is_made_longer_and_never_beyond_what_a_board_takes() -> None:
    assert following_costs(tern(), ramp(0.9), 10.0).better_mm == 40.0
    assert following_costs(tern(), ramp(0.9), 40.0).better_mm is None
    assert following_costs(tern(), ramp(9.0), 100.0).better_mm is None, "there is no longer one"


def test_a_bed_that_differs_by_little_more_than_a_step_says_so() -> None:
    coarse = replace(following_costs(tern(), ramp(0.02), 10.0), full_step_mm=0.04)
    assert "One full step of Z is 0.040 mm" in coarse.words
    assert "full step" not in following_costs(tern(), ramp(0.4), 10.0).words
