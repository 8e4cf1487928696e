"""Texts of ISO 6983 are read as they stand: known lengths, places and complaints."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.motion.print_text import CHORD_MM, OwnWord, PrintReader, PrintText, TooMany


def read(text: str, **how: object) -> PrintText:
    return PrintReader(**how).read(line.encode("latin-1") for line in text.splitlines())  # type: ignore[arg-type]


def complaints(text: str, **how: object) -> list[tuple[int, str]]:
    return [(problem.line, problem.text) for problem in read(text, **how).problems]


def test_places_filament_and_feeds_of_plain_lines() -> None:
    moves = read("G21 G90\nF1200\nG0 X10 Y20 Z5\nG1 X40 E1.5 F600\nG1 Y60 E4 ; comment X9\n(X1) G1 E3.2 F1800").moves
    assert moves.end_mm.tolist() == [[10, 20, 5], [40, 20, 5], [40, 60, 5], [40, 60, 5]]
    assert np.allclose(moves.filament_mm, [0, 1.5, 2.5, -0.8])
    assert moves.feed_mm_s.tolist() == [20, 10, 10, 30] and moves.line.tolist() == [3, 4, 5, 6]
    assert np.allclose(moves.travel_mm((0, 0, 0))[1], [30, 0, 0, 1.5])


def test_modes_hold_until_another_one() -> None:
    text = read("F60\nG20 G91 G1 X1 E0.1\nY-1\nG21\nG1 X2\nG90\nX0 Y0")
    assert np.allclose(text.moves.end_mm[:, :2], [[25.4, 0], [25.4, -25.4], [27.4, -25.4], [0, 0]])
    assert text.moves.filament_mm[0] == pytest.approx(2.54) and not text.problems
    preset = read("F60\nG1 X10 E5\nG92 X0 E0\nG1 X10 E1")
    assert preset.moves.end_mm[-1, 0] == 20 and preset.moves.filament_mm.tolist() == [5, 1]


def test_words_without_spaces_and_line_numbers_are_the_same() -> None:
    spaced, joined = read("F60\nN10 G1 X1.5 Y-2 E.5"), read("F60\nN10G1X1.5Y-2E.5*71")
    assert np.array_equal(spaced.moves.end_mm, joined.moves.end_mm) and joined.moves.filament_mm.tolist() == [0.5]
    assert not joined.problems and not joined.left_out
    small = read("F60\nG1 X1E5\ng1 x2 e1e-05\nG1 X3 E2e+1").moves
    assert small.end_mm[:, 0].tolist() == [1, 2, 3] and np.allclose(
        np.cumsum(small.filament_mm), [5, 1e-5, 20], atol=1e-6
    )


@pytest.mark.parametrize(
    ("line", "length_mm"),
    [
        ("G3 X0 Y10 I-10 J0", math.pi / 2 * 10),  # a quarter to the left about the origin
        ("G2 X0 Y10 I-10 J0", 3 * math.pi / 2 * 10),  # the other way round
        ("G3 X10 Y0 I-10", 2 * math.pi * 10),  # all round
        ("G3 X0 Y10 R10", math.pi / 2 * 10),
        ("G3 X0 Y10 R-10", 3 * math.pi / 2 * 10),
    ],
)
def test_curves_are_followed_within_their_chords(line: str, length_mm: float) -> None:
    moves = read(f"F600\nG0 X10 Y0\n{line} E2").moves
    ways = moves.travel_mm((0, 0, 0))[1:]
    assert np.hypot(ways[:, 0], ways[:, 1]).sum() == pytest.approx(length_mm, rel=2e-3)
    assert moves.filament_mm.sum() == pytest.approx(2, abs=1e-5)
    middles = (moves.end_mm[1:, :2] + moves.end_mm[:-1, :2]) / 2
    if "R" not in line:
        assert np.all(np.abs(np.hypot(*middles.T) - 10) <= CHORD_MM * 1.1)


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("F60\nG1 X1\nG1 X10 Y", 3, "Y has no number: the line is cut off"),
        ("F60\nG1 Xnan", 2, "is no word with a number"),
        ("F60\nG2 X5 Y5", 2, "without a centre"),
        ("F60\nG0 X0\nG3 X50 R10", 3, "does not reach"),
        ("F60\nG0 X10 Y0\nG3 X0 Y20 I-10 J0", 3, "mm from its centre"),
        ("G1 X5", 1, "no feed (F) was given"),
        ("F60\nX5", 2, "before any of G0 to G3"),
        ("F0", 1, "a feed is above 0"),
        ("G18", 1, "plane of X and Y only"),
    ],
)
def test_what_is_wrong_is_named_by_its_line(text: str, line: int, words: str) -> None:
    found = complaints(text)
    assert found and found[0][0] == line and words in found[0][1], found


def test_words_that_the_standard_does_not_have_are_counted_and_left_out() -> None:
    text = read("F60\nM77 S3\nM77 S4\nT1\nG28 X Y\nHELLO A=1\nG1 X5 A3\nM30\nG1 X9")
    assert text.left_out == {"M77": 2, "T1": 1, "G28": 1, "HELLO": 1, "A": 1}
    assert len(text.moves) == 1 and text.lines == 9 and not text.problems, "nothing is read behind the end"


def test_the_builders_own_words_do_what_the_table_says() -> None:
    own = (
        OwnWord("WARM TIP", "nozzle and wait", "T"),
        OwnWord("M7", "fan", "S", 1 / 255),
        OwnWord("COUNT ON", "filament from the last"),
    )
    text = read("F60\nWARM TIP T215\nCOUNT ON\nG1 X1 E0.5\nG1 X2 E0.5\nM7 S255\nM71\nM7", own=own)
    assert text.moves.filament_mm.tolist() == [0.5, 0.5]
    assert [(action.move, action.does, action.value) for action in text.actions] == [
        (0, "nozzle and wait", 215.0),
        (2, "fan", 1.0),
    ]
    assert text.left_out == {"M71": 1} and text.problems[0].text == "M7 has no S with a number"


def test_dwells_by_the_unit_that_is_declared_and_no_more_moves_than_are_kept(monkeypatch: pytest.MonkeyPatch) -> None:
    moves = read("F60\nG4 P500\nG1 X1", dwell_s=0.001).moves
    assert moves.dwells.tolist() == [True, False] and moves.feed_mm_s[0] == 0.5
    monkeypatch.setattr("ublet.core.motion.print_text.MOST_MOVES", 3)
    with pytest.raises(TooMany, match="by line 5"):
        read("F60\nG1 X1\nX2\nX3\nX4")


@given(st.binary(max_size=400))
def test_any_bytes_are_read_to_their_end(data: bytes) -> None:
    lines = data.split(b"\n")
    text = PrintReader().read(lines)
    assert (
        text.lines == len(lines) and np.isfinite(text.moves.end_mm).all() and np.isfinite(text.moves.filament_mm).all()
    )
