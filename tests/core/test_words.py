"""Names in a row, and one or several of something."""

from __future__ import annotations

import pytest

from ublet.core.units import spelt_out
from ublet.core.words import counted, several


@pytest.mark.parametrize(
    ("names", "words"), [([], ""), (["X"], "X"), (["X", "Y"], "X and Y"), (["X", "Y", "Z"], "X, Y and Z")]
)
def test_names_in_a_row(names: list[str], words: str) -> None:
    assert several(names) == words


def test_one_is_not_several() -> None:
    assert [counted(count, "edit") for count in (0, 1, 2)] == ["0 edits", "1 edit", "2 edits"]


@pytest.mark.parametrize(
    ("typed", "unit", "bare", "meant"),
    [
        ("5", "mm", "thou", "5 thou"),
        (" -0.5 ", "mm", "in", "-0.5 in"),
        ("5mm", "mm", "in", "5mm"),  # a unit that was typed stands
        ("5", "mm", "mm", "5"),
        ("5", "mm/s", "in", "5"),  # inches are no speed
        ("215", "°C", "thou", "215"),
        ("five", "mm", "in", "five"),  # what is no number is told as it was typed
        ("", "mm", "in", ""),
    ],
)
def test_a_bare_length_is_meant_in_the_builders_unit(typed: str, unit: str, bare: str, meant: str) -> None:
    assert spelt_out(typed, unit, bare) == meant
