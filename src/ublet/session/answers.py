"""Who answers a trial's questions where there is no app: a file of answers, or the builder at the terminal."""

from __future__ import annotations

import asyncio
import contextlib
import sys
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

from ublet.core.motion.targets import parse_targets
from ublet.core.trial import Question, TrialFailed
from ublet.core.trouble import Trouble
from ublet.core.units import NotAQuantity, parse


class AnswersError(Trouble):
    """The file of answers cannot be read."""


class Answering(Protocol):
    """Whoever answers for the builder."""

    async def answer(self, question: Question) -> str:
        """The answer to a question.

        Raises:
            TrialFailed: there is none.
        """

    async def undo(self, question: Question) -> bool:
        """Do by hand what a trial left to be done, without being asked; whether it was done."""


class Nobody:
    """Nobody is there: what asks ends."""

    async def answer(self, question: Question) -> str:
        """Nobody answers."""
        waits = " --set wait=true waits without asking;" if "wait" in question.answers else ""
        raise TrialFailed(
            f"{question.text} Nobody is there to answer:{waits} run it on a terminal, or give --answers FILE."
        )

    async def undo(self, question: Question) -> bool:
        """Nobody is there."""
        return False


class AnswerFile:
    """One answer a line; empty lines and lines that start with # are passed over.

    Raises:
        AnswersError: it cannot be read.
    """

    def __init__(self, path: Path) -> None:
        self._name = str(path)
        try:
            text = path.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise AnswersError(f"--answers {path} cannot be read ({error}).") from error
        lines = enumerate(text.splitlines(), start=1)
        self._left = [(number, line.strip()) for number, line in lines if line.strip() and line.strip()[:1] != "#"]

    async def answer(self, question: Question) -> str:
        """The next line, if it answers the question."""
        if not self._left:
            raise TrialFailed(f"{question.text} {self._name} has no further answer ({allowed(question)}).")
        number, line = self._left.pop(0)
        try:
            return taken(question, line)
        except NotAQuantity as error:
            raise TrialFailed(f"{question.text} {self._name}:{number}: {error}.") from error

    async def undo(self, question: Question) -> bool:
        """A file has no hands."""
        return False


class Terminal:
    """The builder at the terminal: questions on standard error, answers from standard input.

    aside: what else writes there (a progress bar) rests meanwhile.
    """

    def __init__(self, aside: Callable[[], AbstractContextManager[None]]) -> None:
        self._aside = aside

    async def answer(self, question: Question) -> str:
        """Ask until there is an answer that is one."""
        with self._aside():
            print(f"\n{question.text}\n  {allowed(question)}", file=sys.stderr)
            while True:
                print("> ", end="", file=sys.stderr, flush=True)
                try:
                    return taken(question, await _line())
                except NotAQuantity as error:
                    print(f"  {error}", file=sys.stderr)

    async def undo(self, question: Question) -> bool:
        """It is named in the result."""
        return False


def there_is_a_terminal() -> bool:
    """Whether somebody can be asked."""
    return sys.stdin.isatty() and sys.stderr.isatty()


def allowed(question: Question) -> str:
    """What can be answered, in words."""
    if question.unit:
        return f"type what is read, in {question.unit} or with another unit"
    told = ", ".join(f"{number} {answer}" for number, answer in enumerate(question.answers, start=1))
    moves = f"; or move {' and '.join(question.jog)}, for example {question.jog[0]}+0.5" if question.jog else ""
    return f"{told}{moves}"


def taken(question: Question, text: str) -> str:
    """What was typed as an answer: its number, its word or the beginning of it, a quantity, a move.

    Raises:
        NotAQuantity: it is none; the message says what would be.
    """
    text = text.strip()
    if question.unit:
        parse(text, question.unit)
        return text
    if text.isdigit() and 0 < int(text) <= len(question.answers):
        return question.answers[int(text) - 1]
    begun = [answer for answer in question.answers if text and answer.lower().startswith(text.lower())]
    exact = [answer for answer in begun if answer.lower() == text.lower()]
    if len(exact or begun) == 1:
        return (exact or begun)[0]
    if question.jog and text:
        targets = parse_targets(text, question.jog[0], dict.fromkeys(question.jog, 0.0))
        if all(target.axis in question.jog for target in targets):
            return text
    raise NotAQuantity(f"“{text}” is no answer; allowed: {allowed(question)}")


async def _line() -> str:
    """A line from the terminal, without a thread that could not be left behind."""
    loop, got = asyncio.get_running_loop(), asyncio.get_running_loop().create_future()

    def readable() -> None:
        if not got.done():
            got.set_result(sys.stdin.readline())

    with _watching(loop, readable):
        line: str = await got
    if not line:
        raise TrialFailed("The terminal was closed: nobody answers any more.")
    return line


@contextlib.contextmanager
def _watching(loop: asyncio.AbstractEventLoop, readable: Callable[[], None]) -> Iterator[None]:
    loop.add_reader(sys.stdin.fileno(), readable)
    try:
        yield
    finally:
        loop.remove_reader(sys.stdin.fileno())
