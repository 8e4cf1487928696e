"""Plant models: responses against closed forms, fits against known truth."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.heat.model import Drive, HeaterModel, UnfitRecord, fit_model, respond

TIME = np.arange(3000, dtype=np.float64) * 0.1
DUTY = np.where(TIME < 90, 1.0, (np.sin(0.4 * TIME) > 0.2) * 0.7)


def test_first_order_step_is_the_exponential() -> None:
    model = HeaterModel(400.0, 150.0, 3.0, 20.0)
    seen = respond(model, TIME, np.ones_like(TIME), 20.0)
    late = TIME > 3
    expected = 20 + 400 * (1 - np.exp(-(TIME[late] - 3) / 150))
    assert np.max(np.abs(seen[late] - expected)) < 1e-9
    assert np.all(seen[TIME <= 3] == 20.0)


def test_two_lags_are_the_textbook_response() -> None:
    model = HeaterModel(400.0, 150.0, 0.0, 20.0, 5.0)
    seen = respond(model, TIME, np.ones_like(TIME), 20.0)
    expected = 20 + 400 * (1 - (150 * np.exp(-TIME / 150) - 5 * np.exp(-TIME / 5)) / 145)
    assert np.max(np.abs(seen - expected)) < 0.01


def test_a_delay_between_samples_is_kept() -> None:
    duty = np.where(TIME >= 10, 1.0, 0.0)
    mean = Drive.of(TIME, duty).delayed(TIME, 0.25)
    assert mean[102] == pytest.approx(0.0)
    assert mean[103] == pytest.approx(0.5)
    assert mean[104] == pytest.approx(1.0)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_noisy_record_gives_back_its_model(seed: int) -> None:
    truth = HeaterModel(540.0, 205.0, 1.6, 23.0, 2.0)
    noise = 0.06 * np.random.default_rng(seed).standard_normal(len(TIME))
    fit = fit_model(TIME, DUTY, respond(truth, TIME, DUTY, 23.0) + noise, 23.0)
    assert fit.model.gain_c == pytest.approx(truth.gain_c, rel=0.002)
    assert fit.model.time_constant_s == pytest.approx(truth.time_constant_s, rel=0.005)
    assert fit.model.dead_time_s == pytest.approx(truth.dead_time_s, abs=0.15)
    assert fit.model.second_lag_s == pytest.approx(truth.second_lag_s, abs=0.2)
    assert fit.residual_c == pytest.approx(0.06, rel=0.1)
    assert abs(fit.model.gain_c - truth.gain_c) < 5 * fit.uncertainty.gain_c


def test_hold_duty_and_more_loss() -> None:
    model = HeaterModel(500.0, 200.0, 1.0, 20.0, 4.0)
    assert model.hold_duty(220) == pytest.approx(0.4)
    assert model.with_loss(1.25).gain_c == pytest.approx(400)


@pytest.mark.parametrize(
    ("time", "duty", "celsius", "words"),
    [
        (TIME[:20], DUTY[:20], TIME[:20], "at least 50"),
        (TIME[::-1], DUTY, TIME, "does not rise"),
        (TIME, np.full_like(TIME, 0.5), TIME, "duty never changes"),
        (TIME, DUTY, np.full_like(TIME, 23.0), "less than 3 °C"),
    ],
)
def test_records_that_cannot_tell_are_refused(
    time: np.ndarray, duty: np.ndarray, celsius: np.ndarray, words: str
) -> None:
    with pytest.raises(UnfitRecord, match=words):
        fit_model(time, duty, celsius, 23.0)
