"""A correction on a mesh: through its patches exactly, over what was there before."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.level.mesh.live import CORRECTION, corrected, live_correction
from ublet.core.level.mesh.mesh import Mesh

MESH = Mesh(np.linspace(20, 260, 7), np.linspace(20, 240, 7), np.zeros((7, 7)))
PLACES = [(140.0, 130.0), (20.0, 20.0), (260.0, 20.0), (260.0, 240.0), (20.0, 240.0)]
WANTED = [0.01, -0.05, 0.02, 0.08, -0.03]


def test_it_goes_through_what_every_patch_wants_and_adds_to_what_was_there() -> None:
    first = corrected(PLACES, WANTED, MESH, None)
    assert first.shape == (3, 3)
    assert [first[1, 1], first[0, 0], first[0, 2], first[2, 2], first[2, 0]] == pytest.approx(WANTED, abs=1e-4)
    stored = {CORRECTION: tuple(tuple(row) for row in first.tolist())}
    before = live_correction(stored.get, MESH)
    assert before is not None and before.x.tolist() == [20, 140, 260]
    second = corrected(PLACES, [0.1] * 5, MESH, before)
    assert second == pytest.approx(first + 0.1, abs=2e-4)


def test_none_is_none() -> None:
    assert live_correction({CORRECTION: ()}.get, MESH) is None
    assert live_correction({}.get, MESH) is None
