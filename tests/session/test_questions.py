"""Questions over a link: what an answer may not be is said and asked again, and ends nothing."""

from __future__ import annotations

import asyncio
from typing import Any, cast

import pytest

from ublet.core.bench import Clock, Motion
from ublet.core.questions import Jog, Measure, Question
from ublet.core.run import TrialFailed
from ublet.link.errors import BoardRefused
from ublet.session.bench.builder import LinkBuilder


class Answers:
    """Gives these answers in turn, and remembers what was asked; the last one again and again."""

    def __init__(self, *answers: str) -> None:
        self.answers, self.asked = list(answers), list[str]()

    async def answer(self, question: Question) -> str:
        self.asked.append(question.text)
        return self.answers.pop(0) if len(self.answers) > 1 else self.answers[0]


class Axis:
    """Z at 5 mm, homed; the board refuses with this code what ends below 0."""

    def __init__(self, code: int = 3) -> None:
        self.z_mm, self.code = 5.0, code

    def position(self, axis: str) -> float:
        return self.z_mm

    async def move(self, axis: str, mm: float, speed_mm_s: float) -> float:
        if self.z_mm + mm < 0:
            raise BoardRefused(self.code, f"Z stands at {self.z_mm:.2f} mm: allowed 0 to 170 mm")
        self.z_mm += mm
        return speed_mm_s


class Now:
    def now_s(self) -> float:
        return 0.0


def builder(answers: Answers, axis: Axis) -> LinkBuilder:
    return LinkBuilder(cast(Any, answers), cast(Motion, axis), cast(Clock, Now()), None)


JOG = Jog("Lower Z.", ("done", "stop"), axes=("z",), steps=(1.0, 0.1))


def test_a_jog_that_the_board_refuses_is_said_and_asked_again() -> None:
    answers, axis = Answers("z-20", "q-1", "z-2", "done"), Axis()
    jogged = asyncio.run(builder(answers, axis).jog(JOG, 2.0))
    assert (jogged.answer, jogged.position) == ("done", {"z": 3.0})
    assert "Not moved: Z stands at 5.00 mm" in answers.asked[1] and answers.asked[1].endswith("Lower Z.")
    assert "q-1" in answers.asked[2] and answers.asked[-1] == "Lower Z."


def test_a_halt_ends_a_jog() -> None:
    with pytest.raises(BoardRefused):
        asyncio.run(builder(Answers("z-20"), Axis(code=1)).jog(JOG, 2.0))


def test_a_reading_that_cannot_be_is_asked_again() -> None:
    asked = Measure("How much is left?", ("gone",), unit="mm", lowest=0.0, highest=120.0)
    answers = Answers("12 kg", "-3", "13 cm", "11.94cm")
    assert asyncio.run(builder(answers, Axis()).measure(asked)) == pytest.approx(119.4)
    assert "130 mm cannot be read here" in answers.asked[3] and "from 0 mm to 120 mm" in answers.asked[3]
    assert "gone" in asked.allowed() and asked.taken("g") == "gone"


def test_who_never_answers_ends_it_after_a_while() -> None:
    with pytest.raises(TrialFailed, match="cannot be read here"):
        asyncio.run(builder(Answers("-1"), Axis()).measure(Measure("Read it.", unit="mm", lowest=0.0)))
