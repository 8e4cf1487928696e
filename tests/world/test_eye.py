"""An eye that looks at widths: what it calls even is centred on the true zero; it tires; all bulging, all thin."""

from __future__ import annotations

import numpy as np

from ublet.world.eye import ALL_BULGE, ALL_THIN, TIRES_LINES, Eye

SEES_MM = 0.03


def eye(seed: int = 1) -> Eye:
    return Eye(SEES_MM, np.random.default_rng(seed))


def test_what_looks_even_is_centred_on_where_nothing_differs() -> None:
    differences = [0.02 * (20.3 - number) for number in range(41)]
    middles = []
    for seed in range(300):
        even = eye(seed).even(differences)
        assert not isinstance(even, str)
        middles.append((even[0] + even[1]) / 2)
    assert abs(np.mean(middles) - 20.3) < 0.2
    assert 0.3 < np.std(middles) < 1.5


def test_where_all_bulge_or_all_are_thin_that_is_seen() -> None:
    assert eye().even([0.3, 0.2, 0.15]) == ALL_BULGE
    assert eye().even([-0.15, -0.2, None]) == ALL_THIN


def test_lines_between_which_they_change_over_are_named_where_none_is_even() -> None:
    assert eye().even([0.4, 0.2, -0.2, -0.4]) == (1, 2)


def test_a_tired_eye_errs_twice_as_much() -> None:
    fresh, tired = [], []
    for seed in range(400):
        one = eye(seed)
        fresh.append(one.seen(0.0))
        for _ in range(2 * TIRES_LINES):
            one.seen(0.0)
        tired.append(one.seen(0.0))
    assert 1.7 < np.std(tired) / np.std(fresh) < 2.3
