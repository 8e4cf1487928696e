"""Typed quantities: units, echoes, refusals."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.units import NotAQuantity, duration, parse, show, with_uncertainty


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("0.13mm", "mm", 0.13),
        ("5thou", "mm", 0.127),
        ("1.5m/min", "mm/s", 25.0),
        ("1,5 cm", "mm", 15.0),
        ("4.7k", "Ω", 4700.0),
        ("215", "°C", 215.0),
        ("215 °C", "°C", 215.0),
        ("50 %", "duty", 0.5),
        ("14 %/°C", "/°C", 0.14),
        ("-3e-2", "mm", -0.03),
        ("2 min", "s", 120.0),
    ],
)
def test_units_are_converted(text: str, unit: str, value: float) -> None:
    assert parse(text, unit) == pytest.approx(value, rel=1e-12)


@pytest.mark.parametrize(
    ("text", "unit", "word"),
    [("abc", "mm", "not a number"), ("5 kg", "mm", "allowed: mm"), ("1e400", "mm", "too large"), ("", "°C", "not a")],
)
def test_what_is_no_quantity_is_refused_with_a_sentence(text: str, unit: str, word: str) -> None:
    with pytest.raises(NotAQuantity, match=word):
        parse(text, unit)


@given(st.text(max_size=20), st.sampled_from(["mm", "°C", "Ω", "", "duty", "nonsense"]))
def test_any_text_is_a_finite_number_or_refused(text: str, unit: str) -> None:
    try:
        assert math.isfinite(parse(text, unit))
    except NotAQuantity as error:
        assert str(error)


@given(st.floats(1e-5, 1e6))
def test_shown_numbers_read_back(value: float) -> None:
    assert parse(show(value, "mm", 6), "mm") == pytest.approx(value, rel=1e-5)


def test_uncertainty_decides_the_digits() -> None:
    assert with_uncertainty(544.009, 0.095, "°C") == "544.01 ±0.19 °C"
    assert with_uncertainty(80.0, 0.02) == "80.00 ±0.04", "two standard uncertainties"
    assert with_uncertainty(205.1, 0.0, "s") == "205.1 s"


def test_durations_in_words() -> None:
    assert [duration(s) for s in (45, 60, 110, 7500)] == ["45 s", "1 min", "1 min 50 s", "2 h 5 min"]
