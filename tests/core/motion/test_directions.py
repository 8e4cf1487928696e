"""Directions: every way two belts or three axes can be wired wrong is found, and its mend puts it right."""

from __future__ import annotations

from itertools import product

import pytest

from ublet.core.motion.motor_trials import Mend, shared_belts_mend, straight_mend
from ublet.world.mechanics import seen

PAIRS = [("x", "y"), ("x", "z")]
"""Axes that two belts carry together: a CoreXY's, and those of a head on two belts in X and Z."""

RIGHT = {"x": "right", "y": "back", "z": "up"}


def shared_motors(shared: tuple[str, str]) -> dict[str, tuple[str, ...]]:
    return {shared[0]: (f"axes.{shared[0]}.motors.a",), shared[1]: (f"axes.{shared[1]}.motors.b",)}


def moved(
    shared: tuple[str, str], wiring: dict[str, int], at: dict[str, str], flags: dict[str, bool]
) -> dict[str, str]:
    """What forward moves of both axes do. wiring: each motor's own sign; at: the motor that hangs on each driver."""
    (one,), (two,) = shared_motors(shared).values()
    saw = {}
    for axis, fault in zip(shared, ({one: 1, two: 1}, {one: 1, two: -1}), strict=True):
        belts = {at[driver]: direction * (-1 if flags[driver] else 1) for driver, direction in fault.items()}
        a, b = belts[one] * wiring[one], belts[two] * wiring[two]
        saw[axis] = seen({shared[0]: (a + b) / 2, shared[1]: (a - b) / 2})
    return saw


BOTH = (False, True)


@pytest.mark.parametrize("shared", PAIRS)
@pytest.mark.parametrize(
    ("sign_a", "sign_b", "crossed", "flag_a", "flag_b"), list(product((1, -1), (1, -1), BOTH, BOTH, BOTH))
)
def test_every_wiring_of_two_shared_belts_is_mended_in_one_round(
    shared: tuple[str, str], sign_a: int, sign_b: int, crossed: bool, flag_a: bool, flag_b: bool
) -> None:
    motors = shared_motors(shared)
    (one,), (two,) = motors.values()
    wiring, flags = {one: sign_a, two: sign_b}, {one: flag_a, two: flag_b}
    at = {one: two, two: one} if crossed else {one: one, two: two}
    right = {axis: RIGHT[axis] for axis in shared}
    saw = moved(shared, wiring, at, flags)
    mend = shared_belts_mend(shared, saw, motors, flags)
    assert not mend.problems and mend.exchange == (((one, two),) if crossed else ())
    turned = {motor: flag != (motor in mend.reverse) for motor, flag in flags.items()}
    assert moved(shared, wiring, {one: one, two: two}, turned) == right
    assert mend.needed is (crossed or saw != right)


@pytest.mark.parametrize(
    ("saw_x", "saw_y", "words"),
    [
        ("right", "right", "contradict"),
        ("right", "left", "contradict"),
        ("diagonal", "back", "one of two motors"),
        ("right", "nothing", "nothing moved"),
        ("up", "back", "X or Y moved another axis"),
    ],
)
def test_answers_that_cannot_be_are_told(saw_x: str, saw_y: str, words: str) -> None:
    motors = shared_motors(("x", "y"))
    flags = {motor: False for each in motors.values() for motor in each}
    mend = shared_belts_mend(("x", "y"), {"x": saw_x, "y": saw_y}, motors, flags)
    assert words in mend.problems[0] and not mend.reverse and not mend.exchange


MOTORS = {"x": ("X",), "y": ("Y",), "z": ("left", "right")}


@pytest.mark.parametrize(
    ("saw", "mend"),
    [
        (("right", "back", "up"), Mend()),
        (("left", "back", "up"), Mend(reverse=("X",))),
        (("right", "front", "down"), Mend(reverse=("Y", "left", "right"))),
        (("back", "right", "up"), Mend(exchange=(("X", "Y"),))),
        (("back", "left", "up"), Mend(exchange=(("X", "Y"),))),
    ],
)
def test_axes_of_their_own(saw: tuple[str, str, str], mend: Mend) -> None:
    assert straight_mend(dict(zip("xyz", saw, strict=True)), MOTORS) == mend


@pytest.mark.parametrize("saw", [("right", "right", "up"), ("up", "back", "right"), ("diagonal", "back", "up")])
def test_what_no_setting_mends_is_said(saw: tuple[str, str, str]) -> None:
    mend = straight_mend(dict(zip("xyz", saw, strict=True)), MOTORS)
    assert mend.problems and not mend.reverse
