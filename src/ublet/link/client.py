"""The client of a board: requests with time-outs and retries, state, samples, heartbeat, halt."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from ublet.core.trouble import NoLink
from ublet.link.frames import HALT_BYTE, Block, Decoder, Message, encode, encode_block
from ublet.link.transport import Transport

PROTOCOL = 1
REPLY_S = 0.5
TRIES = 10
GARBLED_S, GARBLED_BYTES = 0.9, 60
"""So long after hello, and so many bytes without one good line: garbage."""

SILENCE_S = 5.0
"""A board says its state ten times a second; this long without a byte, the link is lost."""


class LinkLost(NoLink):
    """The board does not answer any more, or its port is gone."""


class Garbled(LinkLost):
    """Bytes arrive, and none of them make a line: the baud rate is wrong, or something else sits on that port."""


class BoardRefused(NoLink):
    """The board understood a request and said no; ``code`` is from the protocol's table."""

    def __init__(self, code: int, message: str) -> None:
        super().__init__(message)
        self.code = code


@dataclass
class LinkQuality:
    """Counts since the link was opened, and the last round trip in s."""

    round_trip_s: float = 0.0
    bad_sums: int = 0
    retries: int = 0
    recovered_samples: int = 0


@dataclass
class Hello:
    """What a board says of itself."""

    board: str
    boot: int
    firmware: str
    clock: float
    channels: list[str]
    sample_period_s: float
    heartbeat_window_s: float
    simulated: bool = False


Sample = list[float | None]
"""Index, board time in s, then one value a channel (None: the sensor does not read)."""


@dataclass
class State:
    """The board's latest notification: mode is ready, halted or tripped; why is a sentence."""

    boot: int = 0
    mode: str = "ready"
    why: str = ""
    guard: str = ""


@dataclass
class Client:
    """One open link. Create it with a transport, then ``await hello()``.

    ``on_state`` and ``on_samples`` are called for each notification (samples in order, each once,
    with gaps asked for again); ``on_lost`` once, with the reason.
    """

    transport: Transport
    on_state: Callable[[State], None] = lambda state: None
    on_samples: Callable[[list[Sample]], None] = lambda samples: None
    on_lost: Callable[[str], None] = lambda why: None
    on_talk: Callable[[str, Message], None] | None = None
    quality: LinkQuality = field(default_factory=LinkQuality)
    state: State = field(default_factory=State)

    def __post_init__(self) -> None:
        self._decoder = Decoder()
        self._ids = itertools.count(1)
        self._waiting: dict[int, asyncio.Future[Message]] = {}
        self._sent: dict[int, bytes] = {}
        self._next_sample: int | None = None
        self._held: list[Sample] = []
        self._filling = False
        self._beating = False
        self._bytes = self._good_lines = 0
        self._silent_until = 0.0
        self._heard = asyncio.get_running_loop().time()
        self._tasks: set[asyncio.Task[None]] = set()
        self.lost_why: str | None = None
        self.about: Hello | None = None
        self.transport.received = self._received
        self.transport.lost = self._lost

    async def hello(self, client: str = "ublet") -> Hello:
        """Introduce ourselves; starts the heartbeat.

        Raises:
            Garbled: only garbage comes. LinkLost: nothing that speaks the protocol answers. BoardRefused: another
            protocol version.
        """
        asked = asyncio.ensure_future(self.call("hello", {"client": client, "protocol": PROTOCOL}))
        try:
            await asyncio.wait({asked}, timeout=GARBLED_S)
            if not asked.done() and self._bytes >= GARBLED_BYTES and not self._good_lines:
                raise Garbled("what arrives is garbage: wrong baud rate, or not a board that speaks to us")
            answer = await asked
        finally:
            asked.cancel()
        try:
            known = {name: answer[name] for name in Hello.__dataclass_fields__ if name != "simulated"}
            self.about = Hello(**known, simulated=bool(answer.get("simulated", False)))
        except KeyError as error:
            raise LinkLost(f"the board's answer to hello lacks {error}: is its firmware current?") from error
        if not self._beating:
            self._beating = True
            self.quality.bad_sums = 0  # a line that was cut by our coming is nobody's fault
            self._spawn(self._heartbeat(self.about.heartbeat_window_s / 5))
        return self.about

    async def call(self, method: str, params: dict[str, Any] | None = None) -> Any:
        """Send a request and return its result; asks again when no answer or a damaged one comes.

        Every try carries the same id: the board answers a repeated id from memory, so that a retry
        never does a thing twice.
        """
        number = next(self._ids)
        message = {"jsonrpc": "2.0", "id": number, "method": method, "params": params or {}}
        return await self._exchange(number, encode(message), message, REPLY_S)

    async def block(self, offset: int, data: bytes, reply_s: float = REPLY_S) -> Any:
        """Send a piece of an image, repeated like any request until the board has it.

        Raises:
            LinkLost, BoardRefused: as for :meth:`call`.
        """
        number = next(self._ids)
        told = {"method": "image block", "id": number, "offset": offset, "bytes": len(data)}
        return await self._exchange(number, encode_block(Block(number, offset, data)), told, reply_s)

    async def _exchange(self, number: int, frame: bytes, told: Message, reply_s: float) -> Any:
        if self.lost_why is not None:
            raise LinkLost(self.lost_why)
        loop = asyncio.get_running_loop()
        answer: asyncio.Future[Message] = loop.create_future()
        self._waiting[number] = answer
        self._sent[number] = frame
        try:
            for attempt in range(TRIES):
                began = loop.time()
                self.quality.retries += attempt > 0
                if self.on_talk:
                    self.on_talk(">", told)
                self.transport.write(frame)
                try:
                    reply = await asyncio.wait_for(asyncio.shield(answer), reply_s)
                except TimeoutError:
                    continue
                self.quality.round_trip_s = loop.time() - began
                if "error" in reply:
                    error = reply["error"]
                    raise BoardRefused(int(error.get("code", 0)), str(error.get("message", "")))
                return reply.get("result")
        finally:
            self._waiting.pop(number, None)
            self._sent.pop(number, None)
            answer.cancel()
        raise LinkLost(f"no answer in {reply_s * TRIES:.0f} s: wrong port or baud rate, or the board hangs")

    def signal_halt(self) -> None:
        """The same from any thread; whoever calls it also calls :meth:`halt` in the loop."""
        self.transport.signal(HALT_BYTE)

    def fall_silent(self, seconds: float) -> None:
        """Send no heartbeat for so long: what the board does about it is its own."""
        self._silent_until = asyncio.get_running_loop().time() + seconds

    def halt(self) -> None:
        """Halt the board at once, ahead of anything that waits to be sent."""
        self.transport.write(HALT_BYTE, first=True)

    def close(self) -> None:
        """Stop the heartbeat and let go of the port."""
        self._stop("closed")
        self.transport.close()

    def _spawn(self, work: Any) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _heartbeat(self, every_s: float) -> None:
        beat = encode({"jsonrpc": "2.0", "method": "heartbeat", "params": {}})
        loop = asyncio.get_running_loop()
        while True:
            if loop.time() >= self._silent_until:
                self.transport.write(beat)
            await asyncio.sleep(every_s)
            if loop.time() - self._heard > SILENCE_S:
                self._lost(f"the board has been silent for {SILENCE_S:.0f} s")

    def _received(self, data: bytes) -> None:
        self._heard = asyncio.get_running_loop().time()
        self._bytes += len(data)
        for message in self._decoder.feed(data):
            if message is None:
                self.quality.bad_sums += 1
                continue
            self._good_lines += 1
            if isinstance(message, Block):
                continue  # blocks go to a board, none comes from one
            if self.on_talk and message.get("method") != "state":
                self.on_talk("<", message)
            self._take(message)

    def _take(self, message: Message) -> None:
        if message.get("method") == "state":
            self._take_state(message.get("params") or {})
        elif message.get("method") == "damaged":
            # a line of ours arrived with a bad sum: say again whatever is unanswered
            for frame in list(self._sent.values()):
                self.quality.retries += 1
                self.transport.write(frame)
        else:
            waiting = self._waiting.get(message.get("id") or 0)
            if waiting is not None and not waiting.done():
                waiting.set_result(message)

    def _take_state(self, params: Message) -> None:
        state = State(
            int(params.get("boot", 0)),
            str(params.get("mode", "ready")),
            str(params.get("why", "")),
            str(params.get("guard", "")),
        )
        if state.boot != self.state.boot:
            self._next_sample = None
        changed, self.state = state != self.state, state
        samples: list[Sample] = params.get("samples") or []
        if samples:
            self._held += samples
            self._sort_out()
        if changed:
            self.on_state(state)

    def _sort_out(self) -> None:
        """Pass on samples in order; ask for what is missing before the first of those held."""
        if self._next_sample is None and self._held:
            self._next_sample = int(self._held[0][0] or 0)
        ready: list[Sample] = []
        for sample in sorted(self._held, key=lambda row: row[0] or 0):
            if sample[0] == self._next_sample:
                ready.append(sample)
                self._next_sample = int(sample[0] or 0) + 1
        self._held = [row for row in self._held if (row[0] or 0) >= (self._next_sample or 0)]
        if ready:
            self.on_samples(ready)
        if self._held and not self._filling:
            self._filling = True
            self._spawn(self._fill(self._next_sample or 0, int(self._held[0][0] or 0)))

    async def _fill(self, start: int, end: int) -> None:
        try:
            answer = await self.call("samples.read", {"from": start, "to": end})
            rows: list[Sample] = answer.get("samples", [])
            self.quality.recovered_samples += len(rows)
            self._held = rows + self._held
            if not rows or rows[0][0] != start:
                # the board no longer has them: go on from what there is
                self._next_sample = int(min(row[0] or 0 for row in self._held))
        except (LinkLost, BoardRefused):
            self._next_sample = None
        finally:
            self._filling = False
        self._sort_out()

    def _lost(self, why: str) -> None:
        if self.lost_why is None:
            self.transport.close()
            self._stop(why)
            self.on_lost(why)

    def _stop(self, why: str) -> None:
        self.lost_why = why
        for task in self._tasks:
            task.cancel()
        for answer in self._waiting.values():
            if not answer.done():
                answer.set_exception(LinkLost(why))
