"""Relay cycles and the ultimate point, against systems whose ultimate point is known."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.heat.candidates import simc, tyreus_luyben, ziegler_nichols
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.relay import Cycle, balanced_levels, find_cycles, same_levels, spread, ultimate


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


def test_the_ultimate_point_is_that_of_the_limit_cycle_in_closed_form() -> None:
    """The limit cycle of a relay on a first order with dead time: exponentials between the switchings, each of which
    acts a dead time late.
    """
    model, high = HeaterModel(500, 200, 3, 20), 0.8
    time, duty, celsius = relay_record(model, 220, (high, 0.0))
    point = ultimate(same_levels(find_cycles(time, duty, celsius)), 0.5)
    fade, top_of, low_of = math.exp(-3 / 200), 500 * high, 0.0  # heights above the room
    bottom = low_of + (199.5 - low_of) * fade
    top = top_of + (200.5 - top_of) * fade
    rising = 200 * math.log((top_of - bottom) / (top_of - 200.5))
    falling = 200 * math.log((top - low_of) / (199.5 - low_of))
    period = rising + falling + 6
    fraction = (rising + 3) / period
    amplitude = (top - bottom) / 2
    gain = 4 * (high / 2) * math.sin(math.pi * fraction) / (math.pi * math.sqrt(amplitude**2 - 0.5**2))
    assert point.period_s == pytest.approx(period, rel=0.01)
    assert point.amplitude_c == pytest.approx(amplitude, rel=0.04)  # the record is smoothed
    assert point.gain == pytest.approx(gain, rel=0.04)


def test_without_hysteresis_the_describing_function_errs_by_its_known_factor() -> None:
    """An integrator with dead time: a triangle of period 4 theta, and Ku comes out as 8/pi² of the exact one."""
    period, amplitude = 4 * 3.0, 0.4 * 500 / 200 * 3.0
    cycles = [Cycle(n, period, 220 + amplitude, 220 - amplitude, 0.8, 0.0, 0.5, 0.4) for n in range(4)]
    point, exact = ultimate(cycles, 1e-6), math.pi / (2 * (500 / 200) * 3.0)
    assert point.gain / exact == pytest.approx(8 / math.pi**2, rel=1e-6)
    assert point.period_s == pytest.approx(4 * 3.0)


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
