"""The board's side of the line protocol: requests in, replies and notifications out."""

from __future__ import annotations

import asyncio
import math
from collections import OrderedDict
from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np

from ublet.core.heat.pid import TICK_S
from ublet.core.motion.program import Segment
from ublet.core.settings import frozen
from ublet.firmware.board import HEARTBEAT_WINDOW_S, Board
from ublet.firmware.events import Event
from ublet.firmware.hardware import Wire
from ublet.firmware.line import PacedLine
from ublet.firmware.moving import Told
from ublet.firmware.refusal import NOT_ALLOWED, STORE_FAILED, UNBEGUN, Refused
from ublet.firmware.slots import SlotRefused
from ublet.link.frames import HALT_BYTE, Block, Decoder, Message, encode
from ublet.link.segments import segment_from

REMEMBERED = 64
"""Replies kept, so that a repeated request is answered without being done again."""

STATE_PERIOD_S = 0.1
SLOWEST_STATE_S = 0.5
"""A host may count on a state this often; so many seconds of samples come in one."""

LONGEST_WAIT_S = 0.3
"""While the line is busy for longer than this, a state waits for the next time."""

SETTINGS_AT_ONCE = 40
"""Settings in one reply, so that a slow line carries it within a host's patience."""

SAMPLES_AT_ONCE = 120
"""Samples in one line, so that it is no longer than a line may be; the host asks for the rest."""

PROTOCOL = 1
BEFORE_HELLO = frozenset({"hello", "halt", "heat.off", "motion.stop"})
"""What a board does for whoever asks: it only switches off."""

Params = dict[str, Any]
T = TypeVar("T")


class Service:
    """Serves one host at a time over ``send``; feed it the bytes that arrive."""

    def __init__(self, board: Board, clock_speed: float, seed: int = 1, wire: Wire | None = None) -> None:
        self.board = board
        self.wire = wire or Wire()
        self.send: Callable[[bytes], None] = lambda data: None
        self._speed = clock_speed
        self._session: str | None = None  # None: no host has said hello yet
        self._greeting: Any = None  # the id of the hello that began this session
        self._decoder = Decoder()
        self._replies: OrderedDict[Any, bytes] = OrderedDict()
        self._sent_index = 0
        self._boot = board.boot
        self._random = np.random.default_rng(seed + 1)
        baud = self.wire.baud * clock_speed
        self._arriving = PacedLine(baud, self._take)
        self._leaving = PacedLine(baud, lambda data: self.send(data))
        board.events.told = self._tell_event
        self._methods: dict[str, Callable[[Params], Any]] = {
            "hello": self._hello,
            "settings.read": self._read,
            "settings.write": self._write,
            "settings.save": self._save,
            "heat.target": self._target,
            "heat.relay": self._relay,
            "heat.off": self._off,
            "fan.set": self._fan,
            "probe.pin": self._pin,
            "motor.turn": self._turn,
            "axis.move": self._move,
            "axis.home": self._home,
            "axis.status": self._axis_status,
            "motion.stop": self._stop,
            "motion.add": self._add,
            "motion.adjust": self._adjust,
            "motion.hold": self._hold,
            "motion.go_on": self._go_on,
            "halt": self._halt,
            "release": self._release,
            "samples.read": self._samples,
            "events.read": self._events,
            "image.status": self._image_status,
            "image.begin": self._image_begin,
            "image.verify": self._image_verify,
            "image.switch": self._image_switch,
        }

    def new_host(self) -> None:
        """Another program is at the other end of the line: nothing of the former one's is remembered."""
        self._session = self._greeting = None
        self._replies.clear()
        self._decoder = Decoder()

    def received(self, data: bytes) -> None:
        """Take bytes from the host, at the line's pace. The halt byte counts wherever it stands."""
        self._arriving.push(data)

    def _take(self, data: bytes) -> None:
        if HALT_BYTE in data:
            self.board.halt()
            data = data.replace(HALT_BYTE, b"")
            self.state()
        for message in self._decoder.feed(data):
            if message is None:
                self._emit({"jsonrpc": "2.0", "method": "damaged", "params": {"count": self._decoder.bad}})
            elif self._random.random() >= self.wire.host_drop_rate:
                self._answer(message)

    def state(self) -> None:
        """Send the state notification with all samples since the last."""
        board = self.board
        if board.mode == "ready" and self._leaving.waiting_s() > LONGEST_WAIT_S:
            return
        if board.boot != self._boot:
            self._boot, self._sent_index = board.boot, 0
            self._replies.clear()
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

    def _answer(self, message: Message | Block) -> None:
        if isinstance(message, Block):
            self._reply(message.id, "image block", lambda: self._image_block(message))
            return
        method, number, params = message.get("method"), message.get("id"), message.get("params", {})
        if method == "heartbeat":
            # one of a host that was here before this one does not keep this one's heat on
            if self._session is not None and isinstance(params, dict) and params.get("session") == self._session:
                self.board.heard()
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
        self._reply(number, str(method), done, method == "hello" and not again)

    def _reply(self, number: int | str, method: str, work: Callable[[], Any], anew: bool = False) -> None:
        """Answer a request once; a repeated id gets the same answer again, unless it is another host's hello."""
        if not anew and number in self._replies:
            self.board.heard()
            self._transmit(self._replies[number])
            return
        reply: Message = {"jsonrpc": "2.0", "id": number}
        try:
            if self._session is None and method not in BEFORE_HELLO:
                raise Refused(NOT_ALLOWED, f"{method}: say hello first, so that it is known who asks")
            self.board.heard()
            reply["result"] = work()
        except Refused as error:
            reply["error"] = {"code": error.code, "message": str(error)}
        except (KeyError, TypeError, ValueError, OverflowError) as error:
            reply["error"] = {"code": -32602, "message": f"{method}: bad parameters ({error})"}
        frame = encode(reply)
        self._replies[number] = frame
        while len(self._replies) > REMEMBERED:
            self._replies.popitem(last=False)
        self._transmit(frame)
        if self.board.restart_due:
            self.board.restart()

    def _tell_event(self, event: Event) -> None:
        if self._session is not None:
            self._emit({"jsonrpc": "2.0", "method": "event", "params": {"boot": self.board.boot, **event}})

    def _emit(self, message: Message) -> None:
        self._transmit(encode(message))

    def _transmit(self, frame: bytes) -> None:
        """Send a line through the scenario's imperfect wire."""
        link = self.wire
        if asyncio.get_running_loop().time() < self.board.silent_until:
            return
        if link.drop_rate or link.flip_rate or link.garbage_rate:
            if self._random.random() < link.drop_rate:
                return
            if self._random.random() < link.flip_rate:
                at = int(self._random.integers(0, len(frame) - 1))
                digit = b"7" if frame[at : at + 1] != b"7" else b"3"
                frame = frame[:at] + digit + frame[at + 1 :]
            if self._random.random() < link.garbage_rate:
                frame = bytes(self._random.integers(128, 255, 12).tolist()) + frame
        if link.latency_ms:
            asyncio.get_running_loop().call_later(link.latency_ms / 1000, self._leaving.push, frame)
        else:
            self._leaving.push(frame)

    # methods

    def _hello(self, params: Params) -> Any:
        if params.get("protocol") != PROTOCOL:
            raise Refused(NOT_ALLOWED, f"this board speaks protocol {PROTOCOL}, not {params.get('protocol')}")
        board, session = self.board, _text(params, "session") if "session" in params else ""
        was_on: list[dict[str, Any]] = []
        if not session or session != self._session:
            was_on = board.new_session()
            self._replies.clear()
        self._session, self._greeting = session, params["id"]
        self._sent_index = board.index
        return {
            "was_on": was_on,
            "board": board.hardware.name,
            "boot": board.boot,
            "events": board.events.newest,
            "firmware": board.slots.running.head.version,
            "clock": self._speed,
            "simulated": True,
            "channels": board.channels,
            "sample_period_s": TICK_S,
            "heartbeat_window_s": HEARTBEAT_WINDOW_S,
        }

    def _read(self, params: Params) -> Any:
        layers = self.board.layers
        start = _whole(params, "from") if "from" in params else 0
        wanted = list(layers.image)[start:]
        if "paths" in params:
            wanted = params["paths"]
            if not isinstance(wanted, list) or not all(isinstance(path, str) for path in wanted):
                raise TypeError("paths must be a list of words")
            if unknown := [path for path in wanted if path not in layers.image]:
                raise Refused(NOT_ALLOWED, f"this board's image has no {', '.join(unknown[:3])}")
        return {
            "values": {
                path: {"image": layers.image[path], "stored": layers.store.values.get(path), "live": layers.live[path]}
                for path in wanted[:SETTINGS_AT_ONCE]
            },
            "total": len(layers.image),
        }

    def _write(self, params: Params) -> Any:
        self.board.write(_values(params))
        return {"written": len(params["values"])}

    def _save(self, params: Params) -> Any:
        self.board.save(_values(params))
        return {"saved": len(params["values"])}

    def _target(self, params: Params) -> Any:
        celsius = None if params["celsius"] is None else _number(params, "celsius")
        self.board.hold(_text(params, "heater"), celsius)
        return {}

    def _relay(self, params: Params) -> Any:
        numbers = [_number(params, key) for key in ("centre_c", "hysteresis_c", "high", "low")]
        self.board.relay(_text(params, "heater"), *numbers)
        return {}

    def _off(self, params: Params) -> Any:
        self.board.heat.all_off()
        return {}

    def _fan(self, params: Params) -> Any:
        self.board.blow(_text(params, "fan"), _number(params, "duty"))
        return {}

    def _pin(self, params: Params) -> Any:
        if not isinstance(params["deployed"], bool):
            raise TypeError("deployed must be true or false")
        self.board.pin(params["deployed"])
        return {}

    def _turn(self, params: Params) -> Any:
        self.board.must_be_ready()
        mover, motor = self.board.mover, _text(params, "motor")
        return _told(mover.turn_motor(motor, _number(params, "mm"), _number(params, "speed_mm_s")))

    def _move(self, params: Params) -> Any:
        self.board.must_be_ready()
        mover, axis = self.board.mover, _text(params, "axis")
        return _told(mover.move_axis(axis, _number(params, "mm"), _number(params, "speed_mm_s")))

    def _home(self, params: Params) -> Any:
        self.board.must_be_ready()
        return {"motion": self.board.mover.home(_text(params, "axis"))}

    def _stop(self, params: Params) -> Any:
        self.board.mover.stop()
        return {}

    def _add(self, params: Params) -> Any:
        self.board.must_be_ready()
        told = params["segments"]
        if not isinstance(told, list):
            raise TypeError("segments must be a list")
        segments = [_segment(number, each) for number, each in enumerate(told)]
        mover = self.board.mover
        run = mover.take(_text(params, "program"), _whole(params, "at"), segments, params.get("last") is True)
        return {"motion": run.motion, "taken": run.taken, "room": mover.programs.room}

    def _adjust(self, params: Params) -> Any:
        self.board.must_be_ready()
        programs = self.board.mover.programs
        programs.adjust(*(_number(params, key) if key in params else None for key in ("feed", "flow", "height_mm")))
        return {"feed": self.board.mover.queue.feed, "flow": programs.flow, "height_mm": programs.height_mm}

    def _hold(self, params: Params) -> Any:
        self.board.must_be_ready()
        self.board.mover.hold(True)
        return {}

    def _go_on(self, params: Params) -> Any:
        self.board.must_be_ready()
        self.board.mover.hold(False)
        return {}

    def _axis_status(self, params: Params) -> Any:
        mover = self.board.mover
        return {
            axis: {"mm": mover.position[axis], "why": why, "shift_mm": by} for axis, (why, by) in mover.told.items()
        }

    def _halt(self, params: Params) -> Any:
        self.board.halt()
        return {}

    def _release(self, params: Params) -> Any:
        self.board.release()
        return {}

    def _samples(self, params: Params) -> Any:
        start, end = _whole(params, "from"), _whole(params, "to")
        kept = max(start, self.board.index - len(self.board.samples))
        return {"samples": self.board.since(kept, min(end, kept + SAMPLES_AT_ONCE))}

    def _events(self, params: Params) -> Any:
        return {"events": self.board.events.since(_whole(params, "from"))}

    def _image_status(self, params: Params) -> Any:
        slots = self.board.slots
        head = slots.running.head
        return {
            "slot": slots.active,
            "slot_bytes": slots.slot_bytes,
            "bytes": len(slots.running.data),
            "digest": slots.running.digest,
            "firmware": head.version,
            "machine": head.machine,
            "modules": list(slots.running.modules),
        }

    def _image_begin(self, params: Params) -> Any:
        self.board.must_be_idle()
        words = [_text(params, key) for key in ("digest", "board", "firmware")]
        incoming = self._slot(lambda: self.board.slots.begin(_whole(params, "size"), *words))
        return {"slot": self.board.slots.other, "have": incoming.have}

    def _image_block(self, block: Block) -> Any:
        return {"missing": self._slot(lambda: self.board.slots.put(block.offset, block.data))}

    def _image_verify(self, params: Params) -> Any:
        return {"digest": self._slot(self.board.slots.verify)}

    def _image_switch(self, params: Params) -> Any:
        self.board.must_be_idle()
        try:
            self._slot(self.board.slots.switch)
        except OSError as error:
            raise Refused(STORE_FAILED, f"the board's slots could not be written: {error}") from error
        self.board.restart_due = True
        return {"slot": self.board.slots.active}

    def _slot(self, work: Callable[[], T]) -> T:
        try:
            return work()
        except SlotRefused as error:
            raise Refused(UNBEGUN if error.unbegun else NOT_ALLOWED, str(error)) from error


def _told(told: Told) -> dict[str, Any]:
    return {
        "motion": told.motion,
        "seconds": round(told.seconds, 3),
        "speed_mm_s": told.speed_mm_s,
        "capped_by": told.capped_by,
    }


def _segment(number: int, told: object) -> Segment:
    try:
        return segment_from(told)
    except ValueError as error:
        raise ValueError(f"segment {number}: {error}") from error


def _number(params: Params, key: str) -> float:
    value = params[key]
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
        raise TypeError(f"{key} must be a finite number")
    return float(value)


def _whole(params: Params, key: str) -> int:
    value = _number(params, key)
    if value < 0 or value != int(value):
        raise TypeError(f"{key} must be a whole number from 0")
    return int(value)


def _text(params: Params, key: str) -> str:
    value = params[key]
    if not isinstance(value, str):
        raise TypeError(f"{key} must be a word")
    return value


def _values(params: Params) -> dict[str, Any]:
    """Settings as JSON has them: lists are arrays."""
    return {path: frozen(value) for path, value in _table(params, "values").items()}


def _table(params: Params, key: str) -> dict[str, Any]:
    table = params[key]
    if not isinstance(table, dict):
        raise TypeError(f"{key} must be an object")
    return table
