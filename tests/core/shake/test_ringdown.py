"""What is left after a sharp stop, by decays made up with a known factor; towers, steps of a train, accelerations."""

from __future__ import annotations

import math

import numpy as np
import pytest

from tests.conftest import tern
from ublet.core.motion.iso6983 import iso6983
from ublet.core.motion.program import To
from ublet.core.settings import Value
from ublet.core.shake.acceleration_trials import Bounds, worth_it
from ublet.core.shake.choosing import Limits, best_named, choose
from ublet.core.shake.frame import Complex, Floats, Mode
from ublet.core.shake.ringdown import amplitudes, left_of, moved_by
from ublet.core.shake.shaper_trials import (
    ShaperParameters,
    by_hand,
    impulse_rows,
    left_over,
    predicted_u,
    step_of,
    unused_by_hand,
    values_of,
)
from ublet.core.shake.shapers import ImpulseSequence, live_impulses, named, residual, shaper_path, vibration
from ublet.core.shake.tower import TowerShape, bands_of, even_after_mm, ringing_tower

MODES = [Mode(45.0, 0.05, 0.8), Mode(88.0, 0.03, 0.2)]
TIMES = np.arange(0, 0.8, 1 / 1600)


def ring_downs(size: Complex, noise: float, random: np.random.Generator) -> tuple[Complex, Floats]:
    """What is read of modes that ring so from 0.1 s on."""
    response = 0.3 + noise * random.standard_normal(len(TIMES))
    for mode, c in zip(MODES, size, strict=True):
        pole = mode.w * complex(-mode.damping_ratio, math.sqrt(1 - mode.damping_ratio**2))
        response = response + (c * np.exp(pole * (TIMES - 0.1))).real * (TIMES >= 0.1)
    found = amplitudes(TIMES, response, MODES, 0.1)
    assert found is not None
    return found


def test_amplitudes_are_read_through_noise_and_an_offset() -> None:
    size = np.array([2 + 1j, -0.5j])
    found, spread = ring_downs(size, 0.1, np.random.default_rng(1))
    assert np.all(np.abs(found - size) < 4 * spread) and np.all(spread < 0.05)
    assert amplitudes(TIMES, 0 * TIMES, MODES, 0.79) is None, "too little is left to read"


@pytest.mark.parametrize("factor", [0.0, 0.03, 0.4])
def test_what_is_left_is_the_factor_and_the_claim_covers_it(factor: float) -> None:
    covered = []
    for seed in range(20):
        random = np.random.default_rng(seed)
        sizes = [random.standard_normal(2) + 1j * random.standard_normal(2) for _ in range(10)]
        before = [ring_downs(size, 0.05, random) for size in sizes]
        after = [ring_downs(size * factor * np.exp(0.7j), 0.05, random) for size in sizes]
        left = left_of(before, after, MODES)
        covered.append(abs(left.fraction - factor) <= 2 * left.uncertainty)
    assert np.mean(covered) >= 0.9


def test_a_mode_that_does_not_ring_is_not_read() -> None:
    random = np.random.default_rng(1)
    sizes = [np.array([random.standard_normal() + 2j, 0.0]) for _ in range(6)]
    left = left_of(
        [ring_downs(s, 0.05, random) for s in sizes], [ring_downs(0.1 * s, 0.05, random) for s in sizes], MODES
    )
    assert left.modes[1] is None and left.fraction == pytest.approx(0.1, abs=0.03)


def test_an_unsure_frame_makes_the_prediction_unsure() -> None:
    impulses = named("zv", 45.0, 0.05)
    assert predicted_u(impulses, [Mode(45.0, 0.05, 1.0, 0.0, 0.0)]) < 0.006, "but for small modes"
    unsure = predicted_u(impulses, [Mode(45.0, 0.05, 1.0, 0.9, 0.0)])
    assert unsure == pytest.approx(vibration(impulses, Mode(45.9, 0.05, 1.0)), rel=0.1)


def test_shapers_are_kept_as_settings_that_make_the_same_train_again() -> None:
    limits = Limits(acceleration_mm_s2=3000)
    for shaper in choose(MODES, limits).shapers:
        stored: dict[str, Value] = {shaper_path("x", key): value for key, value in values_of(shaper).items()}
        again = live_impulses(stored.get, "x")
        assert again is not None and residual(again, MODES) == pytest.approx(shaper.residual, abs=2e-3)
        assert float(again.amplitudes.sum()) == pytest.approx(1, abs=1e-9)
    assert live_impulses({shaper_path("x", "kind"): "none", shaper_path("x", "train"): ((0.0, 1.0),)}.get, "x") is None


@pytest.mark.parametrize(
    "impulses",
    [((0.0,), (1.0,)), ((0.0, 0.5), (0.01, 0.4)), ((0.01, 0.5), (0.02, 0.5)), ((0.0, 0.5), (0.02, 0.2), (0.01, 0.3))],
)
def test_what_is_no_train_shapes_nothing(impulses: tuple[tuple[float, ...], ...]) -> None:
    stored: dict[str, Value] = {shaper_path("x", "kind"): "own", shaper_path("x", "train"): impulses}
    assert live_impulses(stored.get, "x") is None


def test_a_frequency_that_is_slid_by_hand_is_judged_as_it_is() -> None:
    limits = Limits()
    choice = choose(MODES, limits)
    slid = by_hand(choice, MODES, limits, ShaperParameters(shaper="zv", frequency_x_hz=60.0, damping=0.1), "x")
    zv = next(each for each in slid.shapers if each.name == "zv")
    assert zv.frequency_hz == 60.0 and zv.residual == pytest.approx(residual(named("zv", 60.0, 0.1), MODES))
    others = [each for each in slid.shapers if each.name != "zv"]
    assert others == [each for each in choice.shapers if each.name != "zv"], "the others are as they were"
    assert by_hand(choice, MODES, limits, ShaperParameters(), "x") is choice
    useless = ShaperParameters(shaper="optimised", frequency_x_hz=60.0)
    assert "name a shaper" in unused_by_hand("x", choice, useless) and not unused_by_hand("y", choice, useless)
    assert not unused_by_hand("x", choice, ShaperParameters(shaper="zv", frequency_x_hz=60.0))
    assert best_named("zv", MODES, limits).damping_ratio == pytest.approx(0.8 * 0.05 + 0.2 * 0.03)


def test_what_a_train_leaves_over_many_frequencies_is_what_it_leaves_at_each() -> None:
    impulses = named("ei", 45.0, 0.08)
    hz = np.linspace(20, 120, 7)
    assert left_over(impulses, hz, 0.06) == pytest.approx(
        [vibration(impulses, Mode(f, 0.06, 1.0)) for f in hz.tolist()]
    )


def test_a_step_of_the_speed_rises_by_each_share() -> None:
    impulses = ImpulseSequence(np.array([0.0, 0.01, 0.02]), np.array([0.25, 0.5, 0.25]))
    assert step_of(impulses) == [(0, 0), (0, 0), (0, 0.25), (0.01, 0.25), (0.01, 0.75), (0.02, 0.75), (0.02, 1.0)]
    assert impulse_rows(impulses) == ((0.0, 0.25), (0.01, 0.5), (0.02, 0.25))


def test_frequencies_that_moved_are_told_from_friction() -> None:
    random = np.random.default_rng(6)
    time_s = np.arange(0.0, 2.0, 1 / 1600)
    for moved in (-0.12, 0.0, 0.07):
        response = random.normal(0, 0.05, len(time_s))
        for stop in (0.2, 0.9, 1.5):
            since = np.maximum(0.0, time_s - stop)
            ring_downs = sum(
                mode.modal_share
                * np.exp(-mode.damping_ratio * mode.w * since)
                * np.cos(mode.w * math.sqrt(1 - mode.damping_ratio**2) * since)
                for mode in [mode.moved(moved) for mode in MODES]
            )
            response = response + np.where((time_s >= stop) & (time_s < stop + 0.5), ring_downs, 0.0)
        fraction, u = moved_by(time_s, response, MODES, (0.2, 0.9, 1.5))
        assert abs(fraction - moved) < 0.01 and u < 0.01


def test_a_tower_rings_harder_band_by_band_and_its_text_says_so() -> None:
    machine, shape = tern(), TowerShape()
    program = ringing_tower(machine, shape)
    walls = [each for each in program.segments if isinstance(each, To) and each.filament and each.mm_s2]
    bands = bands_of(machine, shape)
    assert [each.mm_s2 for each in bands] == sorted({each.mm_s2 for each in walls}) and bands[-1].mm_s2 == 4000
    assert all(each.mm_s == 80 for each in walls) and even_after_mm(shape, 4000) == pytest.approx(0.8)
    text = iso6983(program, {"filament": "E", "acceleration": "MY WORD {mm_s2}"})
    assert text.count("MY WORD") == 4 and "MY WORD 4000\n" in text
    assert iso6983(program, {"filament": "E"}).count("(acceleration from here:") == 4
    with pytest.raises(ValueError, match="allowed"):
        ringing_tower(machine, TowerShape(side_mm=30, speed_mm_s=300, gentle_mm_s2=500))


def test_the_smallest_acceleration_that_costs_hardly_any_time_is_worth_it() -> None:
    times = {500.0: 20.0, 1000.0: 15.0, 2000.0: 12.1, 4000.0: 12.0}
    assert worth_it(times, 0.01) == 2000.0 and worth_it(times, 0.0) == 4000.0 and worth_it(times, 0.2) == 1000.0
    assert (Bounds(3000.0, 2500.0, 4000.0).most, Bounds(3000.0, None, 4000.0).by) == (
        2500.0,
        "corners would be rounded more",
    )
