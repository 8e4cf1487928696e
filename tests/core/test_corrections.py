"""A typed reading can be taken back: the one before is asked again, and the recipe counts with the new answer."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace
from typing import Any

from ublet.core.corrections import BACK, FormerReading, read_or_back
from ublet.core.questions import Measure, Question


def asked_with(answers: list[str], former: bool) -> tuple[str, list[str], list[tuple[str, tuple[str, ...]]]]:
    """The answer, what the former reading became, and what was asked with which words."""
    put: list[str] = []
    asked: list[tuple[str, tuple[str, ...]]] = []

    async def ask(question: Question) -> str:
        asked.append((question.text, question.answers))
        return question.taken(answers.pop(0))

    bench: Any = SimpleNamespace(builder=SimpleNamespace(ask=ask))
    one, two = Measure("How far at the left?", (), unit="mm"), Measure("How far at the right?", ("stop",), unit="mm")
    answer = asyncio.run(read_or_back(bench, two, FormerReading(one, put.append) if former else None))
    return answer, put, asked


def test_back_asks_the_reading_before_once_more() -> None:
    answer, put, asked = asked_with([BACK, "12.5", "13"], former=True)
    assert (answer, put) == ("13", ["12.5"])
    assert [text for text, _ in asked] == [
        "How far at the right?",
        "The reading before, once more: How far at the left?",
        "How far at the right?",
    ]
    assert asked[0][1] == ("stop", BACK)


def test_the_first_reading_has_nothing_before_it() -> None:
    answer, put, asked = asked_with(["13"], former=False)
    assert (answer, put) == ("13", []) and asked == [("How far at the right?", ("stop",))]
