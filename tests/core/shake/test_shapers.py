"""Impulse trains against closed forms, and the optimised one against what it promises."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.benchmark.structures import structure
from ublet.core.shake.choosing import Limits, best_named, choose
from ublet.core.shake.frame import Mode, frequency_response, rings_mm
from ublet.core.shake.shaper_trials import pays_words
from ublet.core.shake.shapers import NAMED, ImpulseSequence, named, optimised, residual, vibration


def rings(impulses: ImpulseSequence, mode: Mode) -> float:
    """What is left after the last impulse, by integrating the oscillator in small steps: amplitude over that of one
    impulse. Nothing of it is the formula's.
    """
    w, z = mode.w, mode.damping_ratio
    step = 1 / mode.frequency_hz / 4000
    state = np.zeros(2)
    system = np.array([[0.0, 1.0], [-w * w, -2 * z * w]])
    whole = np.eye(2) + step * system @ (np.eye(2) + step * system / 2 @ (np.eye(2) + step * system / 3))
    now = 0.0
    for time, amplitude in zip(impulses.times.tolist(), impulses.amplitudes.tolist(), strict=True):
        for _ in range(round((time - now) / step)):
            state = whole @ state
        now = time
        state = state + np.array([0.0, amplitude])
    wd = w * math.sqrt(1 - z * z)
    return math.hypot(wd * state[0], state[1] + z * w * state[0])


@pytest.mark.parametrize("name", list(NAMED))
@pytest.mark.parametrize(("off", "damping"), [(0.0, 0.05), (0.1, 0.05), (-0.15, 0.1), (0.0, 0.0)])
def test_what_a_train_leaves_is_what_an_oscillator_does(name: str, off: float, damping: float) -> None:
    impulses, mode = named(name, 40.0, 0.05), Mode(40.0 * (1 + off), damping, 1.0)
    assert vibration(impulses, mode) == pytest.approx(rings(impulses, mode), abs=2e-3)
    assert impulses.amplitudes.sum() == pytest.approx(1.0) and np.all(impulses.amplitudes > 0)


def test_zv_and_zvd_leave_nothing_and_the_tolerant_ones_five_percent_at_their_own_frequency() -> None:
    for damping in (0.0, 0.05, 0.1):
        mode = Mode(50.0, damping, 1.0)
        assert vibration(named("zv", 50.0, damping), mode) < 1e-12
        assert vibration(named("zvd", 50.0, damping), mode) < 1e-12
    undamped = Mode(50.0, 0.0, 1.0)
    assert vibration(named("ei", 50.0, 0.0), undamped) == pytest.approx(0.05, abs=1e-9)
    near = [vibration(named("two-hump-ei", 50.0, 0.0), Mode(hz, 0.0, 1.0)) for hz in np.linspace(40, 60, 200)]
    assert near[100] < 5e-3 and max(near) == pytest.approx(0.05, abs=2e-3), "two humps, none between"
    assert vibration(named("three-hump-ei", 50.0, 0.0), undamped) == pytest.approx(0.05, abs=2e-3)


def test_zv_of_an_undamped_mode_is_two_halves_half_a_period_apart_and_rounds_as_said() -> None:
    impulses = named("zv", 25.0, 0.0)
    assert impulses.times.tolist() == [0.0, 0.02] and impulses.amplitudes.tolist() == [0.5, 0.5]
    assert impulses.spread_s2 == pytest.approx(0.01**2)
    assert impulses.rounding_mm(5000.0) == pytest.approx(0.25) and impulses.highest_mm_s2(0.15) == pytest.approx(3000.0)


@pytest.mark.parametrize("seed", range(8))
def test_the_optimised_train_keeps_its_limits_and_is_no_longer_than_any_named_one_that_does(seed: int) -> None:
    made = structure(np.random.default_rng(seed))
    modes = [Mode(*each) for each in zip(made.hz, made.damping, made.modal_share, strict=True)]
    impulses = optimised(modes, 0.05, 0.1, 3 / min(made.hz))
    assert impulses is not None
    assert (
        np.all(impulses.amplitudes > 0) and impulses.amplitudes.sum() == pytest.approx(1.0) and impulses.times[0] == 0
    )
    assert (
        residual(impulses, modes) <= 0.0511
        and max(residual(impulses, modes, direction) for direction in (-0.1, 0.1)) <= 0.1025
    )
    limits = Limits()
    good = [each for name in NAMED if (each := best_named(name, modes, limits)).keeps(limits)]
    assert good, "some named train always does on such frames"
    assert impulses.duration_s <= 1.02 * min(each.impulses.duration_s for each in good)
    choice = choose(modes, limits)
    if choice.chosen.keeps(limits):
        assert choice.chosen.rounds(limits) <= limits.rounding_mm or "every shaper rounds" in choice.why


def test_nothing_that_keeps_both_is_said_with_what_is_given_up() -> None:
    low = [Mode(15.0, 0.05, 1.0)]
    choice = choose(low, Limits(acceleration_mm_s2=3000.0, rounding_mm=0.5))
    assert choice.chosen.name in NAMED or choice.chosen.name == "optimised"
    hard = choose(low, Limits(acceleration_mm_s2=20_000.0))
    assert "every shaper rounds more" in hard.why and "accelerate at most" in hard.why
    between = choose(low, Limits(residual=0.01, acceleration_mm_s2=700.0))
    assert between.chosen.rounds(Limits(acceleration_mm_s2=700.0)) <= 0.15 and "over the vibration limit" in between.why


def test_a_frame_follows_slowly_and_peaks_where_it_should() -> None:
    mode = Mode(30.0, 0.05, 1.0)
    assert abs(frequency_response([mode], np.array([0.01]))[0]) == pytest.approx(1.0, abs=1e-4)
    assert abs(frequency_response([mode], np.array([30.0]))[0]) == pytest.approx(1 / (2 * 0.05))
    assert abs(frequency_response([mode], np.array([300.0]))[0]) == pytest.approx(1 / 99, rel=0.01)


def test_an_axis_rings_without_a_shaper_as_far_as_its_equation_of_motion_says() -> None:
    """Integrated step by step: after an acceleration that begins at once the nozzle rings about its lag."""
    mode, acceleration, step_s = Mode(40.0, 0.01, 1.0, 0.4), 3000.0, 1e-5
    lag, speed, lowest = 0.0, 0.0, 0.0
    for _ in range(round(0.5 / 40.0 / step_s) + 1):  # half a period: its first and largest amplitude
        speed += (-acceleration - 2 * mode.damping_ratio * mode.w * speed - mode.w**2 * lag) * step_s
        lag += speed * step_s
        lowest = min(lowest, lag)
    about = acceleration / mode.w**2
    amplitude, u = rings_mm([mode], acceleration)
    assert amplitude == pytest.approx(-lowest - about, rel=0.04)
    assert u == pytest.approx(amplitude * 2 * 0.4 / 40.0)
    two = rings_mm([Mode(40.0, 0.05, 0.6), Mode(80.0, 0.05, 0.4)], acceleration)[0]
    assert two == pytest.approx(about * (0.6 + 0.4 / 4))


def test_where_nobody_sees_it_a_shaper_is_said_not_to_pay() -> None:
    limits = Limits(acceleration_mm_s2=500.0)
    assert "nobody sees that in a print" in pays_words("x", 0.002, limits)
    assert pays_words("y", 0.021, limits) == "Y without one rings by 21 µm at 500 mm/s²."
