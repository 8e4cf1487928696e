"""The thermal plant against energy balance and closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.heat.curves import Thermistor
from ublet.world.heat import STEP_S, Adc, Plant, PlantTruth, linearise, loss_w

TRUTH = PlantTruth(48, 16, 2.2, 1.9, 0.075, 0.024, 9, 1.6, 0.9)
PLAIN = PlantTruth(40, 20, 0.5, 20, 0.1, 0.0, 0.0, 0.5, 0.0)


def run(plant: Plant, duty: float, seconds: float, fan: float = 0.0) -> None:
    for _ in range(round(seconds / STEP_S)):
        plant.step(duty, fan, 23.0)


def test_a_plain_block_warms_like_the_exponential() -> None:
    plant = Plant(PLAIN, 23.0)
    run(plant, 0.5, 100)
    expected = 23 + 200 * (1 - math.exp(-100 * 0.1 / 20.5))
    assert plant.block_c == pytest.approx(expected, rel=0.01)


def test_at_rest_power_in_is_heat_out() -> None:
    plant = Plant(TRUTH, 23.0)
    run(plant, 0.35, 3000)
    assert loss_w(TRUTH, plant.block_c, 0.0, 23.0) == pytest.approx(0.35 * 48, rel=1e-3)
    assert plant.sensor_c == pytest.approx(plant.block_c, abs=0.01)


def test_the_fan_takes_what_it_says() -> None:
    assert loss_w(TRUTH, 215, 1.0, 23) - loss_w(TRUTH, 215, 0.0, 23) == pytest.approx(0.024 * 192)


def test_linear_truth_is_the_plant_nearby() -> None:
    linear = linearise(TRUTH, 215.0, 23.0)
    assert linear.hold_duty * 48 == pytest.approx(loss_w(TRUTH, 215, 0, 23))
    assert linear.gain_c * linear.hold_duty == pytest.approx(192)
    tangent = (loss_w(TRUTH, 215.5, 0, 23) - loss_w(TRUTH, 214.5, 0, 23)) / 1.0
    assert linear.time_constant_s == pytest.approx((16 + 2.2) / tangent, rel=0.02)
    small = Plant(TRUTH, 23.0)  # a small step about the target settles with that time constant
    small.put_at(215.0)
    run(small, linear.hold_duty, 1500)
    start = small.block_c
    for _ in range(round(linear.time_constant_s / STEP_S)):
        small.step(linear.hold_duty * 1.02, 0.0, 23.0)
    rise = 0.02 * linear.hold_duty * 48 / tangent
    assert small.block_c - start == pytest.approx(rise * (1 - math.exp(-1)), rel=0.02)
    assert linear.delay_s == pytest.approx(TRUTH.dead_time_s + TRUTH.sensor_lag_s + 1.05, abs=0.15)


def test_the_adc_is_right_on_average_and_quantised() -> None:
    curve = Thermistor(100e3, 4267, 4700)
    random = np.random.default_rng(1)
    adc = Adc(curve, 12, 1.2, 16)
    readings = [curve.celsius(adc.read(215.0, random)) for _ in range(2000)]
    assert np.mean(readings) == pytest.approx(215.0, abs=0.02)
    one_count = curve.resolution(215, 4095)
    assert np.std(readings) == pytest.approx(one_count * math.sqrt((1.2**2 + 1 / 12) / 16), rel=0.1)
    assert Adc(curve, 12, 0.0, 1).read(215.0, random) * 4095 == pytest.approx(round(curve.ratio(215) * 4095))


@pytest.mark.parametrize(("fault", "ratio"), [("open", 1.0), ("short", 0.0)])
def test_faults_put_the_input_on_a_rail(fault: str, ratio: float) -> None:
    adc = Adc(Thermistor(100e3, 4267, 4700), 12, 1.0, 16, fault)
    assert adc.read(100.0, np.random.default_rng(1)) == ratio
