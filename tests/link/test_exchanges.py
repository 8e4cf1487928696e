"""Several lines under way at once over a line that loses, spoils and doubles: each is done once, in order, and answered
with its own reply.
"""

from __future__ import annotations

import asyncio
from collections import deque

import numpy as np
import pytest

from tests.conftest import virtually
from ublet.core.dialect.language import Language, check_dialect
from ublet.core.dialect.pattern import DialectWords, FieldKind, Pattern
from ublet.link.dialect_settings import first_read
from ublet.link.end import LinkQuality
from ublet.link.errors import BoardRefused, LinkLost
from ublet.link.exchanges import ExchangeHooks, LineExchanges
from ublet.session.library import DATA

SLATE = (DATA / "dialects" / "slate.toml").read_text(encoding="utf-8")


def language(waiting: int) -> Language:
    made, problems = check_dialect(SLATE.replace("waiting = 4", f"waiting = {waiting}"))
    assert made is not None, problems
    return made


BYTE_S = 1e-5


ECHO = Pattern("echo {value}", {"value": FieldKind.TEXT}, DialectWords({}, "1", "0"))


class Peer:
    """A board that does numbered lines in their order, once each; it echoes them, and refuses what begins with bad."""

    def __init__(self, waiting: int, rate: float = 0.0, delay_s: float = 0.004, seed: int = 1) -> None:
        self.language, self.rate, self.delay_s = language(waiting), rate, delay_s
        self.done: list[str] = []
        self.most_at_once = 0
        self._kept: deque[tuple[int, list[str]]] = deque(maxlen=waiting)
        self._random = np.random.default_rng(seed)
        self._inside = 0
        self._there_at = self._back_at = 0.0
        hooks = ExchangeHooks(self._sent, lambda way, line, looks: None, self._hung_up, lambda: 0.0)
        self.exchanges = LineExchanges(self.language, LinkQuality(), hooks)

    def _hung_up(self, why: str) -> None:
        raise AssertionError(why)

    def _times(self) -> int:
        drawn = self._random.random()
        return 0 if drawn < 2 * self.rate else 2 if drawn < 3 * self.rate else 1

    def _sent(self, frame: bytes) -> None:
        self._inside += 1
        self.most_at_once = max(self.most_at_once, self._inside)
        loop = asyncio.get_running_loop()
        self._there_at = max(loop.time() + self.delay_s, self._there_at + BYTE_S)  # lines keep their order
        loop.call_at(self._there_at, self._arrived, frame)

    def _arrived(self, frame: bytes) -> None:
        self._inside -= 1
        line = self.language.framing.read_host(frame.strip())
        assert line is not None and line.number is not None
        for _ in range(self._times()):
            known, last = dict(self._kept), self._kept[-1][0] if self._kept else line.number - 1
            if line.number in known:
                self._say(known[line.number])
            elif line.number == last + 1 and (self._kept or line.number == 1):
                self.done.append(line.text)
                refused = line.text.startswith("bad")
                end = self.language.error if refused else self.language.done
                reply = [*([] if refused else [f"echo {line.text}"]), end.write({"n": line.number, "why": line.text})]
                self._kept.append((line.number, reply))
                self._say(reply)
            else:
                assert self.language.again is not None
                self._say([self.language.again.write({"n": last + 1 if self._kept else 1})])

    def _say(self, lines: list[str]) -> None:
        for line in lines:
            for _ in range(self._times()):
                loop = asyncio.get_running_loop()
                self._back_at = max(loop.time() + self.delay_s, self._back_at + BYTE_S)
                loop.call_at(self._back_at, self._came, line)

    def _came(self, line: str) -> None:
        if not self.exchanges.took(line):
            self.exchanges.answered(line)


async def asked(peer: Peer, lines: list[str]) -> list[str]:
    """What each line is answered with; what was refused: its words."""

    async def one(line: str) -> str:
        try:
            said = first_read(ECHO, await peer.exchanges.ask(line, wants=ECHO))
            return str(said["value"]) if said is not None else ""
        except BoardRefused as refusal:
            return f"refused {refusal}"

    return await asyncio.gather(*(one(line) for line in lines))


@pytest.mark.parametrize("waiting", [1, 4, 8])
@pytest.mark.parametrize("rate", [0.0, 0.01, 0.02])
def test_every_line_is_done_once_and_answered_with_its_own_reply(waiting: int, rate: float) -> None:
    async def work() -> None:
        peer = Peer(waiting, rate, seed=waiting)
        lines = [f"{'bad' if number % 7 == 3 else 'good'} {number}" for number in range(300)]
        answers = await asked(peer, lines)
        assert peer.done == lines, "each once, in order"
        for line, answer in zip(lines, answers, strict=True):
            if line.startswith("bad"):
                assert answer == f"refused {line}"
            else:
                assert answer == line

    virtually(work)


def test_several_at_once_share_the_way_there_and_back() -> None:
    async def seconds(waiting: int) -> float:
        peer, loop = Peer(waiting, delay_s=0.02), asyncio.get_running_loop()
        began = loop.time()
        await asked(peer, [f"line {number}" for number in range(80)])
        assert peer.most_at_once == waiting
        return loop.time() - began

    async def work() -> None:
        one, four = await seconds(1), await seconds(4)
        assert one == pytest.approx(80 * 0.04, rel=0.05) and four < 0.3 * one

    virtually(work)


def test_a_board_that_restarts_fails_all_that_is_under_way_and_what_comes_next_is_answered() -> None:
    async def work() -> None:
        peer = Peer(4)
        waiting = [asyncio.ensure_future(peer.exchanges.ask(f"line {number}")) for number in range(4)]
        await asyncio.sleep(0.001)
        peer.exchanges.fail("the board restarted meanwhile", for_good=False)
        for one in waiting:
            with pytest.raises(LinkLost, match="restarted"):
                await one
        await asyncio.sleep(0.1)
        assert await peer.exchanges.ask("next") == ["echo next"]

    virtually(work)


def test_several_at_once_need_numbers_in_lines_and_replies() -> None:
    without = SLATE.replace('done = "yes {n}"', 'done = "yes"')
    made, problems = check_dialect(without)
    assert made is None and [one.key for one in problems] == ["line.waiting"]
    assert "line.done" in problems[0].found
