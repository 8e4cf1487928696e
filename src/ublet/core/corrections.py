"""Typed readings with a way back: the reading before is asked again, and takes the place of what was typed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from ublet.core.bench import Bench
from ublet.core.questions import Measure

BACK = "back"
"""Typed instead of a reading: the one before was typed wrong."""


@dataclass(frozen=True)
class FormerReading:
    """A reading that was typed: its question, and what takes another answer to it."""

    question: Measure
    put: Callable[[str], None]


async def read_or_back(bench: Bench, question: Measure, former: FormerReading | None) -> str:
    """Ask for a reading; ``back`` asks the former one again first, where there is one."""
    if former is None:
        return await bench.builder.ask(question)
    with_back = replace(question, answers=(*question.answers, BACK))
    while (answer := await bench.builder.ask(with_back)) == BACK:
        text = f"The reading before, once more: {former.question.text}"
        former.put(await bench.builder.ask(replace(former.question, text=text)))
    return answer
