"""A bare line to a board, for looking at what it really says: requests without retries, and everything that comes."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Callable
from typing import Any

from ublet.link.frames import Block, Decoder, Message, encode
from ublet.link.transport import Transport

ANSWER_S = 2.0
"""Longest wait for an answer, s of the loop."""

SESSION = "conformance"


class Silent(Exception):
    """The board said nothing, or not what was waited for."""


class BareLine:
    """Frames out, frames in. got: what came and is no answer to :meth:`ask`, in its order; blocks: of streams; bad:
    spoilt lines.
    """

    def __init__(self, transport: Transport) -> None:
        self.transport = transport
        self.got: list[Message] = []
        self.blocks: list[Block] = []
        self._decoder = Decoder()
        self._ids = itertools.count(1)
        self._answers: dict[Any, list[Message]] = {}
        transport.received = self._received

    @property
    def bad(self) -> int:
        """Lines whose sum or shape was wrong."""
        return self._decoder.bad

    def write(self, data: bytes) -> None:
        """Send bytes as they are."""
        self.transport.write(data)

    def number(self) -> int:
        """The id of the next request."""
        return next(self._ids)

    def request(self, number: int, method: str, params: object) -> bytes:
        """The frame of a request."""
        return encode({"jsonrpc": "2.0", "id": number, "method": method, "params": params})

    async def ask(self, method: str, **params: object) -> Message:
        """A request and its answer, with result or error.

        Raises:
            Silent: there is none.
        """
        number = self.number()
        self.write(self.request(number, method, params))
        return await self.answer(number, method)

    async def answer(self, number: int, method: str = "") -> Message:
        """The next answer to an id.

        Raises:
            Silent: there is none.
        """
        await self.until(lambda: bool(self._answers.get(number)), f"no answer to {method or number}")
        return self._answers[number].pop(0)

    async def answered(self, number: int, seconds: float) -> bool:
        """Whether an answer to an id comes within a time."""
        await asyncio.sleep(seconds)
        return bool(self._answers.get(number))

    async def notification(
        self, method: str, fits: Callable[[Any], bool], words: str, seconds: float = ANSWER_S
    ) -> Any:
        """The parameters of the first notification that fits, of those that came or come.

        Raises:
            Silent: none does; ``words`` say what was waited for.
        """

        def found() -> Any:
            return next((m["params"] for m in self.got if m.get("method") == method and fits(m.get("params"))), None)

        await self.until(lambda: found() is not None, words, seconds)
        return found()

    async def until(self, there: Callable[[], bool], words: str, seconds: float = ANSWER_S) -> None:
        """Wait until something is so.

        Raises:
            Silent: it is not.
        """
        loop = asyncio.get_running_loop()
        end = loop.time() + seconds
        while not there():
            if loop.time() > end:
                raise Silent(words)
            await asyncio.sleep(0.02)

    def _received(self, data: bytes) -> None:
        for message in self._decoder.feed(data):
            if isinstance(message, Block):
                self.blocks.append(message)
            if not isinstance(message, dict):
                continue
            if "method" not in message and "id" in message:
                self._answers.setdefault(message["id"], []).append(message)
            else:
                self.got.append(message)
