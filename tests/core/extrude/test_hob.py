"""What pushes of filament tell, against lengths that are known."""

from __future__ import annotations

import math

import pytest

from ublet.core.extrude.hob import (
    FeedTests,
    HobDrive,
    cause_of,
    falls_short,
    judge_filament,
    load_matters,
    looks_short,
    slip_u_mm,
    slips_fast,
    words_of,
    wrong_part,
)
from ublet.core.motion.measuring import length_of

GEARED = HobDrive(3.0, 11.0, 16, 1.8, 0.7)
STRAIGHT = HobDrive(1.0, 10.6, 16, 1.8, 0.3)


def test_a_mark_and_its_reading_are_two_placings_and_one_common_error() -> None:
    length = length_of([100.0, 100.0, 100.0], "rule", placings=2)
    assert length.uncertainty_mm == pytest.approx(math.sqrt(0.3**2 / 3 + 2 * 0.3**2 / 3 / 3))
    assert length_of([100.0], "rule").uncertainty_mm == pytest.approx(math.sqrt(2 * 0.3**2 / 3))


def test_measured_steps_are_told_times_commanded_over_what_went_in() -> None:
    judged = judge_filament(277.8, 277.8, 100.0, length_of([98.5, 98.4, 98.6], "rule", 2), 0.0, GEARED)
    assert judged.kind == "off" and judged.proposed == pytest.approx(277.8 / 0.985)
    assert judged.uncertainty == pytest.approx(277.8 / 0.985 * 0.2236 / 98.5, rel=1e-3)
    left = judge_filament(277.8, 290.0, 100.0, length_of([99.8, 100.2, 100.0], "rule", 2), 0.0, GEARED)
    assert left.good and left.proposed is None and "leave it" in left.words
    geometry = judge_filament(290.0, 277.8, 100.0, length_of([104.4, 104.5, 104.3], "rule", 2), 0.0, GEARED)
    assert geometry.proposed == 277.8


@pytest.mark.parametrize(
    ("ratio", "drive", "words"),
    [
        (0.51, GEARED, "32 microsteps, not 16 or the motor has a full step of 0.9°"),
        (1.95, GEARED, "8 microsteps, not 16"),
        (2.95, GEARED, "there is no gear"),
        (0.335, STRAIGHT, "a gear of 3 : 1, and none is declared"),
        (0.205, STRAIGHT, "a gear of 5 : 1"),
        (1.2, STRAIGHT, ""),
    ],
)
def test_ratios_of_common_parts_name_them(ratio: float, drive: HobDrive, words: str) -> None:
    assert words in wrong_part(ratio, drive) and bool(words) == bool(wrong_part(ratio, drive))


def test_what_slips_when_fast_widens_what_the_slow_reading_claims() -> None:
    slow, fast = length_of([99.0, 99.0, 99.0], "rule", 2), length_of([91.0, 91.0], "rule", 2)
    fraction, fraction_u = falls_short(slow, fast)
    assert fraction == pytest.approx(8 / 99) and 0.0025 < fraction_u < 0.01 and slips_fast(slow, fast)
    assert slip_u_mm(slow, fast) == pytest.approx(8 / 2 / math.sqrt(3)) and slip_u_mm(fast, slow) == 0.0
    plain, wide = (
        judge_filament(277.8, 277.8, 100.0, slow, mm, GEARED).uncertainty for mm in (0.0, slip_u_mm(slow, fast))
    )
    assert wide > 5 * plain and not slips_fast(slow, length_of([97.0, 97.0], "rule", 2)) and not slips_fast(slow, None)


def test_the_load_is_told_from_a_wrong_part_by_pushing_slower() -> None:
    half = length_of([50.0, 50.2, 49.9], "rule", 2)
    assert looks_short(half, 100.0) and not looks_short(length_of([98.0, 98.0], "rule", 2), 100.0)
    assert not load_matters(half, 100.0, length_of([25.1], "rule", 2), 50.0)
    assert load_matters(half, 100.0, length_of([41.0], "rule", 2), 50.0)


@pytest.mark.parametrize(
    ("tried", "when_slow", "drive", "cause"),
    [
        (FeedTests(0.6, 1.0, 0.99, 0.6), True, STRAIGHT, "current"),
        (FeedTests(0.6, 1.0, 0.99, 1.05), True, GEARED, "blocked"),
        (FeedTests(0.6, 1.0, 0.61, 1.05, 0.95), True, GEARED, "blocked"),
        (FeedTests(0.6, 1.0, 0.61, 1.05, 0.63), True, GEARED, "grip"),
        (FeedTests(0.0, 1.0, 0.0, 1.05, 0.0), True, GEARED, "nothing"),
        (FeedTests(0.88, 0.99, 0.89, 1.05), False, GEARED, "fast"),
        (FeedTests(0.88, 0.99, 0.985, 1.05), False, GEARED, "current"),
    ],
)
def test_what_brings_it_back_is_the_cause(tried: FeedTests, when_slow: bool, drive: HobDrive, cause: str) -> None:
    assert cause_of(tried, when_slow, drive) == cause
    words = words_of(cause_of(tried, when_slow, drive), tried, 1.5, 1.75)
    assert words[0].isupper() or (words[0].isdigit() and words.endswith("."))


def test_the_push_of_a_usual_motor_is_its_torque_over_the_hob() -> None:
    # 0.2 N·m/A, 0.7 A, three turns of the motor for one of a hob of 11 mm: 0.42 N·m on 5.5 mm
    assert GEARED.pushes_n == pytest.approx(0.42 / 0.0055)
