"""Who answers a trial's questions where there is no app: a file of answers, or the builder at the terminal."""

from __future__ import annotations

import asyncio
import contextlib
import sys
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

from ublet.core.printable import printable
from ublet.core.questions import Live, Question
from ublet.core.remedy import StartAgain
from ublet.core.run import TrialFailed
from ublet.core.trouble import Trouble
from ublet.core.units import NotAQuantity


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


async def unused() -> str:
    """Controls that nobody uses: they stay open until what goes on has ended."""
    answer: str = await asyncio.get_running_loop().create_future()
    return answer


class Nobody:
    """Nobody is there: what asks ends."""

    async def answer(self, question: Question) -> str:
        """Nobody answers."""
        if isinstance(question, Live):
            return await unused()
        waits = " --set wait=true waits without asking;" if "wait" in question.answers else ""
        raise TrialFailed(
            f"{question.text} Nobody is there to answer:{waits} run it on a terminal, or give --answers FILE.",
            StartAgain("on a terminal, or with --answers FILE"),
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
        if isinstance(question, Live):
            return await self._use(question)
        if not self._left:
            raise TrialFailed(
                f"{question.text} {self._name} has no further answer ({question.allowed()}).",
                StartAgain("with an answer more in the file"),
            )
        number, line = self._left.pop(0)
        try:
            return question.taken(line)
        except NotAQuantity as error:
            raise TrialFailed(
                f"{question.text} {self._name}:{number}: {error}.", StartAgain("with the answer mended")
            ) from error

    async def _use(self, controls: Live) -> str:
        """The next line, if it uses one of the controls; otherwise they stay open, unused."""
        if self._left:
            with contextlib.suppress(NotAQuantity):
                used = controls.taken(self._left[0][1])
                self._left.pop(0)
                return used
        return await unused()

    async def undo(self, question: Question) -> bool:
        """A file has no hands."""
        return False


class TerminalBuilder:
    """The builder at the terminal: questions on standard error, answers from standard input.

    aside: what else writes there (a progress bar) rests meanwhile.
    """

    def __init__(self, aside: Callable[[], AbstractContextManager[None]]) -> None:
        self._aside = aside

    async def answer(self, question: Question) -> str:
        """Ask until there is an answer that is one."""
        with self._aside():
            if question.hot:
                print(f"\n!! {question.hot} !!", file=sys.stderr, end="")
            print(printable(f"\n{question.text}\n  {question.allowed()}", lines=True), file=sys.stderr)
            while True:
                print("> ", end="", file=sys.stderr, flush=True)
                try:
                    return question.taken(await _line())
                except NotAQuantity as error:
                    print(printable(f"  {error}"), file=sys.stderr)

    async def undo(self, question: Question) -> bool:
        """It is named in the result."""
        return False


def there_is_a_terminal() -> bool:
    """Whether somebody can be asked."""
    return sys.stdin.isatty() and sys.stderr.isatty()


async def _line() -> str:
    """A line from the terminal, without a thread that could not be left behind."""
    loop, got = asyncio.get_running_loop(), asyncio.get_running_loop().create_future()

    def readable() -> None:
        if not got.done():
            got.set_result(sys.stdin.readline())

    with _watching(loop, readable):
        line: str = await got
    if not line:
        raise TrialFailed(
            "The terminal was closed: nobody answers any more.", StartAgain("on a terminal that stays open")
        )
    return line


@contextlib.contextmanager
def _watching(loop: asyncio.AbstractEventLoop, readable: Callable[[], None]) -> Iterator[None]:
    loop.add_reader(sys.stdin.fileno(), readable)
    try:
        yield
    finally:
        loop.remove_reader(sys.stdin.fileno())
