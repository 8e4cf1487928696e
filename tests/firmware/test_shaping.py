"""Swings and shaping on the board: speeds against sums that are known, refusals, and where it stands afterwards."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.motion.program import SweepMove
from ublet.core.motion.sweep_motion import GRID_HZ, SweepCourse
from ublet.core.settings import Value
from ublet.core.sockets import Pace
from ublet.firmware.shaping import Shaping

PERIOD = 0.1
ZV: dict[str, Value] = {
    "axes.x.shaper.kind": "own",
    "axes.x.shaper.frequency_hz": 45.0,
    "axes.x.shaper.damping": 0.1,
    "axes.x.shaper.train": ((0.0, 0.5), (0.0111, 0.3), (0.0225, 0.2)),
}


def shaped(live: dict[str, Value], can: bool = True) -> np.ndarray:
    """A ramp to 50 mm/s over 0.25 s and evenly on, period by period."""
    shaping = Shaping()
    shaping.begin(can)
    shaping.settled(live)
    found = []
    for number in range(5):
        shaping.begin_period(PERIOD)
        at = number * PERIOD
        if at < 0.25:
            shaping.follow({"x": 1.0}, 0.0, Pace(200 * at, 200.0, min(PERIOD, 0.25 - at)))
        if at + PERIOD > 0.25:
            start = max(0.0, 0.25 - at)
            shaping.follow({"x": 1.0}, start, Pace(50.0, 0.0, PERIOD - start))
        found.append(shaping.end_period()["x"][:-1])
    return np.concatenate(found)


def ramp(t: np.ndarray) -> np.ndarray:
    return np.clip(200 * t, 0.0, 50.0)


def test_steps_are_spread_over_the_impulses_across_periods() -> None:
    t = np.arange(round(5 * PERIOD * GRID_HZ)) / GRID_HZ
    assert shaped({**ZV, "axes.x.shaper.kind": "none"}) == pytest.approx(ramp(t), abs=1e-6)
    wanted = 0.5 * ramp(t) + 0.3 * ramp(t - 0.0111) + 0.2 * ramp(t - 0.0225)
    assert shaped(ZV) == pytest.approx(wanted, abs=0.02)
    assert shaped(ZV, can=False) == pytest.approx(ramp(t), abs=1e-6), "an image without the module shapes nothing"


def test_a_train_that_is_too_long_is_none() -> None:
    t = np.arange(round(5 * PERIOD * GRID_HZ)) / GRID_HZ
    assert shaped({**ZV, "axes.x.shaper.train": ((0.0, 0.5), (0.6, 0.5))}) == pytest.approx(ramp(t), abs=1e-6)


@pytest.mark.parametrize(("low", "high", "seconds"), [(5.0, 130.0, 7.3), (20.0, 40.0, 1.0), (2.0, 200.0, 31.0)])
def test_every_swing_ends_where_it_began(low: float, high: float, seconds: float) -> None:
    sweep_move = SweepMove({"x": 0.6, "y": 0.8}, low, high, seconds, 0.02)
    course = SweepCourse(sweep_move)
    whole = course.speeds(0, course.count + 1)
    pieces = np.concatenate([course.speeds(at, 500) for at in range(0, course.count + 1, 500)])[: course.count + 1]
    assert pieces == pytest.approx(whole), "piece by piece it is the same course"
    gone = np.cumsum((whole[1:] + whole[:-1]) / 2) / GRID_HZ
    assert abs(gone[-1]) < 1e-9 and np.abs(gone).max() < sweep_move.reach_mm
    assert course.seconds == pytest.approx(seconds + 0.8, abs=1e-3)
