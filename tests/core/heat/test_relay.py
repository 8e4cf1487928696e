"""Relay cycles and the ultimate point, against systems whose ultimate point is known."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.heat.model import HeaterModel
from ublet.core.heat.relay import Cycle, balanced_levels, find_cycles, same_levels, spread, ultimate
from ublet.core.heat.rules import simc, tyreus_luyben, ziegler_nichols


def relay_record(model: HeaterModel, target: float, levels: tuple[float, float]) -> tuple[np.ndarray, ...]:
    """A relay on a first-order plant with dead time, in small steps."""
    step, on = 0.02, True
    delay = [0.0] * round(model.dead_time_s / step)
    y, rows = model.ambient_c, []
    for n in range(int(400 / step)):
        on = y < target - 0.5 if not on else y <= target + 0.5
        duty = levels[0] if on else levels[1]
        delay.append(duty)
        y += step * (model.gain_c * delay.pop(0) - (y - model.ambient_c)) / model.time_constant_s
        if n % 5 == 0:
            rows.append((n * step, duty, y))
    return tuple(np.array(rows).T)


def test_cycles_are_counted_and_measured() -> None:
    time, duty, celsius = relay_record(HeaterModel(500, 200, 3, 20), 220, (0.8, 0.0))
    cycles = find_cycles(time, duty, celsius)
    assert len(cycles) > 8
    last = same_levels(cycles)
    assert spread(last) < 0.01
    # first order with dead time: the swing overshoots each switching by (gain duty - rise)(1 - exp(-theta/tau))
    up = (500 * 0.8 - 200.5) * (1 - math.exp(-3 / 200))
    assert last[-1].top_c == pytest.approx(220.5 + up, abs=0.15)
    assert last[-1].mean_duty == pytest.approx(0.4, abs=0.01)


def test_the_ultimate_point_is_near_the_exact_one() -> None:
    model = HeaterModel(500, 200, 3, 20)
    time, duty, celsius = relay_record(model, 220, (0.8, 0.0))
    point = ultimate(same_levels(find_cycles(time, duty, celsius)), 0.5)
    # exact: phase -atan(w tau) - w theta = -pi, gain 1/|G|
    w = np.linspace(0.1, 1.5, 200_000)
    phase = np.arctan(w * 200) + w * 3
    w_u = float(w[np.argmax(phase >= math.pi)])
    exact_gain, exact_period = math.hypot(1, w_u * 200) / 500, 2 * math.pi / w_u
    assert point.period_s == pytest.approx(exact_period, rel=0.25)  # hysteresis lengthens it
    # the describing function of a triangular swing is known to be off by up to a third
    assert point.gain == pytest.approx(exact_gain, rel=0.33)


def test_a_swing_inside_the_hysteresis_is_refused() -> None:
    with pytest.raises(ValueError, match="not larger than"):
        ultimate([Cycle(0, 20, 215.2, 214.9, 1, 0, 0.5, 0.5)], 0.5)
    with pytest.raises(ValueError, match="no whole"):
        ultimate([], 0.5)


def test_the_formula_by_hand() -> None:
    cycle = Cycle(0, 20, 218, 212, 0.8, 0.0, 0.5, 0.4)
    point = ultimate([cycle, cycle], 0.5)
    assert point.gain == pytest.approx(4 * 0.4 / (math.pi * math.sqrt(9 - 0.25)))
    assert point.gain_u == 0.0


def test_cycles_at_other_levels_and_the_first_one_do_not_count() -> None:
    cycles = [Cycle(n, 20, 218, 212, 1.0 if n < 3 else 0.7, 0, 0.5, 0.35) for n in range(6)]
    assert [cycle.start_s for cycle in same_levels(cycles)] == [4, 5]
    assert spread(cycles[:2]) == math.inf


def test_levels_lie_evenly_around_the_hold_duty() -> None:
    assert balanced_levels(0.35, 1.0) == pytest.approx((0.7, 0.0))
    assert balanced_levels(0.7, 1.0) == pytest.approx((1.0, 0.4))
    assert balanced_levels(0.01, 1.0) == pytest.approx((0.06, 0.0))


def test_rules_by_their_published_formulas() -> None:
    zn, tl = ziegler_nichols(2.0, 40.0), tyreus_luyben(2.2, 63.0)
    assert (zn.kp, zn.ki, zn.kd) == pytest.approx((1.2, 1.2 / 20, 1.2 * 5))
    assert (tl.kp, tl.ki, tl.kd) == pytest.approx((1.0, 1 / 138.6, 10.0))
    gains = simc(HeaterModel(500, 200, 2, 20), 2.0)
    assert (gains.kp, gains.ki, gains.kd) == pytest.approx((0.1, 0.1 / 16, 0.0))
    with_lag = simc(HeaterModel(500, 200, 2, 20, 4.0), 2.0)  # f = 1 + 4/16
    assert (with_lag.kp, with_lag.ki, with_lag.kd) == pytest.approx((0.125, 0.125 / 20, 0.125 * 3.2))
