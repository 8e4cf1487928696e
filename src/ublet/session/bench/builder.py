"""The builder, asked through whoever looks on; questions and answers go into the record."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Coroutine
from contextlib import asynccontextmanager
from dataclasses import replace
from typing import TypeVar

from ublet.core.bench import Clock, Jogged, MotionAccess
from ublet.core.heat.hot_parts import hot_words
from ublet.core.machine.schema import MachineFile
from ublet.core.questions import Jog, Judge, Live, Measure, Question
from ublet.core.remedy import StartAgain
from ublet.core.run import TrialFailed
from ublet.core.units import NotAQuantity, parse
from ublet.ledger.recording import Recorded
from ublet.link.errors import NOT_ALLOWED, BoardRefused
from ublet.session.bench.watcher import Watcher
from ublet.session.connection import Connection

ASKED_TIMES = 20
"""Most times that a question is asked again after an answer it cannot take: a program may be answering."""

QuestionT = TypeVar("QuestionT", bound=Question)


def hot_now(machine: MachineFile, connection: Connection) -> str:
    """What would burn a hand now, by the latest readings; empty: nothing."""
    return hot_words(machine, lambda sensor: connection.channel(f"sensors.{sensor}"))


class LinkBuilder:
    """A :class:`ublet.core.bench.Builder`. ``owed`` is what hands still have to undo; ``hot``: what would burn one."""

    def __init__(
        self,
        watcher: Watcher,
        motion: MotionAccess,
        clock: Clock,
        recorded: Recorded | None,
        hot: Callable[[], str] = lambda: "",
    ) -> None:
        self._watcher = watcher
        self._motion = motion
        self._clock = clock
        self._recorded = recorded
        self._hot = hot
        self.owed: list[Question] = []

    async def ask(self, question: Question) -> str:
        """Ask, and take only what the question takes; what it does not take is said, and it is asked again."""
        recorded = self._recorded
        put = question = replace(question, hot=self._hot() if question.by_hand else "")
        said = f"{question.hot}. {question.text}" if question.hot else question.text
        place = recorded.asked(self._clock.now_s(), said) if recorded is not None else 0
        for _ in range(ASKED_TIMES):
            answer = await self._watcher.answer(put)
            try:
                answer = question.taken(answer)
                break
            except NotAQuantity as error:
                refusal = error
                put = _with(question, f"{error}.")
        else:
            raise TrialFailed(
                f"{question.text} {refusal}.", StartAgain("with an answer that the question takes")
            ) from refusal
        if recorded is not None:
            recorded.answered(place, self._clock.now_s(), question.text, answer)
        return answer

    async def measure(self, question: Measure) -> float:
        """Ask for a reading."""
        return parse(await self.ask(question), question.unit)

    async def jog(self, question: Jog, speed_mm_s: float) -> Jogged:
        """Move as asked until an answer comes; a move that is refused is explained to the builder with the question
        again.
        """
        usual, said = question.axes[0], ""
        while True:
            answer = await self.ask(_with(question, said))
            here = {axis: self._motion.position(axis) for axis in question.axes}
            if answer in question.answers:
                break
            try:
                targets = question.targets(answer, usual, here)
            except NotAQuantity as error:
                said = f"{error}."
                continue
            said = ""
            for target in targets:
                usual = target.axis
                if not target.by_mm:
                    continue
                try:
                    await self._motion.move(usual, target.by_mm, speed_mm_s)
                except BoardRefused as error:
                    if error.code != NOT_ALLOWED:
                        raise
                    said = f"Not moved: {error}."
                    break
        if question.homed and None in here.values():
            raise TrialFailed("The axes do not know where they stand any more: start again.", StartAgain())
        return Jogged(answer, {axis: mm for axis, mm in here.items() if mm is not None})

    async def judge(self, question: Judge) -> tuple[tuple[str, ...], ...]:
        """Ask for a verdict on each place."""
        return question.judged(await self.ask(question))

    @asynccontextmanager
    async def live(self, question: Live) -> AsyncIterator[OpenControls]:
        """Controls beside what goes on in the block: asked again after each use, until an answer or the block's end."""
        controls = OpenControls(self._keep_asking)
        controls.ask(question)
        try:
            yield controls
        finally:
            asking = controls.close()
            await asyncio.wait({asking})  # what cancels the trial meanwhile is not swallowed with it
            if not asking.cancelled() and (error := asking.exception()) and not isinstance(error, TrialFailed):
                raise error  # nobody there is no reason to fail

    async def _keep_asking(self, question: Live, controls: OpenControls) -> None:
        while controls.answer is None:
            answer = await self.ask(question)
            if answer in (question.controls or {}):
                controls.waiting.append(answer)
                if question.once:
                    return
            else:
                controls.answer = answer

    @asynccontextmanager
    async def by_hand(self, do: Question, undo: Question) -> AsyncIterator[str]:
        """Something that hands do and undo; what cuts it off leaves it among ``owed``."""
        self.owed.append(undo)
        answer = await self.ask(do)
        if answer != do.answers[0]:
            self.owed.remove(undo)
        yield answer
        if undo in self.owed:
            await self.ask(undo)
            self.owed.remove(undo)


class OpenControls:
    """Live controls that are open: a :class:`ublet.core.bench.Controls`."""

    def __init__(self, keep_asking: Callable[[Live, OpenControls], Coroutine[None, None, None]]) -> None:
        self.answer: str | None = None
        self.waiting: list[str] = []
        self._keep_asking = keep_asking
        self._asking: asyncio.Task[None] | None = None

    def ask(self, question: Live) -> None:
        """Put a question in the place of the one that is open; an answer that came already stands."""
        if self.answer is None:
            former = self._asking
            self._asking = asyncio.get_running_loop().create_task(self._after(former, question))

    def close(self) -> asyncio.Task[None]:
        """Ask no more; returns the task that ends with that."""
        assert self._asking is not None
        self._asking.cancel()
        return self._asking

    async def _after(self, former: asyncio.Task[None] | None, question: Live) -> None:
        if former is not None:
            former.cancel()
            await asyncio.wait({former})
        await self._keep_asking(question, self)

    def used(self) -> tuple[str, ...]:
        """What was used since it was asked last."""
        waiting, self.waiting = tuple(self.waiting), []
        return waiting


def _with(question: QuestionT, answer: str) -> QuestionT:
    """The question with what was wrong with the last answer before it."""
    return replace(question, text=f"{answer} {question.text}") if answer else question
