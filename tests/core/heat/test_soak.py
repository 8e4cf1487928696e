"""The soak: a surface that follows a bed, against closed forms and known truth."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.heat.model import HeaterModel, respond
from ublet.core.heat.model_fit import fit_model
from ublet.core.heat.soak import SheetModel, drift_of, fit_sheet, predict_soak, sheet_of, still_after, still_from

TIME = np.arange(0, 900.0)
ROOM = 22.0
BED = ROOM + 40 * np.minimum(1.0, TIME / 150)


def test_a_surface_behind_a_ramp_is_the_closed_form() -> None:
    sheet = SheetModel(80.0, 0.9)
    seen = sheet.follows(TIME, BED, ROOM)
    rate, ramp = 40 / 150, TIME <= 150
    expected = ROOM + 0.9 * rate * (TIME - 80 * (1 - np.exp(-TIME / 80)))
    assert np.max(np.abs(seen[ramp] - expected[ramp])) < 0.01
    off = 40 - rate * (150 - 80 * (1 - math.exp(-150 / 80)))
    later = ROOM + 0.9 * (40 - off * np.exp(-(TIME - 150) / 80))
    assert np.max(np.abs(seen[~ramp] - later[~ramp])) < 0.01
    # drift = 0.9 off / 80 exp(-t/80) per second, below 0.2 a minute
    still = 80 * math.log(60 * 0.9 * off / 80 / 0.2)
    assert still_after(0.9 * off, 80.0, 0.2) == pytest.approx(still)
    assert still_from(TIME, seen, 0.2) - 150 == pytest.approx(still, abs=2)


@pytest.mark.parametrize("seed", [1, 2, 3, 4])
def test_a_noisy_surface_gives_back_its_sheet(seed: int) -> None:
    random = np.random.default_rng(seed)
    truth = SheetModel(random.uniform(30, 200), random.uniform(0.7, 1.0))
    late = ROOM + np.interp(TIME - 6.0, TIME, BED - ROOM, left=0.0)  # the bed's sensor is late itself
    surface = truth.follows(TIME, BED, ROOM) + 0.05 * random.standard_normal(len(TIME))
    found = fit_sheet(TIME, late + 0.02 * random.standard_normal(len(TIME)), surface, ROOM)
    assert found is not None
    assert found.lag_s == pytest.approx(truth.lag_s, rel=0.02) and found.fraction == pytest.approx(
        truth.fraction, abs=0.003
    )
    assert found.lead_s == pytest.approx(6, abs=1.5)
    assert abs(found.lag_s - truth.lag_s) < 5 * found.lag_u_s


def test_a_surface_that_does_not_move_shows_no_sheet() -> None:
    assert fit_sheet(TIME, BED, np.full_like(TIME, ROOM), ROOM) is None


def test_a_drift_comes_with_its_uncertainty() -> None:
    random = np.random.default_rng(5)
    time = np.arange(120.0)
    drifts = [drift_of(time, 50 + 0.3 * time / 60 + 0.05 * random.standard_normal(120)) for _ in range(200)]
    inside = sum(abs(each.c_min - 0.3) < 2 * each.uncertainty for each in drifts)
    assert 180 <= inside <= 199
    assert drifts[0].surely_below(0.4) and not drifts[0].surely_below(0.3)


def test_a_second_store_is_found_in_the_beds_own_record_and_only_where_there_is_one() -> None:
    time = np.arange(0, 1200, 0.5)
    duty = np.where(time < 200, 1.0, np.where(np.sin(0.05 * time) > 0, 0.45, 0.05))
    noise = 0.02 * np.random.default_rng(2).standard_normal(len(time))
    truth = HeaterModel(160.0, 570.0, 4.0, ROOM, 6.0, 55.0, 0.05)
    fit = fit_model(time, duty, respond(truth, time, duty, ROOM) + noise, ROOM)
    assert truth.sheet_lag_s == pytest.approx(0.05 * 570 + 0.95 * 55)
    found = sheet_of(fit.model, fit.uncertainty)
    assert found is not None and found.lag_s == pytest.approx(truth.sheet_lag_s, rel=0.03)
    assert fit.model.gain_c == pytest.approx(160, rel=0.01) and fit.residual_c < 0.025
    plain = HeaterModel(160.0, 400.0, 4.0, ROOM, 6.0)
    assert sheet_of(fit_model(time, duty, respond(plain, time, duty, ROOM) + noise, ROOM).model) is None


def test_a_climb_of_two_stores_is_told_by_its_model() -> None:
    model = HeaterModel(160.0, 570.0, 0.0, ROOM, 0.0, 55.0, 0.05)
    heat_up = model.heat_up_s(40.0, 1.0)
    time = np.arange(0, 400, 0.5)
    reached = time[np.argmax(respond(model, time, np.ones_like(time), ROOM) >= ROOM + 40)]
    assert heat_up == pytest.approx(reached, abs=0.6) and model.heat_up_s(200.0, 1.0) is None


def test_a_hotter_bed_soaks_no_shorter_than_its_lag_says() -> None:
    model = HeaterModel(160.0, 570.0, 4.0, ROOM, 6.0, 55.0, 0.05)
    cool, hot = (predict_soak(model, SheetModel(80.0), at, 1.0, 0.2) or 0.0 for at in (50, 80))
    finer = predict_soak(model, SheetModel(80.0), 50, 1.0, 0.02) or 0.0
    assert finer - cool == pytest.approx(80 * math.log(10), rel=1e-6)
    assert 0.5 * cool < hot < 2 * cool and predict_soak(model, SheetModel(80.0), 300, 1.0, 0.2) is None
