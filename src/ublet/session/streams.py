"""Fast readings of the linked board: opened, put in order, asked for again where they were lost, gaps reported."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator

import numpy as np
from numpy.typing import NDArray

from ublet.core.remedies import LINK
from ublet.core.remedy import ByHand
from ublet.core.run import TrialFailed
from ublet.core.streams import Chunk, Clocking, StreamKind
from ublet.link.errors import BoardRefused, LinkLost, Malformed
from ublet.link.frames import Block
from ublet.link.replies import EventReport, StreamOpened
from ublet.link.stream_blocks import StreamBlock, unpack
from ublet.session.connection import Connection
from ublet.session.jogging import must_go_on

WINDOW = 96
"""Blocks that the board may be ahead of what was taken: some seconds of a fast sensor, so that a pause of the host, or
a clock that runs many times as fast, does not hold it up. That states are not crowded out is the board's to see to.
"""

PATIENCE_S = 0.4
"""A block that was asked for again and has not come after so long is asked for once more, s."""

SPAN_RATIO, STAMP_S = 2.0, 0.001
"""The readings of a block may be dated as if they had taken so many times as long, or as short, and besides, s."""

RATE_FRACTION, LATE_S = 0.1, 0.15
"""A sensor's clock may be off by this fraction, and the board late to look at it by so much, s."""

AHEAD_S = 2.0
"""Readings may be dated at most this far ahead of what the board's clock should read, in seconds of the link's time."""

TRIES = 12
"""Most requests for a block; after that it counts as lost."""


class StreamRun:
    """One stream, from its opening to its end: a :class:`ublet.core.bench.Listening`.

    gaps: numbers of the first and the last reading of each gap that could not be closed. recovered: blocks that were
    lost on the line and came when they were asked for again.
    """

    def __init__(
        self, connection: Connection, kind: StreamKind, opened: StreamOpened, captured: bool, rate_hz: float
    ) -> None:
        self.kind = kind
        self.gaps: list[tuple[int, int]] = []
        self.recovered = 0
        self._connection = connection
        self._opened = opened
        self._captured = captured
        self._blocks: int | None = None  # how many there are; None: it goes on
        self._readings = 0  # of a capture, once it is full
        self._next = self._due = 0
        self._upto = 0
        self._early: dict[int, StreamBlock] = {}
        self._came = asyncio.Event()
        self._clocking = Clocking(1 / rate_hz)
        self._asked_hz = rate_hz
        self._began: tuple[int, float] | None = None  # number and time of the first reading
        self._boot = connection.about.boot if connection.about is not None else None

    @property
    def rate_hz(self) -> float:
        """Readings a second as they really came, by the board's clock."""
        return self._clocking.rate_hz

    def times(self, index: int, count: int) -> NDArray[np.float64]:
        """When readings were taken, by the board's clock, s: the better known the longer it goes on."""
        return self._clocking.times(index, count)

    async def __aiter__(self) -> AsyncIterator[Chunk]:
        """Readings in order, as they come; a capture's after it is full. A live stream goes on until one leaves.

        Raises:
            LinkLost: the link went, or the board restarted.
        """
        while self._blocks is None or self._next < self._blocks:
            must_go_on(self._connection, self._boot, "stream")
            try:
                await self._let_come()
                block, could_ask = self._early.pop(self._next, None), self._can_ask
                if block is None and (self._early or not await self._comes(self._next)) and could_ask:
                    await self._fetch()  # one's patience was spent while it might have come
            except BoardRefused as refused:
                raise LinkLost(f"the board no longer has the stream: {refused}") from refused
            if block is not None:
                self._next += 1
                yield self._chunk(block)
        self._gap(self._readings)

    @property
    def _can_ask(self) -> bool:
        """Whether a block that does not come may be missing: of a capture none comes before it is full."""
        return not self._captured or self._blocks is not None

    async def _let_come(self) -> None:
        """Let the board send more, in good time."""
        if self._upto - self._next < WINDOW // 2:
            self._upto = self._next + WINDOW
            await self._connection.controller.credit(self._opened.number, self._upto)

    async def _comes(self, number: int) -> bool:
        """Whether a block comes within one's patience."""
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(PATIENCE_S):
                while number not in self._early:
                    self._came.clear()
                    await self._came.wait()
        return number in self._early

    async def _fetch(self) -> None:
        """Ask again for what is missing before the blocks that came; what is gone, or never comes, is passed over."""
        end = min(self._early) if self._early else min(self._upto, self._blocks or self._upto)
        missing = list(range(self._next, end))
        for _ in range(TRIES):
            repeated = await self._connection.controller.again(self._opened.number, missing)
            if self._next >= repeated.blocks:
                return  # it has not been made yet
            if self._next in repeated.gone:
                while self._next in repeated.gone:
                    self._next += 1
                # what was made since is gone as well, as far as it is more than the board keeps; who goes on with the
                # oldest that is left stays behind for ever
                self._next = max(self._next, repeated.blocks - self._opened.kept_blocks // 2)
                self._early = {number: block for number, block in self._early.items() if number >= self._next}
                return
            if await self._comes(self._next):
                self.recovered += 1
                return
            must_go_on(self._connection, self._boot, "stream")
        self._next += 1

    def _chunk(self, block: StreamBlock) -> Chunk:
        if why := self._impossible(block):
            raise TrialFailed(
                f"The board's {self.kind.name} readings cannot be true: {why}. Nothing is concluded.",
                ByHand(f"check plug and cable of the {self.kind.name}"),
                LINK,
            )
        self._gap(block.index)
        count = len(block.counts)
        self._due = block.index + count
        self._clocking.take(block.index, block.first_s)
        self._clocking.take(block.index + count - 1, block.last_s)
        return Chunk(block.index, self.times(block.index, count), block.counts * np.array(self.kind.scales))

    def _impossible(self, block: StreamBlock) -> str:
        """Why a block cannot be one of this stream, by its numbers and times; empty: it can."""
        count, about = len(block.counts), self._connection.about
        if count > self._opened.in_block:
            return f"a block has {count} readings, {self._opened.in_block} are announced"
        if block.index < self._due:
            return f"reading {block.index} came after reading {self._due - 1}"
        span, lasts = block.last_s - block.first_s, (count - 1) / self._asked_hz
        if not lasts / SPAN_RATIO - STAMP_S <= span <= lasts * SPAN_RATIO + STAMP_S or (count > 1 and span <= 0):
            took = f"at {self._asked_hz:g} a second they take {1000 * lasts:.1f}"
            return f"{count} readings span {1000 * span:.1f} ms, {took}"
        ahead_s = block.last_s - self._connection.board_now
        if ahead_s > AHEAD_S * max(1.0, about.clock if about is not None else 1.0):
            return f"they are dated {ahead_s:.1f} s ahead of the board's own clock"
        if self._began is None:
            self._began = (block.index, block.first_s)
        first_index, first_s = self._began
        passed, due = block.first_s - first_s, (block.index - first_index) / self._asked_hz
        if abs(passed - due) > RATE_FRACTION * due + LATE_S:
            return f"after {block.index - first_index} readings {passed:.2f} s had passed, {due:.2f} would have"
        return ""

    def _gap(self, index: int) -> None:
        if index > self._due:
            self.gaps.append((self._due, index - 1))

    def block(self, block: Block) -> None:
        """A block came."""
        if block.id != self._opened.number:
            return
        samples = unpack(block, len(self.kind.columns))
        if samples is None:
            raise Malformed(f"block {block.offset} of stream {block.id} is not one of {len(self.kind.columns)} columns")
        if block.offset >= self._upto:
            raise Malformed(f"block {block.offset} of stream {block.id} came, and only {self._upto} were allowed for")
        if samples.number >= self._next:
            self._early[samples.number] = samples
            self._came.set()

    def on_event(self, event: EventReport) -> None:
        """Something happened: a capture may be full."""
        if event.what == "captured" and event.stream == self._opened.number:
            self._blocks, self._readings = event.blocks, event.readings
            self._came.set()


@contextlib.asynccontextmanager
async def streaming(
    connection: Connection, name: str, rate_hz: float, capture_s: float | None = None
) -> AsyncIterator[StreamRun]:
    """A stream that is open while the block goes on. capture_s: so many seconds, held by the board and handed over.

    Raises:
        BoardRefused: the board has no such sensor or rate, or too slow a line or too little memory for it.
    """
    controller = connection.controller
    kind = controller.streams().get(name)
    opened = await controller.open_stream(name, rate_hz, capture_s)
    if kind is None:
        raise BoardRefused(3, f"this board says nothing of its “{name}”")
    run = StreamRun(connection, kind, opened, capture_s is not None, rate_hz)
    connection.blocks.append(run.block)
    connection.on_event.append(run.on_event)
    try:
        yield run
    finally:
        connection.blocks.remove(run.block)
        connection.on_event.remove(run.on_event)
        if connection.linked:
            with contextlib.suppress(LinkLost, BoardRefused):
                await connection.controller.close_stream(opened.number)
