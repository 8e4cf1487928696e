"""Directions: every way two belts or three axes can be wired wrong is found, and its mend puts it right."""

from __future__ import annotations

from itertools import product

import pytest

from ublet.core.motion.directions import Mend, corexy_mend, straight_mend
from ublet.world.mechanics import seen

A, B = "axes.x.motors.a", "axes.y.motors.b"


def corexy(wiring: dict[str, int], at: dict[str, str], flags: dict[str, bool]) -> tuple[str, str]:
    """What +X and +Y do: wiring is each motor's own sign, at tells which motor hangs on which driver."""
    saw = []
    for told in ({A: 1, B: 1}, {A: 1, B: -1}):
        belts = {at[driver]: way * (-1 if flags[driver] else 1) for driver, way in told.items()}
        a, b = belts[A] * wiring[A], belts[B] * wiring[B]
        saw.append(seen({"x": (a + b) / 2, "y": (a - b) / 2}))
    return saw[0], saw[1]


BOTH = (False, True)


@pytest.mark.parametrize(
    ("sign_a", "sign_b", "crossed", "flag_a", "flag_b"), list(product((1, -1), (1, -1), BOTH, BOTH, BOTH))
)
def test_every_corexy_wiring_is_mended_in_one_round(
    sign_a: int, sign_b: int, crossed: bool, flag_a: bool, flag_b: bool
) -> None:
    wiring, flags = {A: sign_a, B: sign_b}, {A: flag_a, B: flag_b}
    at = {A: B, B: A} if crossed else {A: A, B: B}
    mend = corexy_mend(*corexy(wiring, at, flags), A, B, flags)
    assert not mend.problems and mend.exchange == (((A, B),) if crossed else ())
    after = {A: A, B: B}
    turned = {motor: flag != (motor in mend.reverse) for motor, flag in flags.items()}
    assert corexy(wiring, after, turned) == ("right", "back")
    good = not crossed and corexy(wiring, at, flags) == ("right", "back")
    assert mend.needed is not good


@pytest.mark.parametrize(
    ("saw_x", "saw_y", "words"),
    [
        ("right", "right", "contradict"),
        ("right", "left", "contradict"),
        ("diagonal", "back", "one of two motors"),
        ("right", "nothing", "nothing moved"),
        ("up", "back", "moved the Z axis"),
    ],
)
def test_answers_that_cannot_be_are_told(saw_x: str, saw_y: str, words: str) -> None:
    mend = corexy_mend(saw_x, saw_y, A, B, {A: False, B: False})
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
