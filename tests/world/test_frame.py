"""The frame against what is known apart from it: one mass in closed form, a general integrator, belts by hand."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from ublet.core.motion.program import SweepMove
from ublet.core.motion.sweep_motion import GRID_HZ, LEAD_IN_S, SweepCourse
from ublet.world.frame import OVER_THE_BED, Frame, FrameTruth

MIDDLE = {"x": 100.0, "y": 100.0}
SPANS = {"x": (0.0, 200.0), "y": (0.0, 200.0)}
FAST = {"base_kg": 1e7, "feet_hz": 200.0}
PERIOD_S = 1 / GRID_HZ


def frame(corexy: bool = False, bed_moves: bool = False, x_kg: float = 0.4, y_kg: float = 0.4, **truth: float) -> Frame:
    return Frame(FrameTruth(**{"nearer": 0.0, **truth}), {"x": x_kg, "y": y_kg}, SPANS, corexy, bed_moves)


def test_one_mass_on_one_belt_rings_as_in_the_book() -> None:
    main = frame(belt_x_n_mm=36, guide_x=0.06, **FAST).rings({"x": 1}, {"x": 1}, "head", MIDDLE)[0]
    assert main.frequency_hz == pytest.approx(math.sqrt(36_000 / 0.4) / (2 * math.pi), rel=1e-4)
    assert (main.damping_ratio, main.modal_share) == (pytest.approx(0.06, rel=1e-3), pytest.approx(1.0, abs=2e-3))


def test_shares_sum_to_one_and_a_head_that_is_not_driven_stands() -> None:
    loose = frame(corexy=True, belt_y_n_mm=28, part_kg=0.06, base_kg=9)
    for direction in ({"x": 1.0}, {"y": 1.0}, {"x": math.sqrt(0.5), "y": -math.sqrt(0.5)}):
        assert sum(ring.modal_share for ring in loose.rings(direction, direction, "head", MIDDLE)) == pytest.approx(
            1.0, abs=1e-9
        )
    assert frame(**FAST).rings({"x": 1}, {"y": 1}, "head", MIDDLE) == []


def test_the_sum_of_shares_times_frequencies_squared_tells_two_belts_apart() -> None:
    """``sum p w^2`` is the pull of the belt on the head, whatever masses X and Y carry, and whatever hangs on it."""
    slack = frame(corexy=True, belt_x_n_mm=20, belt_y_n_mm=15, x_kg=0.4, y_kg=0.8, part_kg=0.05)
    half = math.sqrt(0.5)
    tensions = []
    for sign in (1, -1):
        direction = {"x": half, "y": sign * half}
        tensions.append(
            sum(r.modal_share * r.frequency_hz**2 for r in slack.rings(direction, direction, "head", MIDDLE))
        )
    assert tensions[1] / tensions[0] == pytest.approx(0.75, rel=0.01)


def test_a_belt_is_stiffer_near_its_pulley_and_pulled_harder() -> None:
    near = frame(nearer=0.3)
    assert near.stiffness(MIDDLE)["x"] == pytest.approx(34_000)
    assert near.stiffness({"x": 190.0, "y": 100.0})["x"] > 1.15 * 34_000
    near.tighten("x", 1.2)
    assert near.stiffness(MIDDLE)["x"] == pytest.approx(1.2 * 34_000)


def test_a_moving_bed_carries_its_load_and_a_head_does_not_feel_it() -> None:
    empty, full = (frame(bed_moves=True, y_kg=0.9, load_kg=load, **FAST) for load in (0.0, 0.6))
    hz = [each.rings({"y": 1}, {"y": 1}, "bed", MIDDLE)[0].frequency_hz for each in (empty, full)]
    assert hz[1] / hz[0] == pytest.approx(math.sqrt(0.9 / 1.5), rel=0.02)
    over = empty.rings({"y": 1}, {"y": 1}, OVER_THE_BED, MIDDLE)[0]
    assert over.frequency_hz == pytest.approx(hz[0], rel=1e-6) and over.modal_share > 0.9
    assert empty.rings({"y": 1}, {"y": 1}, "head", MIDDLE) == [], "the head stands still over it"


def test_it_moves_as_a_general_integrator_says_friction_and_all() -> None:
    truth = FrameTruth(belt_x_n_mm=30, guide_x=0.04, slip_n=0.4, slip_mm_s=15, nearer=0.0, **FAST)
    one = Frame(truth, {"x": 0.4, "y": 0.4}, SPANS, False, False)
    course = SweepCourse(SweepMove({"x": 1.0}, 20.0, 60.0, 0.8, 0.03))
    speeds = course.speeds(0, 4501)
    found = np.concatenate(
        [
            one.shake({"x": speeds[at : at + 501], "y": np.zeros(501)}, PERIOD_S, MIDDLE, "head")[:-1, 0]
            for at in range(0, 4500, 500)
        ]
    )
    times = np.arange(4501) * PERIOD_S
    places = np.concatenate([[0.0], np.cumsum((speeds[1:] + speeds[:-1]) / 2 * PERIOD_S)]) / 1000
    k, m, c = 30_000.0, 0.4, 2 * 0.04 * math.sqrt(30_000 * 0.4)

    def moves(t: float, state: np.ndarray) -> list[float]:
        tension = k * (np.interp(t, times, places) - state[0]) - c * state[1] - 0.4 * math.tanh(state[1] / 0.015)
        return [state[1], tension / m]

    apart = solve_ivp(moves, (0, times[-1]), [0.0, 0.0], t_eval=times, rtol=1e-8, atol=1e-11, max_step=1e-3)
    wanted = np.gradient(apart.y[1], PERIOD_S)[:-1]
    assert np.std(found - wanted) < 0.02 * np.std(wanted)


def test_a_swing_ends_where_it_began_and_accelerates_as_it_is_told() -> None:
    sweep_move = SweepMove({"x": 1.0}, 5.0, 130.0, 20.0, 0.02)
    course = SweepCourse(sweep_move)
    speeds = course.speeds(0, course.count + 1)
    places = np.concatenate([[0.0], np.cumsum((speeds[1:] + speeds[:-1]) / 2 * PERIOD_S)])
    assert speeds[0] == 0 == speeds[-1] and abs(places[-1]) < 1e-9
    assert np.abs(places).max() < sweep_move.reach_mm and np.all(course.speeds(course.count + 1, 5) == 0)
    at = round((LEAD_IN_S + 10.0) * GRID_HZ)  # half way it is at 67.5 Hz
    t = 10.0
    asked = 20 * 67.5 * math.sin(2 * math.pi * (5 * t + 6.25 * t * t / 2))
    assert (speeds[at + 1] - speeds[at - 1]) * GRID_HZ / 2 == pytest.approx(asked, abs=0.01 * 20 * 67.5)


def test_a_sensor_on_tape_reads_more_the_nearer_the_tape_rings() -> None:
    from ublet.core.shake.mount import HELD, held_to_hz
    from ublet.world.shake import COUNT_M_S2, Accelerometer, AccelerometerTruth

    class Shaken:
        """A frame that shakes X evenly at a frequency."""

        heavier = 0.0

        def __init__(self, hz: float) -> None:
            self.hz, self.at_s = hz, 0.0

        def rest(self) -> None: ...

        def shake(self, speeds: object, step_s: float, where: object, on: str) -> np.ndarray:
            at = self.at_s + step_s * np.arange(401)
            self.at_s += 400 * step_s
            return np.column_stack([10 * np.sin(2 * np.pi * self.hz * at), np.zeros(401)])

    def amplitude(hz: float, held_hz: float) -> float:
        truth = AccelerometerTruth(noise_m_s2=0.0, clock_error=0.0, held_hz=held_hz)
        sensor = Accelerometer(truth, Shaken(hz), np.random.default_rng(1))  # type: ignore[arg-type]
        sensor.listen(1600.0)
        for _ in range(20):
            sensor.course({axis: np.zeros(401) for axis in "xyz"})
            sensor.pass_time(0.1, {})
        x = sensor.readings().counts[1600:, 0] * COUNT_M_S2
        return float(np.sqrt(2) * np.std(x))

    for held, rings in HELD.items():
        at = min(held_to_hz(held), 250.0)
        assert amplitude(at, rings) / amplitude(at, 0.0) == pytest.approx(1 / (1 - (at / rings) ** 2), rel=0.03)
    assert held_to_hz("taped") < 90 < held_to_hz("glued") < held_to_hz("screwed")
