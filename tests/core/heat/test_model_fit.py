"""Fitting a heater's model: on records of its own making, and on plants whose physics it does not know."""

from __future__ import annotations

import numpy as np
import pytest

from tests.core.heat.test_model import CURVED, DUTY, TIME
from ublet.core.heat.model import HeaterModel, respond
from ublet.core.heat.model_fit import UnfitRecord, correlated_samples, fit_model
from ublet.world.heat import STEP_S, Plant, PlantTruth, linearise


@pytest.mark.parametrize("truth", [HeaterModel(540.0, 205.0, 1.6, 23.0, 2.0), CURVED])
@pytest.mark.parametrize("seed", [1, 2])
def test_a_noisy_record_gives_back_its_model(truth: HeaterModel, seed: int) -> None:
    noise = 0.06 * np.random.default_rng(seed).standard_normal(len(TIME))
    fit = fit_model(TIME, DUTY, respond(truth, TIME, DUTY, 23.0) + noise, 23.0)
    assert fit.residual_c == pytest.approx(0.06, rel=0.1)
    assert fit.model.delay_s == pytest.approx(truth.delay_s, abs=0.05)
    at = fit.model.at_c  # the same plant, its tangent taken at the record's own working temperature
    slope = (1 - truth.curve * 2 * (truth.at_c - at)) if truth.curve else 1.0
    assert fit.model.time_constant_s == pytest.approx(truth.time_constant_s / slope, rel=0.01)
    assert fit.model.hold_duty(at) == pytest.approx(truth.hold_duty(at), rel=0.003)


def relay_record(truth: PlantTruth, target: float, seconds: float, noise: float) -> tuple[np.ndarray, ...]:
    """A climb and a relay about a target, on the simulated plant: cartridge, block, radiation, sensor."""
    plant, random, on = Plant(truth, 23.0), np.random.default_rng(3), True
    rows = []
    for tick in range(round(seconds * 10)):
        seen = plant.sensor_c + noise * random.standard_normal()
        on = seen < target + 0.6 if on else seen < target - 0.6
        full = 1.0 if not rows or (rows[-1][2] < target and tick < 3000) else 0.75
        duty = full if on else 0.05
        rows.append((tick * 0.1, duty if tick > 10 else 0.0, seen))
        for _ in range(round(0.1 / STEP_S)):
            plant.step(rows[-1][1], 0.0, 23.0)
    return tuple(np.array(rows).T)


HOTEND = PlantTruth(48, 16, 2.2, 1.9, 0.075, 0.024, 9, 1.6, 0.9)
BARE = PlantTruth(40, 22, 2.5, 1.3, 0.1, 0.02, 14, 2.6, 1.8)
BED = PlantTruth(400, 960, 60, 14, 1.5, 0.0, 600, 4, 2.5)


@pytest.mark.parametrize(("truth", "target", "seconds"), [(HOTEND, 215, 300), (BARE, 200, 400), (BED, 60, 1500)])
def test_a_plant_of_other_physics_lies_within_what_is_claimed(truth: PlantTruth, target: float, seconds: float) -> None:
    time_s, duty, celsius = relay_record(truth, target, seconds, 0.05)
    fit = fit_model(time_s, duty, celsius, 23.0)
    linear, uncertainty = linearise(truth, fit.model.at_c, 23.0), fit.uncertainty
    assert abs(fit.model.held_gain_c - linear.gain_c) < 2.5 * uncertainty.held_gain_c < 0.02 * linear.gain_c
    assert abs(fit.model.time_constant_s - linear.time_constant_s) < 2.5 * uncertainty.time_constant_s
    assert uncertainty.time_constant_s < 0.06 * linear.time_constant_s
    assert abs(fit.model.delay_s - linear.delay_s) < 2.5 * uncertainty.delay_s < 0.1 * linear.delay_s


def test_correlated_samples_are_those_of_the_closed_form() -> None:
    """A first-order process with lag-1 correlation r: (1 + r) / (1 - r)."""
    random = np.random.default_rng(1)
    assert correlated_samples(random.standard_normal(20_000)) == pytest.approx(1, abs=0.1)
    white, process = random.standard_normal(60_000), np.zeros(60_000)
    for at in range(1, len(white)):
        process[at] = 0.9 * process[at - 1] + white[at]
    assert correlated_samples(process) == pytest.approx(19, rel=0.15)


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
