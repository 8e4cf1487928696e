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
from enum import Enum

from ublet.core.dialect.language import Language
from ublet.core.dialect.pattern import Pattern
from ublet.core.settings import Value
from ublet.link.end import LinkQuality
from ublet.link.errors import NOT_ALLOWED, BoardRefused, LinkLost, Malformed

TRIES = 5
PASSES_S = 0.003
"""Pause before the next line of a language without numbers, s: an end that comes twice would end the next reply."""

DRAINED_S = 0.1
"""Silence after which no reply is on its way any more, s: longer than a line takes there and back."""

PATIENCE_S = 30.0
"""Longest wait for a board that asks for patience."""

AGAIN_S = 0.05
"""How long a board's further requests for a lost line are ignored after the first, s: it asks once for each line that
came behind the lost one.
"""


class ReplyEnd(Enum):
    """How a reply ended: as it should; without the answer, or not at all; with what may be the answer of another."""

    WELL = "well"
    SHORT = "short"
    MIXED = "mixed"


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
    reply: asyncio.Future[ReplyEnd] = field(default_factory=asyncio.Future)
    answers: list[str] = field(default_factory=list)
    sent_s: float = 0.0
    copies: int = 0
    dropped: int = 0
    """How often it was sent, and how many of its replies came before it was their turn."""
    lost: str = ""
    """Why no reply comes any more; empty: one may. The board may have done it."""


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
        """Numbers of the lines sent that have no reply yet, in the order of sending, which replies keep."""
        self._number = self._came = 0
        self._patience = self._alone = False
        self._ended_s, self._again_s = 0.0, -AGAIN_S
        self._tasks: set[asyncio.Task[list[str]]] = set()
        self._lost_why: str | None = None

    @property
    def looking(self) -> bool:
        """Whether what the board says now answers one of the looks."""
        return bool(self._under_way) and self._under_way[0].looks

    def frame(self, line: str) -> bytes:
        """The bytes of a line that is sent without waiting for its reply."""
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
            task.exception()  # read here, since its caller may have gone

    async def _exchange(self, line: str, again: bool, wants: Pattern | None, first: bool, looks: bool) -> list[str]:
        async with self._window:
            self._number = 1 if first else self._number + 1
            framing = self._language.framing
            one = Exchange(line, self._number, framing.from_host(line, self._number), wants, looks)
            self._under_way.append(one)
            safe = again or framing.numbered
            try:
                send: Callable[[Exchange], None] = self._send
                for _ in range(TRIES if safe else 1):
                    await self._not_silenced()
                    if not framing.numbered and (left := self._ended_s + PASSES_S - self._loop.time()) > 0:
                        await asyncio.sleep(left)
                    if why := one.lost or self._lost_why:
                        raise LinkLost(why)
                    one.reply = self._loop.create_future()
                    self._quality.retries += one.copies > 0
                    send(one)
                    how = await self._replied(one)
                    if how is ReplyEnd.WELL:
                        self._quality.round_trip_s = self._loop.time() - one.sent_s
                        return one.answers
                    send = self._send_alone if how is ReplyEnd.MIXED else self._send_again_from
                    if how is ReplyEnd.MIXED:
                        await self._quiet(DRAINED_S)
                    elif not framing.numbered:  # a late reply would be taken for that of the next line
                        await self._quiet(self._rules.reply_s / 2)
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

    def _send_again_from(self, first: Exchange) -> None:
        """Every line under way from one on, in their order."""
        for one in self._under_way:
            if one.number >= first.number:
                self._send(one)

    def _send_alone(self, one: Exchange) -> None:
        """Once nothing is on its way any more: what comes then is its own. Those behind it follow after its reply."""
        self._sent.clear()
        for other in self._under_way:
            other.copies = other.dropped = 0
        self._alone = True
        self._send(one)

    async def _not_silenced(self) -> None:
        """Wait until we may speak again."""
        left = self._hooks.silent_s()
        if left > 0:
            await asyncio.sleep(left)
            await self._not_silenced()

    async def _replied(self, one: Exchange) -> ReplyEnd:
        """How its reply ended; a board that asks for patience is given more time. Behind other lines it waits as long
        as they do.
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
                return ReplyEnd.SHORT
            self._patience = False

    async def _quiet(self, seconds: float) -> None:
        """Wait until no line has come for a number of seconds."""
        count = -1
        while count != self._came:
            count = self._came
            await asyncio.sleep(seconds)

    # what arrives

    def took(self, text: str) -> bool:
        """Whether a line ends a reply, or asks for patience or for a line again."""
        language = self._language
        self._came += 1
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
        if len(self._under_way) == 1 or self._loop.time() - self._again_s > AGAIN_S:
            self._again_s = self._loop.time()
            if isinstance(number, int):  # nothing that was sent from there on is done, and none of it is answered
                self._sent = deque(sent for sent in self._sent if sent < number)
            for one in wanted or self._under_way:
                one.copies = one.dropped = 0
                self._write(one)

    def _end_reply(self, number: Value, refusal: BoardRefused | None) -> None:
        answers, self._answers = self._answers, []
        in_turn = not isinstance(number, int) or self._comes_in_turn(number)
        head = self._under_way[0] if self._under_way else None
        if head is None or not head.copies or head.reply.done():
            return
        if number is not None and number != head.number:
            later = next((one for one in self._under_way if one.number == number), None)
            if later is not None:
                later.dropped += 1
                if later.dropped >= later.copies:  # of its last copy: the reply of one before it got lost
                    self._quality.retries += 1
                    self._send_again_from(head)
            elif not self._language.framing.numbered:
                self._answers = answers
            return  # else of a line before: it came twice, or late
        head.answers = answers
        how = self._ended(head, in_turn)
        if refusal is None and how is not ReplyEnd.WELL:
            head.reply.set_result(how)
            return
        self._under_way.popleft()
        self._ended_s = self._loop.time()
        if self._alone and self._under_way:
            self._send_again_from(self._under_way[0])
        self._alone = False
        if refusal is not None:
            head.reply.set_exception(refusal)
        else:
            head.reply.set_result(how)

    def _ended(self, one: Exchange, in_turn: bool) -> ReplyEnd:
        """Whether its answers are its own, and have what it wants. Out of turn, or where two have that, one may be the
        answer of a line whose end got lost.
        """
        wanted = {answer for answer in one.answers if one.wants is not None and one.wants.read(answer) is not None}
        asks = one.looks or one.wants is not None
        if self._language.framing.numbered and asks and (not in_turn or len(wanted) > 1):
            return ReplyEnd.MIXED
        return ReplyEnd.SHORT if one.wants is not None and not wanted else ReplyEnd.WELL

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
            one.lost = why
            if not one.reply.done():
                one.reply.set_exception(LinkLost(why))
                one.reply.exception()  # read here, since its caller may have gone
