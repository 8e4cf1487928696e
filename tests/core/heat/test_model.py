"""Plant models: responses against closed forms, fits against known truth."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.heat.model import DutyIntegral, HeaterModel, respond

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
    mean = DutyIntegral.of(TIME, duty).delayed(TIME, 0.25)
    assert mean[102] == pytest.approx(0.0)
    assert mean[103] == pytest.approx(0.5)
    assert mean[104] == pytest.approx(1.0)


CURVED = HeaterModel(480.0, 185.0, 1.5, 23.0, 2.0, curve=5e-4, at_c=215.0)


def stepped(model: HeaterModel, duty: float, seconds: float, start: float = 0.0) -> float:
    """Height above the room after a constant duty, by small steps of the model's own equation, without lags."""
    rise, step = start, 0.001
    for _ in range(round(seconds / step)):
        loss = rise - model.curve * rise * (2 * (model.at_c - model.ambient_c) - rise)
        rise += step * (model.gain_c * duty - loss) / model.time_constant_s
    return rise


def test_a_curved_loss_climbs_levels_off_and_cools_as_its_equation_says() -> None:
    heat_up = CURVED.heat_up_s(150.0, 1.0)
    assert heat_up is not None and stepped(CURVED, 1.0, heat_up) == pytest.approx(150, abs=0.02)
    assert stepped(CURVED, 0.3, 3000) == pytest.approx(CURVED.levels_off_c(0.3), abs=0.01)
    assert stepped(CURVED, 0.0, CURVED.cool_s(192.0, 20.0), 192.0) == pytest.approx(20, abs=0.02)
    assert CURVED.heat_up_s(CURVED.levels_off_c(0.3) + 1, 0.3) is None and CURVED.heat_up_s(0.0, 1.0) == 0
    assert CURVED.levels_off_c(CURVED.hold_duty(180.0)) == pytest.approx(157.0)
    assert CURVED.hold_duty(215.0) == pytest.approx(192 / CURVED.held_gain_c)


def test_a_curved_response_is_that_of_its_equation() -> None:
    plain = HeaterModel(480.0, 185.0, 0.0, 23.0, curve=5e-4, at_c=215.0)
    seen = respond(plain, TIME, np.ones_like(TIME), 23.0)
    for at in (200, 1000, 2500):
        assert seen[at] - 23 == pytest.approx(stepped(plain, 1.0, float(TIME[at])), abs=0.05)


def test_hold_duty_and_more_loss() -> None:
    model = HeaterModel(500.0, 200.0, 1.0, 20.0, 4.0)
    assert model.hold_duty(220) == pytest.approx(0.4)
    assert model.with_loss(1.25).gain_c == pytest.approx(400)
