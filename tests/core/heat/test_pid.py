"""The control law: proportional, integral, derivative, anti-windup."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.heat.pid import DERIVATIVE_FILTER_S, TICK_S, Pid, PidGains


def test_proportional_alone() -> None:
    assert Pid(PidGains(0.01, 0, 0)).duty(50, 20) == pytest.approx(0.3)


def test_integral_grows_by_error_and_time() -> None:
    controller = Pid(PidGains(0, 0.001, 0))
    duties = [controller.duty(30, 20) for _ in range(101)]
    assert duties[100] == pytest.approx(0.001 * 10 * 100 * TICK_S)


def test_a_full_heater_does_not_wind_up_and_an_idle_one_neither() -> None:
    controller = Pid(PidGains(1, 0.1, 0))
    for _ in range(1000):
        assert controller.duty(200, 20) == 1.0
    assert controller.integral == 0.0
    for _ in range(1000):
        assert controller.duty(20, 200) == 0.0
    assert controller.integral == 0.0


def test_the_derivative_is_filtered_and_ignores_a_new_target() -> None:
    controller = Pid(PidGains(0, 0, 0.01))
    assert controller.duty(100, 20) == 0.0
    assert controller.duty(300, 20) == 0.0  # no kick
    slope = 0.0
    for tick in range(200):
        controller.duty(300, 20 - 0.1 * tick)
        slope = controller.duty(300, 20 - 0.1 * (tick + 1)) if tick == 199 else 0.0
    assert slope == pytest.approx(0.01 * 1.0, rel=0.02)  # falls 1 °C a second: pushes 0.01
    assert math.exp(-20 / DERIVATIVE_FILTER_S) < 1e-6


@given(st.lists(st.floats(-50, 500), min_size=1, max_size=60), st.floats(0, 1), st.floats(0, 1), st.floats(0, 5))
def test_duty_is_always_between_off_and_full(values: list[float], kp: float, ki: float, kd: float) -> None:
    controller = Pid(PidGains(kp, ki, kd))
    for value in values:
        assert 0.0 <= controller.duty(215, value) <= 1.0
        assert 0.0 <= controller.integral <= 1.0


def test_standard_form_and_rounding() -> None:
    assert PidGains.standard(2.0, 4.0, 0.5) == PidGains(2.0, 0.5, 1.0)
    assert PidGains(0.123456, 0.00987654, 12.3456).rounded() == PidGains(0.1235, 0.009877, 12.35)


@pytest.mark.parametrize(("kp", "ki"), [(0.03, 0.001), (0.05, 0.002)])
def test_a_limit_that_the_integral_knows_does_not_wind_it_up(kp: float, ki: float) -> None:
    """A plant driven by at most 0.55: an integral that does not know it fills while the duty is clamped elsewhere."""

    def overshoot(aware: bool) -> float:
        control, block, sensor, top = Pid(PidGains(kp, ki, 0.2)), 0.0, 0.0, 0.0
        for _ in range(6000):  # gain 500 °C, time constant 250 s, a sensor that lags by 6 s
            duty = control.duty(190.0, sensor, 0.55) if aware else min(0.55, control.duty(190.0, sensor))
            block += 0.1 * (500 * duty - block) / 250
            sensor += 0.1 * (block - sensor) / 6
            top = max(top, sensor)
        return top - 190.0

    assert overshoot(True) < 0.5 * overshoot(False) and overshoot(False) > 2
