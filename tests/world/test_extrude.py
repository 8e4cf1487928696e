"""Filament in the world: a melt of known force, what goes in and comes out, a grip that slips, a spool that ends."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.world.extrude import ExtruderTruth, Filament
from ublet.world.mechanics import MotorTruth

STRONG = MotorTruth("extruder", turn_mm=11.5, torque_nm_a=1.0)
SOUND = ExtruderTruth(bite_share=0.0)


def pushed(
    truth: ExtruderTruth, mm_s: float, seconds: float, celsius: float = 210.0, motor: MotorTruth = STRONG
) -> Filament:
    filament = Filament(truth, motor, np.random.default_rng(1))
    for _ in range(round(seconds / 0.1)):
        filament.push(mm_s * 0.1, 0.7)
        filament.pass_time(0.1, celsius)
    return filament


def test_the_melts_force_is_a_power_law_that_softens_and_is_doubled_where_cores_do_not_melt() -> None:
    assert SOUND.force_n(2.0, 210.0) == pytest.approx(8.0 * (1 + (2 / 7) ** 3))
    thin = ExtruderTruth(melts_mm_s=1e6)
    assert thin.force_n(8.0, 210.0) / thin.force_n(2.0, 210.0) == pytest.approx(2.0)
    assert thin.force_n(2.0, 230.0) / thin.force_n(2.0, 210.0) == pytest.approx(math.exp(-0.24))
    assert SOUND.force_n(7.0, 210.0) == pytest.approx(2 * thin.force_n(7.0, 210.0))
    assert SOUND.force_n(1.0, 100.0) == math.inf and SOUND.force_n(0.0, 210.0) == 0.0


def test_what_is_pushed_for_long_goes_in_as_the_balance_says_and_is_pressed_by_the_melts_force() -> None:
    for truth, mm_s in ((SOUND, 1.5), (ExtruderTruth(bite_share=0.0, grip_n=12.0), 3.5)):
        early, late = pushed(truth, mm_s, 40), pushed(truth, mm_s, 60)
        fraction = truth.delivered(mm_s, 210.0, math.inf)
        assert (late.fed_mm - early.fed_mm) / (20 * mm_s) == pytest.approx(fraction, rel=1e-4)
        assert late.pressed_mm * truth.spring_n_mm == pytest.approx(truth.force_n(mm_s * fraction, 210.0), rel=1e-3)


def test_at_the_force_that_is_called_its_grip_a_hob_loses_a_twentieth() -> None:
    assert SOUND.taken(60.0, math.inf) == pytest.approx(0.95)
    assert SOUND.taken(30.0, math.inf) == pytest.approx(1 - 0.05 / 8)


def test_a_weak_motor_carries_no_further_than_its_force() -> None:
    weak = MotorTruth("extruder", turn_mm=33.0, torque_nm_a=0.03, knee_turns_s=1e9)
    force = weak.force_n(0.7, 1.5)
    filament = pushed(SOUND, 1.5, 60, motor=weak)
    assert force < SOUND.force_n(1.5, 210.0) and filament.fed_mm < 0.8 * 90
    assert filament.pressed_mm * SOUND.spring_n_mm == pytest.approx(force, rel=0.05)
    more = pushed(SOUND, 1.5, 60, motor=MotorTruth("extruder", turn_mm=33.0, torque_nm_a=0.1))
    assert more.fed_mm == pytest.approx(90, rel=1e-3)


def test_a_spool_ends_and_what_was_pressed_oozes_out() -> None:
    filament = pushed(ExtruderTruth(spool_mm=40.0, bite_share=0.0), 1.5, 60)
    assert filament.left_mm == 0.0 and filament.fed_mm == pytest.approx(40.0)
    still = pushed(SOUND, 1.5, 20)
    pressed = still.pressed_mm
    still.pass_time(5.0, 210.0)
    assert 0 < still.pressed_mm < 0.3 * pressed
    for _ in range(60):
        still.pass_time(1.0, 210.0)
    assert still.pressed_mm == 0.0 and still.fed_mm == pytest.approx(30.0, rel=1e-3)


def test_filament_that_is_drawn_back_comes_back_and_presses_less() -> None:
    filament = pushed(SOUND, 1.5, 20)
    fed, pressed = filament.fed_mm, filament.pressed_mm
    filament.push(-0.2, 0.7)
    filament.pass_time(0.1, 210.0)
    assert filament.fed_mm == pytest.approx(fed - 0.2) and filament.pressed_mm < pressed - 0.2


def test_a_cold_nozzle_lets_nothing_out() -> None:
    filament = pushed(ExtruderTruth(bite_share=0.0), 1.5, 60, celsius=25.0)
    assert filament.fed_mm == pytest.approx(filament.pressed_mm) and filament.fed_mm < 10


def test_a_finer_step_tells_the_same() -> None:
    coarse, fine = pushed(SOUND, 3.5, 20), Filament(SOUND, STRONG, np.random.default_rng(1))
    for _ in range(2000):
        fine.push(0.035, 0.7)
        fine.pass_time(0.01, 210.0)
    assert coarse.fed_mm == pytest.approx(fine.fed_mm, abs=0.01)
    assert coarse.pressed_mm == pytest.approx(fine.pressed_mm, rel=1e-3)


def test_what_was_pressed_flows_out_with_the_melts_own_time_constant() -> None:
    truth = ExtruderTruth(bite_share=0.0, thinning=1.0, melts_mm_s=1e6, spring_n_mm=8.0)
    filament = Filament(truth, STRONG, np.random.default_rng(1))
    filament.turn(2.0, 0.0, 20.0, (210.0, 0.7))
    pressed, time_constant = filament.pressed_mm, truth.resistance_n / 2.0 / truth.spring_n_mm
    filament.turn(0.0, 0.0, time_constant, (210.0, 0.7))
    assert filament.pressed_mm / pressed == pytest.approx(math.exp(-1), rel=0.01)
    assert filament.fed_mm - filament.out_mm == pytest.approx(filament.pressed_mm, rel=1e-6), "nothing gets lost"


def test_play_in_a_tube_is_taken_up_before_anything_presses() -> None:
    truth = ExtruderTruth(bite_share=0.0, spring_n_mm=6.0, play_mm=0.5)
    filament = Filament(truth, STRONG, np.random.default_rng(1))
    filament.turn(1.5, 0.0, 20.0, (210.0, 0.7))
    filament.turn(-10.0, 0.0, 0.05, (210.0, 0.7))
    assert filament.slack_mm == pytest.approx(0.5) and filament.pressed_mm > 0.3, "shifted back, and hardly let go"
    filament.turn(10.0, 0.0, 0.05, (210.0, 0.7))
    assert filament.slack_mm == pytest.approx(0.0, abs=1e-3)


def test_a_hot_nozzle_drips_until_it_is_drawn_back_and_air_that_was_drawn_in_comes_out_first() -> None:
    truth = ExtruderTruth(bite_share=0.0, drips_mm_s=0.05, drip_holds_mm=0.3, draws_mm=2.0)
    dripping, drawn = (Filament(truth, STRONG, np.random.default_rng(1)) for _ in range(2))
    dripping.pass_time(2.0, 210.0)
    assert 0.05 < dripping.out_mm < 0.1
    drawn.turn(-20.0, 0.0, 0.2, (210.0, 0.7))
    before = drawn.out_mm
    drawn.pass_time(5.0, 210.0)
    assert drawn.out_mm == before and drawn.air_mm == pytest.approx(2.0, rel=1e-3)
    drawn.turn(20.0, 0.0, 0.2, (210.0, 0.7))
    assert drawn.out_mm - before < 0.5 and drawn.air_mm < 2.0
