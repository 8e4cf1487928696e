"""Patterns write and read the same line; what could be read in two ways, or for ever, is refused."""

from __future__ import annotations

import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.dialect.pattern import DialectWords, FieldKind, LinePatternError, Pattern

KINDS = {
    "heater": FieldKind.PART,
    "axis": FieldKind.PART,
    "celsius": FieldKind.NUMBER,
    "mm": FieldKind.NUMBER,
    "n": FieldKind.WHOLE,
    "on": FieldKind.FLAG,
    "word": FieldKind.WORD,
    "why": FieldKind.TEXT,
}
WORDS = DialectWords({"heater": {"hotend": "A", "bed": "B"}, "axis": {"x": "X", "z": "Z"}}, "yes", "no")


def pattern(source: str, words: DialectWords = WORDS) -> Pattern:
    return Pattern(source, KINDS, words)


def test_one_text_writes_a_line_and_reads_it_back() -> None:
    hold = pattern("hold {heater} at {celsius:.1f}")
    assert hold.write({"heater": "hotend", "celsius": 60.04}) == "hold A at 60.0"
    assert hold.read("hold A at 60.0") == {"heater": "hotend", "celsius": 60.0}
    assert hold.read("hold A at 60.0 ") is None and hold.read("hold C at 60.0") is None
    assert hold.read("hold A at nan") is None and hold.read("hold A at 1e999") is None


def test_units_words_for_nothing_flags_and_braces() -> None:
    microns = pattern("at {mm*1000:d} {on}")
    assert microns.write({"mm": 1.2345, "on": True}) == "at 1234 yes"
    assert microns.read("at 1234 no") == {"mm": 1.234, "on": False}
    target = pattern("wants {celsius|nothing}")
    assert target.write({"celsius": None}) == "wants nothing"
    assert target.read("wants nothing") == {"celsius": None} and target.read("wants 60") == {"celsius": 60.0}
    assert pattern("{{{word}}} {why}").read("{a} b c") == {"word": "a", "why": "b c"}
    minutes = pattern("for {celsius/60}")
    assert minutes.read("for 2") == {"celsius": 120.0} and minutes.write({"celsius": 90.0}) == "for 1.5"


def test_a_name_and_a_number_stand_together_where_the_names_are_known() -> None:
    move = pattern("G1 {axis}{mm:.3f}")
    assert move.write({"axis": "x", "mm": -2}) == "G1 X-2.000"
    assert move.read("G1 Z10.5") == {"axis": "z", "mm": 10.5}
    with pytest.raises(LinePatternError, match="nothing separates axis from mm"):
        pattern("G1 {axis}{mm}", DialectWords({}))
    with pytest.raises(LinePatternError, match="nothing separates"):
        pattern("G1 {axis}{mm}", DialectWords({"axis": {"x": "M1"}}))


@pytest.mark.parametrize(
    ("source", "why"),
    [
        ("{celsius}{mm}", "nothing separates|word that stands for itself"),
        ("a {celsius}{n}", "nothing separates celsius from n"),
        ("a {why} b", "takes the rest of the line"),
        ("a {celsius}5", "which may belong to it"),
        ("a {nobody}", "no field “nobody” here; known: axis, celsius"),
        ("a {celsius", "not closed"),
        ("a celsius}", "not opened"),
        ("a {celsius*0}", "above 0"),
        ("a {word*2}", "only numbers have a factor"),
        ("a {celsius|no thing}", "one word is allowed"),
        ("a {Celsius}", "is no field"),
        ("a {celsius} {celsius}", "stands twice"),
        ("{celsius}", "word that stands for itself"),
        ("a" * 400, "longer than 300"),
    ],
)
def test_what_cannot_be_read_in_one_way_is_refused_with_the_way_out(source: str, why: str) -> None:
    with pytest.raises(LinePatternError, match=why):
        pattern(source)


def test_what_cannot_be_written_says_so() -> None:
    with pytest.raises(LinePatternError, match="no word for no celsius"):
        pattern("a {celsius}").write({"celsius": None})
    with pytest.raises(LinePatternError, match="is no number"):
        pattern("a {celsius}").write({"celsius": "warm"})
    with pytest.raises(LinePatternError, match="is no number"):
        pattern("a {celsius}").write({"celsius": float("inf")})


@given(st.floats(-1e6, 1e6), st.sampled_from(["hotend", "bed"]), st.booleans())
def test_whatever_is_written_is_read_back(celsius: float, heater: str, on: bool) -> None:
    line = pattern("set {heater}={celsius*10},{on};")
    read = line.read(line.write({"heater": heater, "celsius": celsius, "on": on}))
    assert read is not None and read["heater"] == heater and read["on"] is on
    assert read["celsius"] == pytest.approx(celsius, rel=1e-8, abs=1e-9)


@given(st.text(max_size=60))
def test_any_line_is_read_or_not_and_nothing_else_happens(line: str) -> None:
    values = pattern("{word}: {celsius|x}, {n} {on} {why}").read(line)
    assert values is None or set(values) == {"word", "celsius", "n", "on", "why"}


def test_a_hostile_line_takes_no_time() -> None:
    """What would let an expression with nested repeats run for ever."""
    began = time.perf_counter()
    for source in ("{word}: {celsius|x}, {n} {on} {why}", "a {celsius} b {mm} c {n}", "{word} {heater}={celsius}"):
        for line in ("a" * 20_000 + "!", "1" * 20_000 + ":", "a 1" + "0" * 20_000 + "e", ": " * 10_000):
            assert pattern(source, DialectWords({}, "yes", "no")).read(line) is None
    assert time.perf_counter() - began < 0.5
