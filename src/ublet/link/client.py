"""The client of a board: requests with time-outs and retries, state, samples, heartbeat, halt."""

from __future__ import annotations

import asyncio
import itertools
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from ublet.link.end import LinkQuality, LinkWork, State, fault_words
from ublet.link.errors import BoardRefused, Garbled, LinkLost, Malformed
from ublet.link.frames import HALT_BYTE, Block, Decoder, Message, encode, encode_block
from ublet.link.replies import EventReport, EventsPage, Hello, Sample, StateReport, checked_samples, reply_as
from ublet.link.transport import Transport

PROTOCOL = 1
HALTED = 1
REPLY_S = 0.5
TRIES = 10
GARBLED_S, GARBLED_BYTES, GARBLED_FRACTION = 0.9, 60, 0.1
"""Time after hello, s, bytes without one good line, and fraction of them that no text has, from which input is garbage.
A long line of which only a part has come yet is none: before hello no block of bytes is sent, only text.
"""

TEXT = bytes(range(32, 127)) + b"\t\r\n"

NO_NEWS_S = 4.0
"""A board sends samples ten times a second. This long without a new one, whatever else it says, and the link is ended:
nobody heats by old readings.
"""


@dataclass
class Client(LinkWork):
    """One open link. Create it with a transport, then ``await hello()``.

    ``on_state`` and ``on_samples`` are called for each notification (samples in order, each once,
    with gaps asked for again); ``on_lost`` once, with the reason. ``session`` names this link to the board: everything
    that another session switched on goes off at hello.

    What is malformed, and a fault in whoever takes what arrives, ends the link: the board is asked to switch off, and
    no heartbeat follows.
    """

    transport: Transport
    on_state: Callable[[State], None] = lambda state: None
    on_samples: Callable[[list[Sample]], None] = lambda samples: None
    on_event: Callable[[EventReport], None] = lambda event: None
    on_block: Callable[[Block], None] = lambda block: None
    on_lost: Callable[[str], None] = lambda why: None
    on_talk: Callable[[str, Message], None] | None = None
    quality: LinkQuality = field(default_factory=LinkQuality)
    state: State = field(default_factory=State)
    session: str = field(default_factory=lambda: secrets.token_hex(8))

    def __post_init__(self) -> None:
        super().__init__()
        self._decoder = Decoder()
        self._ids = itertools.count(1)
        self._waiting: dict[int, asyncio.Future[Message]] = {}
        self._sent: dict[int, bytes] = {}
        self._releases: set[int] = set()
        self._next_sample: int | None = None
        self._held: list[Sample] = []
        self._filling = self._asking = False
        self._next_event = 1
        self._early: dict[int, EventReport] = {}
        self._beating = False
        self._bytes = self._odd_bytes = self._good_lines = 0
        self._silent_until = 0.0
        self._received_at = self._news = asyncio.get_running_loop().time()
        self._last_time: float | None = None
        self.about: Hello | None = None
        self.transport.received = self._received
        self.transport.lost = self._lost

    async def hello(self, client: str = "ublet") -> Hello:
        """Introduce ourselves; starts the heartbeat.

        Raises:
            Garbled: only garbage comes. LinkLost: nothing that speaks the protocol answers. Malformed: it answers in
            another shape. BoardRefused: another protocol version.
        """
        words = {"client": client, "protocol": PROTOCOL, "session": self.session}
        asked = asyncio.ensure_future(self.call("hello", words))
        try:
            await asyncio.wait({asked}, timeout=GARBLED_S)
            if not asked.done() and self._garbled:
                raise Garbled("what arrives is garbage: wrong baud rate, or not a board that speaks to us")
            answer = await asked
        finally:
            asked.cancel()
        self.about = reply_as(Hello, answer, "hello")
        if self.state.boot != self.about.boot:
            self.state = State(self.about.boot)
        self._next_event = self.about.events + 1
        self._news = asyncio.get_running_loop().time()
        if not self._beating:
            self._beating = True
            self.quality.bad_sums = 0  # a line that was cut by our coming is nobody's fault
            self.spawn(self._heartbeat(self.about.heartbeat_window_s / 5))
        return self.about

    @property
    def _garbled(self) -> bool:
        """Whether what came so far is nothing that a board would say."""
        much = self._bytes >= GARBLED_BYTES and not self._good_lines
        return much and self._odd_bytes >= GARBLED_FRACTION * self._bytes

    async def call(self, method: str, params: dict[str, Any] | None = None) -> Any:
        """Send a request and return its result; asks again when no answer or a damaged one comes.

        Every try carries the same id: the board answers a repeated id from memory, so that a retry
        never does a thing twice.
        """
        number = next(self._ids)
        message = {"jsonrpc": "2.0", "id": number, "method": method, "params": params or {}}
        if method == "release":
            self._releases.add(number)
        return await self._exchange(number, encode(message), message, REPLY_S)

    async def block(self, offset: int, data: bytes, reply_s: float = REPLY_S) -> Any:
        """Send a piece of an image, repeated like any request until the board has it.

        Raises:
            LinkLost, BoardRefused: as for :meth:`call`.
        """
        number = next(self._ids)
        message = {"method": "image block", "id": number, "offset": offset, "bytes": len(data)}
        return await self._exchange(number, encode_block(Block(number, offset, data)), message, reply_s)

    def let_go(self) -> None:
        """Tell the board to switch everything off, without waiting for an answer: before we hang up on it."""
        for method in ("motion.stop", "heat.off"):
            self.transport.write(encode({"jsonrpc": "2.0", "id": next(self._ids), "method": method, "params": {}}))

    async def _exchange(self, number: int, frame: bytes, message: Message, reply_s: float) -> Any:
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
                    self.on_talk(">", message)
                self.transport.write(frame)
                try:
                    async with asyncio.timeout(reply_s):
                        reply = await asyncio.shield(answer)
                except TimeoutError:
                    continue
                self.quality.round_trip_s = loop.time() - began
                if "error" in reply:
                    raise _refusal(reply["error"])
                return reply.get("result")
        finally:
            self._waiting.pop(number, None)
            self._sent.pop(number, None)
            self._releases.discard(number)
            answer.cancel()
        raise LinkLost(f"no answer in {reply_s * TRIES:.0f} s: wrong port or baud rate, or the board hangs")

    def signal_halt(self) -> None:
        """The same from any thread; whoever calls it also calls :meth:`halt` in the loop."""
        self.transport.signal(HALT_BYTE)

    def fall_silent(self, seconds: float) -> None:
        """Send no heartbeat for so long: what the board does about it is its own."""
        self._silent_until = asyncio.get_running_loop().time() + seconds

    def halt(self) -> None:
        """Halt the board at once, ahead of anything that waits to be sent, and again behind it: a release may be in it.

        A release that is not answered yet is not asked again, and fails.
        """
        self.transport.write(HALT_BYTE, first=True)
        self.transport.write(HALT_BYTE)
        for number in self._releases & self._waiting.keys():
            if not (answer := self._waiting[number]).done():
                answer.set_result({"error": {"code": HALTED, "message": "Halted again before it was released."}})

    async def _heartbeat(self, every_s: float) -> None:
        beat = encode({"jsonrpc": "2.0", "method": "heartbeat", "params": {"session": self.session}})
        loop = asyncio.get_running_loop()
        while True:
            if loop.time() >= self._silent_until:
                self.transport.write(beat)
            await asyncio.sleep(every_s)
            if loop.time() - self._news > NO_NEWS_S:
                silent = loop.time() - self._received_at > NO_NEWS_S - 1
                reason = "the board has been silent" if silent else "no new readings have come from the board"
                self._hang_up(f"{reason} for {NO_NEWS_S:.0f} s")

    def _received(self, data: bytes) -> None:
        """Bytes came. Whatever goes wrong with them ends the link, and is reported."""
        self._received_at = asyncio.get_running_loop().time()
        self._bytes += len(data)
        if not self._good_lines:
            self._odd_bytes += len(data.translate(None, TEXT))
        try:
            for message in self._decoder.feed(data):
                if message is None:
                    self.quality.bad_sums += 1
                    continue
                self._good_lines += 1
                if isinstance(message, Block):
                    self.on_block(message)
                    continue
                if self.on_talk and message.get("method") != "state":
                    self.on_talk("<", message)
                self._take(message)
        except Exception as error:
            self._hang_up(fault_words(error))

    def _take(self, message: Message) -> None:
        method = message.get("method")
        if method == "state":
            self._take_state(message.get("params"))
        elif method == "event":
            self._take_events([reply_as(EventReport, message.get("params"), "event")])
        elif method == "busy":
            raise Malformed(BUSY)
        elif method == "damaged":
            # a line of ours arrived with a bad sum: say again whatever is unanswered
            for frame in list(self._sent.values()):
                self.quality.retries += 1
                self.transport.write(frame)
        elif isinstance(number := message.get("id"), int):
            waiting = self._waiting.get(number)
            if waiting is not None and not waiting.done():
                waiting.set_result(message)

    def _take_state(self, params: object) -> None:
        report = reply_as(StateReport, params, "state")
        state = State(report.boot, report.mode, report.why, report.guard)
        if state.boot != self.state.boot:
            self._next_sample = self._last_time = None
            self._held.clear()
            self._next_event = 1
            self._early.clear()
        changed, self.state = state != self.state, state
        channels = None if self.about is None or state.boot != self.about.boot else len(self.about.channels)
        samples = checked_samples(params.get("samples") or [] if isinstance(params, dict) else [], channels)
        if samples:
            self._held += samples
            self._sort_out()
        if changed:
            self.on_state(state)
        if report.events >= self._next_event:
            self._ask_events()

    def _take_events(self, events: list[EventReport]) -> None:
        """Pass on events in order, each once; ask for those that are missing before them."""
        for event in events:
            if event.boot == self.state.boot and event.number >= self._next_event:
                self._early[event.number] = event
        while self._next_event in self._early:
            event = self._early.pop(self._next_event)
            self._next_event += 1
            self.on_event(event)
        if self._early:
            self._ask_events()

    def _ask_events(self) -> None:
        if not self._asking:
            self._asking = True
            self.spawn(self._fetch_events(self._next_event))

    async def _fetch_events(self, start: int) -> None:
        """Events that were reported and not received; those that the board no longer keeps are gone."""
        try:
            boot = self.state.boot
            answer = reply_as(EventsPage, await self.call("events.read", {"from": start}), "events.read")
            events = [reply_as(EventReport, {**event, "boot": boot}, "events.read") for event in answer.events]
            if events and self._next_event == start:
                self._next_event = events[0].number
        finally:
            self._asking = False
        self._take_events(events)

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
            self._pass_on(ready)
        if len(self._held) > MOST_HELD * max(1.0, self.about.clock / 10 if self.about is not None else 1.0):
            raise Malformed("the board's samples jump: their numbers do not rise by one")
        if self._held and not self._filling:
            self._filling = True
            self.spawn(self._fill(self._next_sample or 0, int(self._held[0][0] or 0)))

    def _pass_on(self, ready: list[Sample]) -> None:
        for sample in ready:
            now = float(sample[1] or 0.0)
            if self._last_time is not None and now <= self._last_time:
                raise Malformed(f"the board's clock does not rise: {self._last_time:g} s, then {now:g} s")
            self._last_time = now
        self._news = asyncio.get_running_loop().time()
        self.on_samples(ready)

    async def _fill(self, start: int, end: int) -> None:
        try:
            answer = await self.call("samples.read", {"from": start, "to": end})
            samples = answer.get("samples") if isinstance(answer, dict) else answer
            rows = checked_samples(samples, len(self.about.channels) if self.about is not None else None)
            self.quality.recovered_samples += len(rows)
            self._held = rows + self._held
            if not rows or rows[0][0] != start:
                # the board no longer has them: go on from what there is
                self._next_sample = int(min(row[0] or 0 for row in self._held)) if self._held else None
        except Malformed:
            raise
        except (LinkLost, BoardRefused):
            self._next_sample = None
        finally:
            self._filling = False
        self._sort_out()

    def _announce_lost(self, why: str) -> None:
        self.on_lost(why)

    def _fail_waiting(self, why: str) -> None:
        for answer in self._waiting.values():
            if not answer.done():
                answer.set_exception(LinkLost(why))


BUSY = "another host is linked to this board: close that program, then it is free"
MOST_HELD = 6000
"""Samples that wait for missing ones before them: a minute of them on a board whose clock runs a hundred times as
fast, as a demonstration's may; a board keeps at least 200.
"""


def _refusal(error: object) -> BoardRefused:
    """A board's no, whatever shape it has."""
    code, message = (error.get("code"), error.get("message")) if isinstance(error, dict) else (0, error)
    return BoardRefused(code if isinstance(code, int) else 0, str(message)[:500])
