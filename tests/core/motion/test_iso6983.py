"""Programs as ISO 6983 text, read back: places, filament, feeds; and what has no standard word."""

from __future__ import annotations

import re

import pytest

from tests.conftest import tern
from ublet.core.machine.program_parts import ProgramText
from ublet.core.motion.iso6983 import iso6983
from ublet.core.motion.patterns import square
from ublet.core.motion.program import Dwell, Lift, ProbeMove, Program, Push, To, Warm

WORD = re.compile(r"([A-Z])(-?\d+(?:\.\d+)?)")


def read(text: str) -> list[dict[str, float]]:
    """The words of every line that has some."""
    lines = [re.sub(r"\([^()]*\)", "", line) for line in text.splitlines()]
    return [{letter: float(number) for letter, number in WORD.findall(line)} for line in lines if WORD.search(line)]


def test_the_square_comes_back_as_it_was_made() -> None:
    program = square(tern())
    lines = [line for line in read(iso6983(program, ProgramText().own())) if line["G"] in (0, 1)]
    moves = [each for each in program.segments if isinstance(each, (To, Push))]
    assert len(lines) == len(moves)
    pushed, feed = 0.0, 0.0
    for line, move in zip(lines, moves, strict=True):
        feed = line.get("F", feed)
        assert feed == pytest.approx(60 * move.mm_s)
        assert line["G"] == (1 if move.filament else 0)
        pushed += move.filament
        if move.filament:
            assert line["E"] == pytest.approx(pushed, abs=1e-4)
        if isinstance(move, To):
            assert {axis: line[axis.upper()] for axis in move.at} == pytest.approx(dict(move.at), abs=1e-4)


def test_only_standard_words_and_the_builders_own_lines_are_written() -> None:
    everything = Program(
        "all (of it)",
        (
            To({"x": 1.5, "y": -0.00001}, 50, 0.2, "here"),
            Push(-0.8, 30),
            Dwell(0.25),
            Warm("hotend"),
            ProbeMove({"z": 0}, 2),
            Lift({"axes.z.motors.left": 0.05}, 1),
        ),
    )
    own = {"begin": "fan on", "warm": "hold {heater}", "end": "park\noff", "filament": ""}
    text = iso6983(everything, own)
    assert text.splitlines() == [
        "(all [of it])",
        "fan on",
        "G90 (absolute places, mm)",
        "(here)",
        "G1 X1.5 Y0 F3000",
        "(-0.800 mm of filament: no word for it is declared)",
        "G4 P0.25 (s)",
        "hold hotend",
        "(touch towards Z0: no standard word)",
        "(single motors axes.z.motors.left +0.050 mm: no standard word)",
        "park",
        "off",
    ]
    assert "(wait for the hotend)" in iso6983(everything, {})
