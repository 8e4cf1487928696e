"""Checks of conformance: the shipped board keeps every clause, and wrong boards are told apart by what they break."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import tern, tern_scenario, virtually
from ublet.firmware.clock import keep_time
from ublet.firmware.programs import Programs
from ublet.link.conformance import CLAUSES, ClauseVerdict, conform
from ublet.link.frames import HALT_BYTE
from ublet.link.transport import memory_pair
from ublet.simulated import SimulatedMachine

TOP = Path(__file__).parents[2]


async def tried(wrong: Callable[[SimulatedMachine], None] = lambda machine: None) -> list[ClauseVerdict]:
    """The verdicts on the shipped board, or on one that was made wrong."""
    loop = asyncio.get_running_loop()
    machine = SimulatedMachine(tern_scenario(replaced={"[link]\nbaud = 250000\n": ""}), tern(), loop.time)
    wrong(machine)
    clock = loop.create_task(keep_time(machine.service, 1.0))
    ours, theirs = memory_pair()
    theirs.received, machine.service.send = machine.service.received, theirs.write
    try:
        return await conform(ours)
    finally:
        clock.cancel()


def test_the_shipped_board_keeps_every_clause() -> None:
    verdicts = virtually(tried)
    assert [(each.clause, each.why) for each in verdicts if not each.holds] == []
    numbers = [each.number for each in CLAUSES]
    assert len(numbers) == len(set(numbers)) == len(verdicts) >= 25


def twice(machine: SimulatedMachine) -> None:
    """Does a repeated request again."""
    machine.service.replies.popitem = lambda last=True: (None, b"")  # type: ignore[method-assign,assignment]
    honest = machine.service.reply_to

    def reply(number: Any, method: str, work: Any, anew: bool = False) -> None:
        machine.service.replies.clear()
        honest(number, method, work, anew)

    machine.service.reply_to = reply  # type: ignore[method-assign]


def half(machine: SimulatedMachine) -> None:
    """Writes what it can of a request, and refuses the rest."""
    honest = machine.board.write

    def write(values: Any) -> None:
        for path, value in values.items():
            honest({path: value})

    machine.board.write = write  # type: ignore[method-assign]


def forgetful(machine: SimulatedMachine) -> None:
    """Leaves every third sample out."""
    honest = machine.board.since
    machine.board.since = lambda start, end: [row for row in honest(start, end) if (row[0] or 0) % 3]  # type: ignore[method-assign]


def unhearing(machine: SimulatedMachine) -> None:
    """Any heartbeat will do."""
    honest = machine.service.answer

    def answer(message: Any) -> None:
        if isinstance(message, dict) and message.get("method") == "heartbeat":
            machine.board.note_host()
        honest(message)

    machine.service.answer = answer  # type: ignore[method-assign]


def disorderly(machine: SimulatedMachine) -> None:
    """Takes segments in whatever order they come."""
    programs: Programs = machine.board.mover.programs
    honest = programs.add

    def add(name: str, at: int, segments: Any, last: bool, begin: Any, park: Any = None) -> Any:
        return honest(name, programs.run.taken if programs.run else 0, segments, last, begin, park)

    programs.add = add  # type: ignore[method-assign]


def mute(machine: SimulatedMachine) -> None:
    """Tells no event."""
    machine.board.events.listener = lambda event: None


def eager(machine: SimulatedMachine) -> None:
    """Sends blocks of a stream whether the host has given credit or not."""
    honest = machine.board.streams.due

    def due() -> Any:
        if (stream := machine.board.streams._open) is not None:
            stream.upto = stream.blocks
        return honest()

    machine.board.streams.due = due  # type: ignore[method-assign]


def overtaking(machine: SimulatedMachine) -> None:
    """Halts at the byte, and then does what came before it."""
    honest = machine.service.take

    def take(data: bytes) -> None:
        if HALT_BYTE in data:
            machine.board.halt()
        honest(data.replace(HALT_BYTE, b""))

    machine.service._arriving._deliver = take  # type: ignore[method-assign]


@pytest.mark.parametrize(
    ("wrong", "broken"),
    [
        (twice, {"2.1"}),
        (half, {"4.2"}),
        (forgetful, {"5.1"}),
        (unhearing, {"9.2"}),
        (overtaking, {"9.3"}),
        (disorderly, {"7.1"}),
        (mute, {"6.1", "6.2", "6.4", "7.2", "7.5", "7.6", "11.3"}),
        (eager, {"11.1", "11.3"}),
    ],
    ids=lambda each: getattr(each, "__name__", ""),
)
def test_a_wrong_board_is_told_apart_by_the_clauses_that_it_breaks(
    wrong: Callable[[SimulatedMachine], None], broken: set[str]
) -> None:
    verdicts = virtually(lambda: tried(wrong))
    assert {each.clause for each in verdicts if each.holds is False} == broken
    assert all(each.why for each in verdicts if not each.holds)


def test_every_clause_stands_in_the_document() -> None:
    text = (TOP / "docs" / "conformance.md").read_text(encoding="utf-8")
    assert all(f"| {each.number} | {each.words} |" in text for each in CLAUSES)
