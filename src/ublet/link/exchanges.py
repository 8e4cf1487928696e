"""Lines of a dialect and their replies: one at a time, or several, sent again where one got lost.

More than one under way has numbers, in replies too. Replies count in the order of their lines: where one is missing,
those behind it are dropped, and every line from there is sent again (go back N, Tanenbaum: Computer Networks). A board
does no number twice.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from ublet.core.dialect.language import Language
from ublet.core.dialect.pattern import Pattern
from ublet.core.settings import Value
from ublet.link.dialect_settings import first_read
from ublet.link.end import LinkQuality
from ublet.link.errors import NOT_ALLOWED, BoardRefused, LinkLost, Malformed

TRIES = 5

PATIENCE_S = 30.0
"""Longest wait for a board that asks for patience."""

AGAIN_S = 0.05
"""Lines that were sent again so lately are not sent once more because the board asks for the same one."""


@dataclass(frozen=True)
class ExchangeHooks:
    """What exchanges do through their client: send bytes, show what is said (and whether it is one of the looks), end
    the link, wait until we may speak.
    """

    write: Callable[[bytes], None]
    talk: Callable[[str, str, bool], None]
    hang_up: Callable[[str], None]
    silent_s: Callable[[], float]


@dataclass
class Exchange:
    """A line under way: its text and number, its bytes, the pattern that an answer must have, whether it is one of the
    looks.
    """

    line: str
    number: int
    frame: bytes
    wants: Pattern | None
    looks: bool
    reply: asyncio.Future[bool]
    """Whether it was answered as it should be; else it is to be sent again."""
    answers: list[str] = field(default_factory=list)
    sent_s: float = 0.0
    copies: int = 0
    dropped: int = 0
    """How often it was sent, and how many of its replies came before it was their turn."""


class LineExchanges:
    """Sends lines over one link, and gives each the lines of its reply."""

    def __init__(self, language: Language, quality: LinkQuality, hooks: ExchangeHooks) -> None:
        self._language, self._quality, self._hooks = language, quality, hooks
        self._rules = language.file.line
        self._loop = asyncio.get_running_loop()
        self._window = asyncio.Semaphore(self._rules.waiting)
        self._under_way: deque[Exchange] = deque()
        self._answers: list[str] = []
        self._sent: deque[int] = deque()
        """Numbers of what was sent, in that order, of which no reply has come yet: replies keep it."""
        self._number = 0
        self._patience = False
        self._tasks: set[asyncio.Task[list[str]]] = set()
        self._lost_why: str | None = None

    @property
    def looking(self) -> bool:
        """Whether what the board says now answers one of the looks."""
        return bool(self._under_way) and self._under_way[0].looks

    def frame(self, line: str) -> bytes:
        """The bytes of a line whose reply nobody waits for."""
        self._number += 1
        return self._language.framing.from_host(line, self._number)

    async def ask(
        self,
        line: str,
        again: bool = True,
        wants: Pattern | None = None,
        first: bool = False,
        looks: bool = False,
    ) -> list[str]:
        """Send a line, and return those of its reply. A line that got lost is sent again where that does nothing twice;
        so is one whose reply lacks the answer that it ``wants``. first: lines are counted from here. looks: it is one
        of the readings that are asked for again and again.

        Whoever gives up waiting does not cut an exchange short: its reply would be taken for the next line's.

        Raises:
            LinkLost: no answer. Malformed: another one. BoardRefused: the board says no.
        """
        if looks:
            return await self._exchange(line, again, wants, first, looks)
        task = self._loop.create_task(self._exchange(line, again, wants, first, looks))
        self._tasks.add(task)
        task.add_done_callback(self._exchanged)
        return await asyncio.shield(task)

    def _exchanged(self, task: asyncio.Task[list[str]]) -> None:
        self._tasks.discard(task)
        if not task.cancelled():
            task.exception()  # it may be that nobody waits for it any more

    async def _exchange(self, line: str, again: bool, wants: Pattern | None, first: bool, looks: bool) -> list[str]:
        async with self._window:
            await self._not_silenced()
            if self._lost_why is not None:
                raise LinkLost(self._lost_why)
            self._number = 1 if first else self._number + 1
            framing = self._language.framing
            reply: asyncio.Future[bool] = self._loop.create_future()
            one = Exchange(line, self._number, framing.from_host(line, self._number), wants, looks, reply)
            self._under_way.append(one)
            safe = again or framing.numbered
            try:
                self._send(one)
                for attempt in range(TRIES if safe else 1):
                    if attempt:
                        await self._not_silenced()
                        one.reply = self._loop.create_future()
                        self._quality.retries += 1
                        self._send_again_from(one.number)
                    if await self._replied(one):
                        self._quality.round_trip_s = self._loop.time() - one.sent_s
                        return one.answers
                    if not framing.numbered:
                        await self._quiet()
            finally:
                if one in self._under_way:
                    self._under_way.remove(one)
        if not safe:
            self._hooks.hang_up(f"no answer to “{line}”: nobody knows whether it was done")
        if one.answers:
            raise Malformed(
                f"“{line}” is answered with “{one.answers[0][:60]}”: not what {self._language.file.name} says"
            )
        raise LinkLost(f"no answer to “{line}” in {TRIES if safe else 1} tries")

    def _send(self, one: Exchange) -> None:
        if self._under_way[0] is one:
            self._answers, self._patience = [], False
        self._hooks.talk(">", one.line, one.looks)
        self._write(one)

    def _write(self, one: Exchange) -> None:
        one.sent_s = self._loop.time()
        one.copies += 1
        if self._language.framing.numbered:
            self._sent.append(one.number)
        self._hooks.write(one.frame)

    def _send_again_from(self, number: int) -> None:
        """Every line under way from a number on, in their order."""
        for one in self._under_way:
            if one.number >= number:
                self._send(one)

    async def _not_silenced(self) -> None:
        """Wait until we may speak again."""
        left = self._hooks.silent_s()
        if left > 0:
            await asyncio.sleep(left)
            await self._not_silenced()

    async def _replied(self, one: Exchange) -> bool:
        """Whether its reply came in time, as it should be; a board that asks for patience is given more. Behind other
        lines it waits as long as they do.
        """
        waited = 0.0
        while True:
            done, _ = await asyncio.wait({one.reply}, timeout=self._rules.reply_s)
            if done:
                return one.reply.result()
            if self._under_way[0] is not one:
                continue
            waited += self._rules.reply_s
            if not self._patience or waited >= PATIENCE_S:
                return False
            self._patience = False

    async def _quiet(self) -> None:
        """Let a late reply pass: without numbers it would be taken for that of the next line."""
        count = -1
        while count != len(self._answers):
            count = len(self._answers)
            await asyncio.sleep(self._rules.reply_s / 2)

    # what arrives

    def took(self, text: str) -> bool:
        """Whether a line ends a reply, or asks for patience or for a line again."""
        language = self._language
        if language.patience is not None and language.patience.read(text) is not None:
            self._patience = True
        elif language.again is not None and (asked := language.again.read(text)) is not None:
            self._asked_again(asked.get("n"))
        elif (done := language.done.read(text)) is not None:
            self._end_reply(done.get("n"), None)
        elif (error := language.error.read(text)) is not None:
            self._end_reply(error.get("n"), BoardRefused(NOT_ALLOWED, str(error.get("why", "the board says no"))))
        else:
            return False
        return True

    def answered(self, text: str) -> None:
        """A line that belongs to the reply that comes now."""
        if self._under_way:
            self._answers.append(text)

    def _asked_again(self, number: Value) -> None:
        """From a line on, or all of them; they are the same lines, which the raw dialogue shows already."""
        self._quality.retries += 1
        self._patience = True
        wanted = [one for one in self._under_way if not isinstance(number, int) or one.number >= number]
        wanted = wanted or list(self._under_way)
        if len(self._under_way) == 1 or (wanted and self._loop.time() - wanted[0].sent_s > AGAIN_S):
            for one in wanted:
                self._write(one)

    def _end_reply(self, number: Value, refusal: BoardRefused | None) -> None:
        answers, self._answers = self._answers, []
        in_turn = not isinstance(number, int) or self._comes_in_turn(number)
        head = self._under_way[0] if self._under_way else None
        if head is None or head.reply.done():
            return
        if number is not None and number != head.number:
            later = next((one for one in self._under_way if one.number == number), None)
            if later is not None:
                later.dropped += 1
                if later.dropped >= later.copies:  # of its last copy: the reply of one before it got lost
                    self._quality.retries += 1
                    self._send_again_from(head.number)
            elif not self._language.framing.numbered:
                self._answers = answers
            return  # else of a line before: it came twice, or late
        head.answers = answers
        if refusal is None and head.wants is not None and (not in_turn or first_read(head.wants, answers) is None):
            head.reply.set_result(False)  # out of turn, an answer may be that of a line whose end got lost
            return
        self._under_way.popleft()
        if refusal is not None:
            head.reply.set_exception(refusal)
        else:
            head.reply.set_result(True)

    def _comes_in_turn(self, number: int) -> bool:
        """Whether a reply is the next one in the order of what was sent: then its answers are its own."""
        if number not in self._sent:
            return False
        in_turn = self._sent[0] == number
        while self._sent.popleft() != number:
            pass
        return in_turn

    def fail(self, why: str, for_good: bool) -> None:
        """Nobody answers what is under way. for_good: nor anything later."""
        self._lost_why = why if for_good else None
        self._sent.clear()
        for one in self._under_way:
            if not one.reply.done():
                one.reply.set_exception(LinkLost(why))
                one.reply.exception()  # it may be that nobody waits for it any more
