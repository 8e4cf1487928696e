"""Questions over a link: what an answer may not be is said and asked again, and ends nothing."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any, cast

import pytest

from tests.conftest import Onlooker, Rig, tern, tern_scenario, virtually
from ublet.core.bench import Bench, Clock, MotionAccess
from ublet.core.heat.hot_parts import hot_words
from ublet.core.observations import LookAtFans
from ublet.core.questions import Confirm, Jog, Measure, Question
from ublet.core.run import TrialFailed, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
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
    return LinkBuilder(cast(Any, answers), cast(MotionAccess, axis), cast(Clock, Now()), None)


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


def test_what_is_hot_is_said_by_its_reading_before_a_hand_comes_near(folder: Path) -> None:
    async def recipe(bench: Bench, aim: Part) -> TrialResult:
        await bench.heat.warm("hotend", 141.0)
        await bench.builder.ask(Confirm("Wipe the nozzle.", ("done",)))
        await bench.clock.rest(90.0)
        await bench.builder.ask(Confirm("Wipe the nozzle.", ("done",)))
        await bench.builder.ask(Question("Which fan turns?", ("none",), LookAtFans()))
        return TrialResult("proven", "")

    async def work() -> list[Question]:
        async with Rig(folder, tern_scenario(replaced={})) as rig:
            looks = Onlooker()
            spec = TrialSpec("test", "homing", "", Part, recipe, (), lambda m, a: "", lambda m, a, r: ())
            await rig.session.run(spec, Part(), looks)
            return looks.questions

    cold, hot, seen = virtually(work)
    assert cold.hot == "" and seen.hot == ""
    assert hot.hot.startswith("HOT: hotend 1") and "bed" not in hot.hot and hot.text == "Wipe the nozzle."


def test_a_part_without_a_reading_is_not_called_cold() -> None:
    read = {"hotend": 141.4, "bed": 49.0}
    assert hot_words(tern(), read.get) == "HOT: hotend 141 °C"
    assert "nobody knows how hot the hotend" in hot_words(tern(), {"bed": 20.0}.get)
    assert hot_words(tern(), {"hotend": 30.0, "bed": 50.0}.get) == ""
