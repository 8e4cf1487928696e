"""Typed targets, travel from marks, capped speeds, and the search for a limit."""

from __future__ import annotations

import asyncio
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.motion.caps import capped
from ublet.core.motion.limits import Bracket, highest, lowest, tidy, tolerance_mm
from ublet.core.motion.targets import Target, parse_targets
from ublet.core.motion.travel_trials import bed_reached, reach_of
from ublet.core.units import NotAQuantity

HERE = {"x": 100.0, "y": -2.0, "z": None}


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("x120", [("x", 20)]),
        ("X 120mm", [("x", 20)]),
        ("+5", [("y", 5)]),
        ("-5thou", [("y", -0.127)]),
        ("y-3 z+0.5", [("y", -3), ("z", 0.5)]),
        ("y=-3", [("y", -1)]),
        ("x120y40", [("x", 20), ("y", 42)]),
        ("x120 x+5 x100", [("x", 20), ("x", 5), ("x", -25)]),
        ("7", [("y", 9)]),
        ("x1,5cm", [("x", -85)]),
    ],
)
def test_targets_are_read(text: str, found: list[tuple[str, float]]) -> None:
    targets = parse_targets(text, "y", HERE)
    assert [(t.axis, pytest.approx(t.by_mm)) for t in targets] == found
    assert all(isinstance(target, Target) for target in targets)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "is no target"),
        ("north", "is no target"),
        ("x", "is no target"),
        ("x1..2", "does not fit here"),
        ("x5kg", "unit “kg” does not fit"),
        ("z10", "Z is not homed: home it first"),
        ("q5", "is no target"),
        ("x5;y3", "is no target"),
    ],
)
def test_what_cannot_be_read_is_said(text: str, words: str) -> None:
    with pytest.raises(NotAQuantity, match=words):
        parse_targets(text, "x", HERE)


@given(st.text(max_size=30))
def test_no_text_breaks_it(text: str) -> None:
    try:
        targets = parse_targets(text, "x", HERE)
    except NotAQuantity:
        return
    assert all(math.isfinite(target.by_mm) for target in targets)


def test_limits_follow_the_marks() -> None:
    # the switch stands 1.2 mm further out than declared: the board counts 1.2 over the bed's corner
    low = reach_of(-4, 286, True, 1.2, 287.2)
    assert (low.low, low.high, low.shift_mm) == (-5.2, 285.5, 1.2)
    # homed at the high end, the front edge marked at -7.05
    high = reach_of(-12, 262, False, 0.3, -7.05)
    assert (high.low, high.high) == (-6.8, 261.7)
    assert bed_reached(-5, 285, 280) == 280 and bed_reached(12, 270, 280) == 258 and bed_reached(-9, -2, 280) == 0


@given(
    st.floats(-10, 0), st.floats(100, 300), st.booleans(), st.floats(-5, 5).map(lambda v: round(v, 2)), st.floats(0, 5)
)
def test_the_far_limit_always_lies_inside_the_mark(
    low: float, high: float, homes_low: bool, corner: float, short: float
) -> None:
    edge = high - short if homes_low else low + short
    reach = reach_of(low, high, homes_low, corner, edge)
    assert reach.high <= edge - corner - 0.39 if homes_low else reach.low >= edge - corner + 0.39


def test_the_lowest_cap_counts_and_is_named() -> None:
    assert capped(40, {"a": 60.0, "b": 50.0}).words == "40 mm/s"
    assert capped(40, {"a": 6.0, "b": 50.0}).words == "6 mm/s (not 40: a)"
    assert capped(40, {}).mm_s == 40


@given(st.floats(1, 1000), st.floats(0.2, 5))
def test_a_limit_is_bracketed(limit: float, declared_share: float) -> None:
    tried: list[float] = []

    async def up(value: float) -> bool:
        tried.append(value)
        return value <= limit

    async def down(value: float) -> bool:
        tried.append(value)
        return value >= limit

    start = limit * declared_share
    for found in (
        asyncio.run(highest(up, start, 100 * limit, limit / 100)),
        asyncio.run(lowest(down, start, limit / 100, 100 * limit)),
    ):
        assert found.holds is not None and found.fails is not None and found.limit is not None
        assert min(found.holds, found.fails) <= limit * (1 + 1e-9) and max(found.holds, found.fails) >= limit * (
            1 - 1e-9
        )
        assert abs(found.holds - found.fails) <= 0.13 * max(found.holds, found.fails)
        assert found.uncertainty == pytest.approx(abs(found.holds - found.fails) / math.sqrt(12))
    assert len(tried) < 40


def test_what_always_holds_or_never_has_an_open_end() -> None:
    async def always(value: float) -> bool:
        return True

    async def never(value: float) -> bool:
        return False

    assert asyncio.run(highest(always, 100, 200, 10)) == Bracket(200, None)
    assert asyncio.run(lowest(always, 1, 0.1, 2)) == Bracket(0.1, None)
    assert asyncio.run(highest(never, 100, 200, 10)).holds is None


def test_tidy_values_stay_on_the_safe_side() -> None:
    assert (tidy(279.9, down=True), tidy(0.551, down=False), tidy(8000, down=True)) == (270, 0.56, 8000)
    assert tolerance_mm(0.2, 0.01) == 0.4 and tolerance_mm(0.01, 0.02) == 0.12
