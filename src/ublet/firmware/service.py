"""The board's side of the line protocol: requests in, replies and notifications out."""

from __future__ import annotations

import asyncio
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

import numpy as np

from ublet.core.capabilities import ALL, OF_PROGRAMS, STREAMED
from ublet.core.heat.pid import TICK_S
from ublet.firmware.board import HEARTBEAT_WINDOW_S, SimulatedBoard
from ublet.firmware.events import EventFields
from ublet.firmware.hardware import Wire
from ublet.firmware.line import PacedLine
from ublet.firmware.refusal import NOT_ALLOWED, Refused
from ublet.firmware.requests import SAMPLES_AT_ONCE, Params, Requests, StreamRequests, kind_fields, text
from ublet.firmware.streams import LINE_FRACTION
from ublet.link.controller import capability_of
from ublet.link.frames import HALT_BYTE, Block, Decoder, Message, encode, encode_block
from ublet.link.upload import BITS_A_BYTE

REMEMBERED = 64
"""Replies kept, so that a repeated request is answered without being done again."""

STATE_PERIOD_S = 0.1
SLOWEST_STATE_S = 0.5
"""A host may count on a state this often; so many seconds of samples come in one."""

LONGEST_WAIT_S = 0.3
"""While the line is busy for longer than this, a state waits for the next time."""

OVERRUN_BYTES = 1 << 17
"""Most bytes that wait on the line; what a host sends beyond this is lost."""

PROTOCOL = 1
BEFORE_HELLO = frozenset({"hello", "halt", "heat.off", "motion.stop"})
"""What a board does for whoever asks: it only switches off."""


class Service:
    """Serves one host at a time over ``send``; feed it the bytes that arrive."""

    def __init__(self, board: SimulatedBoard, clock_speed: float, seed: int = 1, wire: Wire | None = None) -> None:
        self.board = board
        self.wire = wire or Wire()
        self.send: Callable[[bytes], None] = lambda data: None
        self._speed = clock_speed
        self._session: str | None = None  # None: no host has said hello yet
        self._greeting: Any = None  # the id of the hello that began this session
        self._decoder = Decoder()
        self.replies: OrderedDict[Any, bytes] = OrderedDict()
        self._sent_index = 0
        self._boot = board.boot
        self._random = np.random.default_rng(seed + 1)
        baud = self.wire.baud * clock_speed
        self._arriving = PacedLine(baud, self.take)
        self._leaving = PacedLine(baud, lambda data: self.send(data))
        board.events.listener = self._send_event
        board.streams.line_bytes_s = self.wire.baud / BITS_A_BYTE
        board.keep_samples(clock_speed)
        self._requests = Requests(board)
        methods = {"hello": self._hello, **self._requests.methods, **StreamRequests(board).methods}
        lacks = board.hardware.lacks
        self._methods = {name: work for name, work in methods.items() if capability_of(name) not in lacks}

    def new_host(self) -> None:
        """Another program is at the other end of the line: nothing of the former one's is remembered."""
        self._session = self._greeting = None
        self.replies.clear()
        self._decoder = Decoder()
        self._arriving.clear()
        self._leaving.clear()

    def received(self, data: bytes) -> None:
        """Take bytes from the host, at the line's pace. The halt byte counts wherever it stands.

        What a host sends far ahead of that pace is lost, as where a receiver is overrun; but for the halt byte.
        """
        if self._arriving.waiting_bytes <= OVERRUN_BYTES:
            self._arriving.push(data)
        elif HALT_BYTE in data:
            self.take(HALT_BYTE)

    def take(self, data: bytes) -> None:
        """Take bytes as they arrive from the line."""
        if HALT_BYTE in data:
            self.board.halt()  # at once, before anything that came with it is looked at
            self.state()
        for place, piece in enumerate(data.split(HALT_BYTE)):
            if place:
                self.board.halt()  # a release that was sent before the byte does not outlive it
            for message in self._decoder.feed(piece):
                if message is None:
                    self._emit({"jsonrpc": "2.0", "method": "damaged", "params": {"count": self._decoder.bad}})
                else:
                    for _ in range(self._arrivals()):
                        self.answer(message)

    def _arrivals(self) -> int:
        """How often a line of the host's arrives."""
        if self._random.random() < self.wire.host_drop_rate:
            return 0
        return 2 if self.wire.host_double_rate and self._random.random() < self.wire.host_double_rate else 1

    def state(self) -> None:
        """Send the state notification with all samples since the last."""
        board = self.board
        if board.mode == "ready" and self._leaving.waiting_s() > LONGEST_WAIT_S:
            return
        if board.boot != self._boot:
            self._boot, self._sent_index = board.boot, 0
            self.replies.clear()
        params: Params = {
            "boot": board.boot,
            "mode": board.mode,
            "events": board.events.newest,
            "samples": board.since(max(self._sent_index, board.index - SAMPLES_AT_ONCE), board.index),
        }
        if board.mode != "ready":
            params.update(why=board.why, guard=board.guard)
        self._sent_index = board.index
        self._emit({"jsonrpc": "2.0", "method": "state", "params": params})

    def stream(self, pause_s: float) -> None:
        """Send what fast readings are due, as long as that takes no more than a share of the line's time until this is
        called again, s.
        """
        if self._session is None:
            return
        while self._leaving.waiting_s() < LINE_FRACTION * pause_s and (block := self.board.streams.due()) is not None:
            self._transmit(encode_block(block))

    def answer(self, message: Message | Block) -> None:
        """Do what a message asks, and reply."""
        if isinstance(message, Block):
            self.reply_to(message.id, "image block", lambda: self._requests.image_block(message))
            return
        method, number, params = message.get("method"), message.get("id"), message.get("params", {})
        if method == "heartbeat":
            # one of a host that was here before this one does not keep this one's heat on
            if self._session is not None and isinstance(params, dict) and params.get("session") == self._session:
                self.board.note_host()
            return
        if not isinstance(number, (int, str)) or isinstance(number, bool):
            return
        work = self._methods.get(method) if isinstance(method, str) else None

        def done() -> Any:
            if work is None:
                raise Refused(-32601, f"unknown method “{str(method)[:60]}”")
            if not isinstance(params, dict):
                raise TypeError("params must be an object")
            return work({**params, "id": number} if method == "hello" else params)

        again = number == self._greeting and isinstance(params, dict) and params.get("session") == self._session
        self.reply_to(number, str(method), done, method == "hello" and not again)

    def reply_to(self, number: int | str, method: str, work: Callable[[], Any], anew: bool = False) -> None:
        """Answer a request once; a repeated id gets the same answer again, unless it is another host's hello."""
        if not anew and number in self.replies:
            self.board.note_host()
            self._transmit(self.replies[number])
            return
        reply: Message = {"jsonrpc": "2.0", "id": number}
        try:
            if self._session is None and method not in BEFORE_HELLO:
                raise Refused(NOT_ALLOWED, f"{method}: say hello first, so that it is known who asks")
            self.board.note_host()
            reply["result"] = work()
        except Refused as error:
            reply["error"] = {"code": error.code, "message": str(error)}
        except (KeyError, TypeError, ValueError, OverflowError) as error:
            reply["error"] = {"code": -32602, "message": f"{method}: bad parameters ({error})"}
        frame = encode(reply)
        self.replies[number] = frame
        while len(self.replies) > REMEMBERED:
            self.replies.popitem(last=False)
        self._transmit(frame)
        if self.board.restart_due:
            self.board.restart()

    def _send_event(self, event: EventFields) -> None:
        if self._session is not None:
            self._emit({"jsonrpc": "2.0", "method": "event", "params": {"boot": self.board.boot, **event}})

    def _emit(self, message: Message) -> None:
        self._transmit(encode(message))

    def _transmit(self, frame: bytes) -> None:
        """Send a line through the scenario's imperfect wire."""
        link = self.wire
        if asyncio.get_running_loop().time() < self.board.silent_until:
            return
        if link.spoils:
            if self._random.random() < link.drop_rate:
                return
            if self._random.random() < link.flip_rate:
                at = int(self._random.integers(0, len(frame) - 1))
                digit = b"7" if frame[at : at + 1] != b"7" else b"3"
                frame = frame[:at] + digit + frame[at + 1 :]
            if self._random.random() < link.garbage_rate:
                frame = bytes(self._random.integers(128, 255, 12).tolist()) + frame
            if link.double_rate and self._random.random() < link.double_rate:
                frame += frame
        if link.latency_ms:
            asyncio.get_running_loop().call_later(link.latency_ms / 1000, self._leaving.push, frame)
        else:
            self._leaving.push(frame)

    def _hello(self, params: Params) -> Any:
        if params.get("protocol") != PROTOCOL:
            raise Refused(NOT_ALLOWED, f"this board speaks protocol {PROTOCOL}, not {params.get('protocol')}")
        board, session = self.board, text(params, "session") if "session" in params else ""
        was_on: list[dict[str, Any]] = []
        returned: dict[str, Any] = {}
        if not session or session != self._session:
            was_on = board.new_session()
            returned = board.give_back(list(board.layers.on_loan))
            self.replies.clear()
        self._session, self._greeting = session, params["id"]
        self._sent_index = board.index
        return {
            "was_on": was_on,
            "returned": returned,
            "board": board.hardware.name,
            "boot": board.boot,
            "events": board.events.newest,
            "firmware": board.slots.running.head.version,
            "clock": self._speed,
            "simulated": True,
            "channels": board.channels,
            "can": sorted(ALL - STREAMED - OF_PROGRAMS - board.lacks),
            "streams": [kind_fields(kind) for kind in board.streams.kinds.values()],
            "sample_period_s": TICK_S,
            "heartbeat_window_s": HEARTBEAT_WINDOW_S,
        }
