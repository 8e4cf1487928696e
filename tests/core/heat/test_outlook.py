"""What a heater will do next: times by the model's closed form, against the model run forward."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from ublet.core.heat.model import HeaterModel, respond
from ublet.core.heat.prediction import far_from, slowest_rise, time_to, time_to_cool

MODEL = HeaterModel(540, 205, 1.6, 23, 2.0)


def test_the_time_to_a_target_is_the_models_own_climb() -> None:
    time_s = np.arange(4000) * 0.1
    heat_up = respond(MODEL, time_s, np.ones_like(time_s), 23.0)
    for target in (100.0, 215.0, 400.0):
        reached = float(time_s[int(np.argmax(heat_up >= target))])
        predicted = time_to(MODEL, 23.0, target, 1.0)
        assert predicted == pytest.approx(reached, abs=0.3)
    assert time_to(MODEL, 220, 215, 1.0) == 0 and time_to(MODEL, 23, 215, 0.3) is None


def test_cooling_is_exponential_and_never_below_the_room() -> None:
    left = time_to_cool(MODEL, 215, 40)
    assert left == pytest.approx(205 * np.log(192 / 17))
    assert time_to_cool(MODEL, 39, 40) == 0 and time_to_cool(MODEL, 215, 20) is None


def test_gains_are_far_from_home_at_another_materials_temperature() -> None:
    assert not far_from(230, 215, 23) and far_from(255, 215, 23) and far_from(180, 215, 23)


def test_the_least_rise_of_a_climb_is_that_at_its_end() -> None:
    time_s = np.arange(4000) * 0.1
    heat_up = respond(replace(MODEL, dead_time_s=0.0, second_lag_s=0.0), time_s, np.ones_like(time_s), 23.0)
    at = int(np.argmax(heat_up >= 215 - 15))
    seen = heat_up[at + 1] - heat_up[at]
    assert slowest_rise(MODEL, 215, 15, 0.1, 1.0) == pytest.approx(seen, rel=0.01)
    assert slowest_rise(MODEL, 700, 15, 10, 1.0) == 0.0
