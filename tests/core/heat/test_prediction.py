"""Predicted steps and the reading of steps."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.heat.candidates import AS_FOUND, candidates, recommend
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import PidGains
from ublet.core.heat.prediction import Situation, predict_step
from ublet.core.heat.relay import Ultimate
from ublet.core.heat.step import measure_step

MODEL = HeaterModel(540.0, 205.0, 1.6, 23.0, 2.0)
SITUATION = Situation(215.0, 23.0, 0.0, 1.28, 210.0, 270.0)


def test_overshoot_settling_ripple_and_dip_are_read_from_a_made_step() -> None:
    time = np.arange(0, 200, 0.1)
    celsius = np.where(time < 80, 23 + 2.4 * time, 215.0)
    celsius = np.where((time >= 80) & (time < 100), 218.0, celsius)
    celsius = celsius + np.where((time > 110) & (time < 150), 0.2 * np.sign(np.sin(time * 3)), 0)
    celsius = np.where((time >= 152) & (time < 170), 212.5, celsius)
    seen = measure_step(time, celsius, 215.0, 150.0)
    assert seen.overshoot_c == pytest.approx(3.0)
    assert seen.settle_s == pytest.approx(100.2, abs=0.3)
    assert seen.ripple_c == pytest.approx(0.2)
    assert seen.dip_c == pytest.approx(2.5)
    assert seen.recover_s == pytest.approx(20.0, abs=0.4)


def test_a_step_that_never_settles_says_so() -> None:
    time = np.arange(0, 100, 0.1)
    assert measure_step(time, 215 + 5 * np.sin(time), 215.0).settle_s is None


def test_full_power_climbs_like_the_model() -> None:
    step = predict_step(MODEL, PidGains(10.0, 0, 0), Situation(215.0, 23.0, end_s=60.0))
    time = step.time_s[step.time_s > 10] - 1.6
    two_lags = 1 - (205 * np.exp(-time / 205) - 2 * np.exp(-time / 2)) / 203
    assert step.celsius[step.time_s > 10] == pytest.approx(23 + 540 * two_lags, abs=0.6)


def test_gains_without_integral_leave_the_known_offset() -> None:
    step = predict_step(MODEL, PidGains(0.05, 0, 0), Situation(215.0, 23.0, end_s=1500.0))
    offset = 192 / (1 + 0.05 * 540)  # proportional control of a plant with gain 540
    assert 215 - step.celsius[-1] == pytest.approx(offset, rel=0.01)


def test_the_fan_takes_more_duty() -> None:
    step = predict_step(MODEL, PidGains(0.14, 0.01, 0.24), SITUATION)
    before = step.duty[(step.time_s > 190) & (step.time_s < 209)].mean()
    after = step.duty[step.time_s > 262].mean()
    assert after / before == pytest.approx(1.28, rel=0.02)
    assert step.measure.dip_c is not None and 0.2 < step.measure.dip_c < 2


def test_noise_is_the_same_for_a_seed() -> None:
    noisy = Situation(215.0, 23.0, 0.06, end_s=30.0)
    one, two, three = (predict_step(MODEL, PidGains(0.1, 0.01, 0), noisy, seed) for seed in (1, 1, 2))
    assert np.array_equal(one.celsius, two.celsius)
    assert not np.array_equal(one.celsius, three.celsius)


def test_the_quickest_good_candidate_is_recommended() -> None:
    point = Ultimate(0.19, 15.8, 0.001, 0.1, 3.0, 4)
    made = candidates(MODEL, point, PidGains(0.022, 0.0022, 0.0), SITUATION)
    name, why = recommend(made)
    assert name == "balanced" and "quickest" in why
    good = [c.step.measure for n, c in made.items() if n != AS_FOUND and c.step.measure.overshoot_c < 2]
    assert made[name].step.measure.settle_s == min(m.settle_s for m in good if m.settle_s is not None)
    assert made[AS_FOUND].step.measure.overshoot_c > 5


def test_good_gains_are_left_alone() -> None:
    point = Ultimate(0.19, 15.8, 0.001, 0.1, 3.0, 4)
    best = candidates(MODEL, point, PidGains(0.02, 0.002, 0), SITUATION)["balanced"].gains
    name, why = recommend(candidates(MODEL, point, best, SITUATION))
    assert name == AS_FOUND and why.startswith("leave it")
