"""Paths: trapezoids by their closed form, caps, corners, look-ahead; against a path followed in tiny steps."""

from __future__ import annotations

import math
import random
from functools import partial
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.motion.planner import Cap, LinearMove, along, by_deviation, by_jerk, duration, line_of, paces
from ublet.core.motion.program import Dwell, ProbeMove, Program, SweepMove, To


def straight(length: float, top: float, acceleration: float) -> LinearMove:
    return LinearMove({"x": 1.0}, length, top, acceleration)


@given(st.floats(0.1, 300), st.floats(0.5, 300), st.floats(10, 9000))
def test_a_trapezoid_takes_its_time_and_covers_its_length(length: float, speed: float, acceleration: float) -> None:
    full = speed * speed / acceleration
    expected = length / speed + speed / acceleration if length >= full else 2 * math.sqrt(length / acceleration)
    followed = list(paces(straight(length, speed, acceleration), 0.0, 0.0))
    assert sum(pace.seconds for pace in followed) == pytest.approx(expected, rel=1e-6)
    assert sum(pace.gone(pace.seconds) for pace in followed) == pytest.approx(length, rel=1e-9)
    assert max(pace.speed(pace.seconds) for pace in followed) <= speed * (1 + 1e-9)
    assert len(followed) <= 4


@given(
    st.floats(0.01, 50), st.floats(0, 100), st.floats(0, 100), st.floats(1, 100), st.floats(50, 5000), st.floats(0, 1)
)
def test_a_pace_turns_to_time_and_back(
    length: float, first: float, last: float, top: float, acceleration: float, fraction: float
) -> None:
    reachable = min(last, top, math.sqrt(first**2 + 2 * acceleration * length))
    for pace in paces(straight(length, top, acceleration), first, reachable):
        at = fraction * pace.seconds
        assert pace.gone(pace.reached(pace.gone(at))) == pytest.approx(pace.gone(at), abs=1e-7)


def test_a_line_keeps_every_cap_and_says_which_was_the_least() -> None:
    caps = {
        "x": Cap(300, 3000, "axes.x"),
        "y": Cap(120, 2000, "axes.y"),
        "e": Cap(5, 1500, "extruder"),
        "m": Cap(90, 1e9, "steps"),
    }
    line = line_of({"x": 30.0, "y": 40.0, "e": 1.0}, 400.0, caps)
    assert line.length == 50 and line.top == pytest.approx(150) and line.capped_by == "axes.y"
    assert line.acceleration == pytest.approx(2500), "of y: 2000 over 0.8"
    assert line_of({"x": 30.0, "y": 40.0, "e": 1.0}, 100.0, caps).capped_by == ""
    assert line_of({"x": 30.0, "y": 40.0, "e": 2.0}, 400.0, caps).top == pytest.approx(125), (
        "the filament is the slowest"
    )
    assert line_of({"x": 10.0, "y": 10.0, "m": 20.0}, 400.0, caps).top == pytest.approx(90 / math.sqrt(2))
    assert line_of({"e": -2.0}, 30.0, caps).top == 5
    with pytest.raises(ValueError, match="without length"):
        line_of({"x": 0.0}, 10.0, caps)


@pytest.mark.parametrize(("degrees", "deviation"), [(90, 0.02), (120, 0.02), (45, 0.05), (10, 0.01)])
def test_a_corner_leaves_its_circle_by_the_deviation(degrees: float, deviation: float) -> None:
    """The circle that touches both lines and passes the corner at ``deviation``: its radius gives the speed."""
    turn = math.radians(degrees)  # by which the path turns
    first = LinearMove({"x": 1.0}, 10, 1e6, 2000)
    second = LinearMove({"x": math.cos(turn), "y": math.sin(turn)}, 10, 1e6, 2000)
    radius = deviation / (1 / math.cos(turn / 2) - 1)
    assert by_deviation(first, second, deviation) == pytest.approx(math.sqrt(2000 * radius), rel=1e-9)


def test_corners_by_jerk_and_at_the_ends() -> None:
    right, up, back, filament = (
        LinearMove(direction, 10, 80, 500) for direction in ({"x": 1.0}, {"y": 1.0}, {"x": -1.0}, {"e": 1.0})
    )
    assert by_jerk(right, up, {"x": 8, "y": 4}) == 4 and by_jerk(right, right, {"x": 8}) == 80
    assert by_jerk(right, back, {"x": 8}) == 4
    assert by_deviation(right, right, 0.02) == 80 and by_deviation(right, back, 0.02) == 0
    assert by_deviation(right, filament, 0.02) == 0


def path(seed: int, count: int) -> list[LinearMove]:
    """A random path."""
    drawn = random.Random(seed)
    found = []
    for _ in range(count):
        angle, length = drawn.uniform(0, 2 * math.pi), 10 ** drawn.uniform(-1.5, 1.5)
        direction = {"x": length * math.cos(angle), "y": length * math.sin(angle), "e": 0.03 * length}
        found.append(line_of(direction, drawn.uniform(10, 300), {"x": Cap(250, 3000, ""), "y": Cap(200, 2000, "")}))
    return found


@pytest.mark.parametrize("seed", range(5))
def test_along_a_random_path_no_cap_is_exceeded_and_it_ends_standing(seed: int) -> None:
    lines, corner = path(seed, 200), partial(by_deviation, deviation=0.02)
    corners = [*(corner(a, b) for a, b in pairwise(lines)), 0.0]
    speed = took = 0.0
    gone = [0.0] * len(lines)
    left_at = [0.0] * len(lines)
    for number, pace in along(lines, corner):
        line = lines[number]
        assert abs(pace.acceleration_mm_s2) <= line.acceleration * (1 + 1e-6)
        assert max(pace.speed_mm_s, pace.speed(pace.seconds)) <= line.top * (1 + 1e-9)
        assert pace.speed_mm_s == pytest.approx(speed, rel=1e-9, abs=1e-9), "speed has no jumps"
        gone[number] += pace.gone(pace.seconds)
        speed, took = pace.speed(pace.seconds), took + pace.seconds
        left_at[number] = speed
    assert gone == pytest.approx([line.length for line in lines], abs=1e-9)
    assert all(left <= corner + 1e-6 for left, corner in zip(left_at, corners, strict=True))
    assert speed == pytest.approx(0, abs=1e-6) and took == pytest.approx(duration(lines, corner))


def test_look_ahead_is_as_fast_as_a_path_followed_in_tiny_steps() -> None:
    """The fastest profile under the same limits, found on a grid by passes forth and back (Bobrow et al. 1985)."""
    lines, corner = path(7, 40), partial(by_deviation, deviation=0.02)
    grid: list[tuple[float, float, float]] = []  # length, top and acceleration of each little piece
    starts = []
    for line in lines:
        count = max(50, int(line.length / 0.01))
        starts.append(len(grid))
        grid += [(line.length / count, line.top, line.acceleration)] * count
    most = [math.inf] * (len(grid) + 1)
    for n, (_, top, _) in enumerate(grid):
        most[n], most[n + 1] = min(most[n], top), top
    for at, (a, b) in zip(starts[1:], pairwise(lines), strict=True):
        most[at] = min(most[at], corner(a, b))
    most[0] = most[-1] = 0.0
    for n, (mm, _, acceleration) in enumerate(grid):
        most[n + 1] = min(most[n + 1], math.sqrt(most[n] ** 2 + 2 * acceleration * mm))
    for n in range(len(grid) - 1, -1, -1):
        mm, _, acceleration = grid[n]
        most[n] = min(most[n], math.sqrt(most[n + 1] ** 2 + 2 * acceleration * mm))
    expected = sum(2 * mm / (most[n] + most[n + 1]) for n, (mm, _, _) in enumerate(grid))
    assert duration(lines, corner) == pytest.approx(expected, rel=0.003)


def test_a_program_knows_the_axes_that_it_moves() -> None:
    swept = SweepMove({"x": 0.7, "y": -0.7}, 5.0, 100.0, 10.0, 0.04, "x-y")
    assert Program("sweep", (swept,)).axes == ("x", "y")
    assert Program("mixed", (To({"z": 5.0}, 10.0), Dwell(1.0), ProbeMove({"z": 0.0}, 2.0))).axes == ("z",)
    assert Program("waits", (Dwell(1.0),)).axes == ()
