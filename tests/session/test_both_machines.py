"""Trials that take a moment end well on both shipped machines, once what they find wrong is put right."""

import pytest

from ublet.benchmark.whole_route import not_proven
from ublet.core.catalogue import TRIALS
from ublet.session import unattended
from ublet.session.library import DEMOS

CHEAP = [
    TRIALS[name] for name in ("inputs-by-hand", "heaters-paired", "fans-one-by-one", "motors-one-by-one", "directions")
]
"""The route up to where machines are measured; `ublet bench` walks all of it."""


@pytest.mark.parametrize("stem", DEMOS.values())
@pytest.mark.parametrize("seed", [1, 2, 3, 4, 5])
def test_every_cheap_trial_ends_proven(stem, seed):
    assert not_proven(stem, seed, CHEAP) == {}


@pytest.mark.parametrize("stem", DEMOS.values())
def test_the_sensor_of_both_is_listened_to_although_its_stream_fills_the_line(stem):
    """A busy line sends samples late; readings that are newer than them are no lie."""
    assert not_proven(stem, 1, [TRIALS["accelerometer-at-rest"]]) == {}


def test_what_does_not_end_well_is_named(monkeypatch):
    monkeypatch.setattr(unattended, "MOST_ROUNDS", 1)  # nothing that was found is put right
    left = not_proven("tern-280", 1, CHEAP)
    assert left.keys() == {"inputs-by-hand", "fans-one-by-one", "motors-one-by-one", "directions"}
    assert "X endstop moved the Y endstop" in left["inputs-by-hand"] and "hotend" in left["fans-one-by-one"]
