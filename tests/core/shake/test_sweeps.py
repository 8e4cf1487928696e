"""Sweeps of frames made up as masses and springs: claims cover, belts are told apart; how a sensor is turned."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest

from ublet.benchmark import frames
from ublet.core.shake.belts_trials import BeltTension, ratio_of
from ublet.core.shake.frame import Mode, frequency_response, in_print
from ublet.core.shake.mode_fit import fit_frame, fit_modes, fit_tension
from ublet.core.shake.mount import along_axes, columns_of, deduced, is_turned_right
from ublet.core.shake.repeats import nearest, widened
from ublet.core.shake.shaking import DIRECTIONS, MeasuredResponse
from ublet.core.shake.spectra import Bands, averaged, resampled
from ublet.core.shake.sweep import Sweep
from ublet.core.shake.sweep_response import Growing, bands_of

TURNED = [
    words
    for axes in itertools.permutations("xyz")
    for signs in itertools.product(("", "-"), repeat=3)
    if is_turned_right(words := tuple(sign + axis for sign, axis in zip(signs, axes, strict=True)))  # type: ignore[arg-type]
]


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(frames, "SECONDS", 25.0)


def test_claims_cover_frames_of_masses_and_springs(short: None) -> None:
    covered = []
    for seed in range(4):
        made = frames.made_up(seed, False)
        true = made.frame.rings({"x": 1}, {"x": 1}, "head", frames.MIDDLE)[0]
        mode = nearest(frames.found_of(made, "x")[0], true.frequency_hz)
        covered.append(abs(mode.frequency_hz - true.frequency_hz) <= 2 * mode.frequency_u)
        covered.append(abs(mode.damping_ratio - true.damping_ratio) <= 2 * mode.damping_u)
        assert mode.frequency_hz == pytest.approx(true.frequency_hz, rel=0.01)
        assert mode.damping_ratio == pytest.approx(true.damping_ratio, rel=0.2)
    assert np.mean(covered) >= 0.85


def test_two_belts_are_told_apart_whatever_else_they_carry(short: None) -> None:
    made = frames.made_up(3, True)
    tensions = [frames.found_of(made, direction)[1] for direction in ("x+y", "x-y")]
    ratio, u = ratio_of(*tensions)
    stiff = made.frame.stiffness(frames.MIDDLE)
    assert abs(ratio - stiff["y"] / stiff["x"]) <= 3 * u and u < 0.03 * ratio


def bands(modes: list[Mode], noise: float = 0.01, seed: int = 1) -> Bands:
    hz = np.arange(5.5, 129, 0.12)
    random = np.random.default_rng(seed)
    off = noise * (random.standard_normal(len(hz)) + 1j * random.standard_normal(len(hz)))
    return Bands(hz, frequency_response(modes, hz) + off, np.full(len(hz), noise**2), np.ones(len(hz)))


def test_the_pull_is_the_sum_over_all_modes_small_ones_too() -> None:
    modes = [Mode(40.0, 0.05, 0.87), Mode(70.0, 0.04, 0.12), Mode(110.0, 0.03, 0.01)]
    tension, u = fit_tension(bands(modes))
    assert abs(tension - sum(m.modal_share * m.frequency_hz**2 for m in modes)) <= 3 * u < 30
    assert len(fit_modes(bands(modes))) == 2, "a mode of one percent is not told"


def test_repeats_that_differ_by_more_than_their_noise_are_less_sure_together() -> None:
    one, same, other = (bands([Mode(hz, 0.05, 1.0)], seed=seed) for hz, seed in ((45.0, 1), (45.0, 2), (46.0, 3)))
    near = np.abs(one.hz - 45.5) < 1.5
    agree, apart = averaged([one, same]).variance[near].mean(), averaged([one, other]).variance[near].mean()
    assert agree < one.variance[near].mean() < apart and averaged([one]) is one


def test_what_a_gentle_sweep_tells_otherwise_widens() -> None:
    hard, gentle = Mode(45.0, 0.050, 1.0, 0.01, 0.0001), Mode(45.02, 0.054, 1.0, 0.01, 0.0001)
    (wide,) = widened([hard], [(hard,), (gentle,)])
    assert wide.damping_u == pytest.approx(1.5 * 0.004, rel=0.01) and wide.frequency_u == pytest.approx(
        0.0316, rel=0.01
    )
    (alone,) = widened([hard], [(hard,)])
    assert alone.damping_u > 20 * hard.damping_u, "one sweep does not tell what friction does"
    assert alone.damping_u == pytest.approx(0.05 * hard.damping_ratio, rel=0.01)


def test_poles_that_cannot_be_told_apart_are_one_with_bounds_and_shares_keep_their_sign() -> None:
    close = fit_frame(bands([Mode(46.0, 0.06, 0.6), Mode(46.4, 0.06, 0.4)]))
    (main,) = close.modes
    assert close.is_whole and abs(main.frequency_hz - 46.2) < 0.3 and main.modal_share == 1
    against = fit_frame(bands([Mode(41.0, 0.05, 1.12), Mode(88.0, 0.04, -0.12)]))
    assert [round(mode.modal_share, 2) for mode in against.modes] == [1.12, -0.12] and against.is_whole
    assert not fit_frame(bands([Mode(41.0, 0.05, 1.5)])).is_whole, "more moves than was told"


@pytest.mark.parametrize("seed", range(12))
def test_what_is_told_of_close_poles_covers_them(seed: int) -> None:
    random = np.random.default_rng(seed)
    hz = float(random.uniform(35, 60))
    other = hz * float(1 + random.uniform(0.04, 0.12))
    fraction = float(random.uniform(0.1, 0.9))
    frame = [Mode(hz, 0.06, fraction), Mode(other, float(random.uniform(0.03, 0.09)), 1 - fraction)]
    fit = fit_frame(bands(frame, noise=0.02, seed=seed))
    assert fit.is_whole and sum(abs(mode.modal_share) for mode in fit.modes) < 1.5
    main, first = max(frame, key=lambda mode: mode.modal_share), fit.modes[0]
    assert abs(first.frequency_hz - main.frequency_hz) <= 3 * first.frequency_u
    assert abs(first.damping_ratio - main.damping_ratio) <= 3 * first.damping_u


def test_readings_between_others_keep_their_size_at_high_frequencies() -> None:
    random = np.random.default_rng(4)
    time_s = np.arange(4000) / 1300 + random.uniform(-5e-5, 5e-5, 4000)
    at = np.arange(200, 3500) / 1277
    at = at[at < time_s[-2]]
    sine = np.sin(2 * np.pi * 130 * time_s)
    wanted = np.sin(2 * np.pi * 130 * at)
    gain = float(resampled(at, time_s, sine) @ wanted / (wanted @ wanted))
    straight = float(np.interp(at, time_s, sine) @ wanted / (wanted @ wanted))
    assert abs(gain - 1) < 0.002 and straight < 0.975


def test_the_machine_on_its_feet_does_not_count_in_a_print() -> None:
    modes = [Mode(42.0, 0.06, 0.8), Mode(9.0, 0.1, 0.15), Mode(90.0, 0.04, 0.05)]
    kept = in_print(modes)
    assert [m.frequency_hz for m in kept] == [42.0, 90.0] and sum(m.modal_share for m in kept) == pytest.approx(1)
    assert in_print([Mode(8.0, 0.1, 1.0)])[0].frequency_hz == 8.0, "what rings most always counts"


@pytest.mark.parametrize("words", TURNED, ids="".join)
def test_any_way_up_is_deduced_from_jerks_and_gravity(words: tuple[str, str, str]) -> None:
    into = columns_of(words)  # what the columns read of the machine's axes
    jerks = {axis: into @ np.eye(3)["xy".index(axis)] + np.array([0.05, -0.04, 0.03]) for axis in "xy"}
    gravity = into @ np.array([0.2, -0.1, 9.8])
    assert deduced(jerks, gravity) == words
    assert deduced({"x": jerks["x"]}, gravity) == words, "one jerk and gravity leave one axis to a right hand"
    values = np.random.default_rng(1).standard_normal((5, 3))
    assert along_axes(values @ into.T, words) == pytest.approx(values)


def test_a_sensor_that_contradicts_itself_is_not_deduced() -> None:
    up = np.array([0.0, 0.0, 9.8])
    assert len(TURNED) == 24
    assert deduced({"x": np.array([1.0, 0, 0]), "y": np.array([1.0, 0.1, 0])}, up) is None
    assert deduced({"x": np.array([0.7, 0.7, 0])}, up) is None, "askew by 45 degrees"
    assert deduced({"x": np.array([0.1, 0, 0])}, up) is None, "nothing is felt"
    assert deduced({"x": np.array([0, 0, 1.0])}, up) is None, "along gravity"


def test_a_growing_curve_tells_the_gain_where_the_sweep_is() -> None:
    sweep, mode = Sweep("x", 10, 70, 20, 0.05), Mode(40.0, 0.05, 1.0)
    growing, rows = Growing(sweep), []
    for at in np.arange(0, 20, 0.04):
        t = at + np.arange(64) / 1600
        hz = sweep.from_hz + sweep.rate_hz_s * t
        phase = 2 * np.pi * (sweep.from_hz * t + sweep.rate_hz_s * t**2 / 2)
        gain = frequency_response([mode], hz)
        response = sweep.per_hz_m_s2 * hz * np.abs(gain) * np.sin(phase + np.angle(gain))
        found = growing.take(t, np.column_stack([response, 0 * response, 0 * response]))
        if found is not None:
            rows.append(found[0])
    gains = np.array(rows)
    wanted = np.abs(frequency_response([mode], gains[:, 0]))
    assert len(rows) > 30 and gains[:, 1] == pytest.approx(wanted, rel=0.1, abs=0.05) and gains[:, 2].min() > 0.9


def test_what_is_heard_along_a_diagonal_is_both_axes_together() -> None:
    values = np.column_stack([np.ones(4), 2 * np.ones(4), np.zeros(4)])
    response = MeasuredResponse(np.arange(4) / 1600, values, 1600.0, 0, 0.0)
    assert response.along("x-y") == pytest.approx(-math.sqrt(0.5)) and response.along("y") == pytest.approx(2)
    assert all(math.hypot(*direction.values()) == pytest.approx(1) for direction in DIRECTIONS.values())


def test_bands_of_a_quiet_sensor_tell_nothing_and_say_so() -> None:
    sweep = Sweep("x", 5, 130, 10, 0.03)
    times = np.arange(-400, 16_800) / 1600
    noise = np.random.default_rng(1).standard_normal((len(times), 3))
    found = bands_of(MeasuredResponse(times, noise, 1600.0, 0, 0.0), sweep, 1600.0)
    assert float(np.median(found.coherence)) < 0.5


def test_the_ratio_of_tensions_is_no_surer_than_hard_and_gentle_sweeps_agree() -> None:
    mode = Mode(45.0, 0.05, 1.0)
    alike = ratio_of(BeltTension(2000.0, 1.0, mode, (2000.5, 1999.5)), BeltTension(1900.0, 1.0, mode, (1900.4, 1899.6)))
    apart = ratio_of(BeltTension(2000.0, 1.0, mode, (2030.0, 1970.0)), BeltTension(1900.0, 1.0, mode, (1905.0, 1895.0)))
    once = ratio_of(BeltTension(2000.0, 1.0, mode), BeltTension(1900.0, 1.0, mode))
    assert alike[0] == apart[0] == once[0] == pytest.approx(0.95)
    assert alike[1] < 0.005 < once[1] < apart[1] < 0.06
