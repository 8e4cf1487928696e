"""What a host may ask of the board: each method of the protocol, its parameters checked."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, TypeVar

from ublet.core.motion.program import Segment
from ublet.core.settings import frozen
from ublet.core.streams import StreamKind
from ublet.firmware.board import SimulatedBoard
from ublet.firmware.moving import AcceptedMove
from ublet.firmware.refusal import NOT_ALLOWED, STORE_FAILED, UNBEGUN, Refused
from ublet.firmware.slots import SlotRefused
from ublet.link.frames import Block
from ublet.link.segments import park_from, segment_from

SETTINGS_AT_ONCE = 40
"""Settings in one reply, so that a slow line carries it within a host's patience."""

SAMPLES_AT_ONCE = 120
"""Samples in one line, so that it is no longer than a line may be; the host asks for the rest."""

Params = dict[str, Any]
T = TypeVar("T")


class Requests:
    """Does what is asked; raises Refused, or what wrong parameters make of Python."""

    def __init__(self, board: SimulatedBoard) -> None:
        self.board = board
        self.methods: dict[str, Callable[[Params], Any]] = {
            "settings.read": self._read,
            "settings.write": self._write,
            "settings.save": self._save,
            "settings.lend": self._lend,
            "settings.give_back": self._give_back,
            "heat.target": self._target,
            "heat.relay": self._relay,
            "heat.off": self._off,
            "fan.set": self._fan,
            "probe.pin": self._pin,
            "motor.turn": self._turn,
            "motor.off": self._let_go,
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

    def _read(self, params: Params) -> Any:
        layers = self.board.layers
        start = whole(params, "from") if "from" in params else 0
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

    def _lend(self, params: Params) -> Any:
        self.board.lend(_values(params))
        return {"lent": len(params["values"])}

    def _give_back(self, params: Params) -> Any:
        paths = params["paths"]
        if not isinstance(paths, list) or not all(isinstance(path, str) for path in paths):
            raise TypeError("paths must be a list of words")
        return {"values": self.board.give_back(paths)}

    def _target(self, params: Params) -> Any:
        celsius = None if params["celsius"] is None else number(params, "celsius")
        self.board.hold(text(params, "heater"), celsius)
        return {}

    def _relay(self, params: Params) -> Any:
        numbers = [number(params, key) for key in ("centre_c", "hysteresis_c", "high", "low")]
        self.board.relay(text(params, "heater"), *numbers)
        return {}

    def _off(self, params: Params) -> Any:
        self.board.heat.all_off()
        return {}

    def _fan(self, params: Params) -> Any:
        self.board.blow(text(params, "fan"), number(params, "duty"))
        return {}

    def _pin(self, params: Params) -> Any:
        if not isinstance(params["deployed"], bool):
            raise TypeError("deployed must be true or false")
        self.board.pin(params["deployed"])
        return {}

    def _turn(self, params: Params) -> Any:
        self.board.must_be_ready()
        mover, motor = self.board.mover, text(params, "motor")
        return _accepted_fields(mover.turn_motor(motor, number(params, "mm"), number(params, "speed_mm_s")))

    def _move(self, params: Params) -> Any:
        self.board.must_be_ready()
        mover, axis = self.board.mover, text(params, "axis")
        return _accepted_fields(mover.move_axis(axis, number(params, "mm"), number(params, "speed_mm_s")))

    def _home(self, params: Params) -> Any:
        self.board.must_be_ready()
        return {"motion": self.board.mover.home(text(params, "axis"))}

    def _stop(self, params: Params) -> Any:
        self.board.mover.stop()
        return {}

    def _add(self, params: Params) -> Any:
        self.board.must_be_ready()
        raw = params["segments"]
        if not isinstance(raw, list):
            raise TypeError("segments must be a list")
        segments = [_segment(number, field) for number, field in enumerate(raw)]
        mover = self.board.mover
        park = park_from(params["park"]) if params.get("park") is not None else None
        run = mover.take(text(params, "program"), whole(params, "at"), segments, params.get("last") is True, park)
        capped = [{"segment": number, "mm_s": top, "capped_by": by} for number, top, by in run.capped]
        return {"motion": run.motion, "taken": run.taken, "room": mover.programs.room, "capped": capped}

    def _adjust(self, params: Params) -> Any:
        self.board.must_be_ready()
        programs = self.board.mover.programs
        programs.adjust(*(number(params, key) if key in params else None for key in ("feed", "flow", "height_mm")))
        return {"feed": self.board.mover.queue.feed, "flow": programs.flow, "height_mm": programs.height_mm}

    def _let_go(self, params: Params) -> Any:
        self.board.must_be_ready()
        self.board.let_go()
        return {}

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
            axis: {"mm": mover.position[axis], "why": why, "shift_mm": by}
            for axis, (why, by) in mover.home_results.items()
        }

    def _halt(self, params: Params) -> Any:
        self.board.halt()
        return {}

    def _release(self, params: Params) -> Any:
        self.board.release()
        return {}

    def _samples(self, params: Params) -> Any:
        start, end = whole(params, "from"), whole(params, "to")
        kept = max(start, self.board.index - len(self.board.samples))
        return {"samples": self.board.since(kept, min(end, kept + SAMPLES_AT_ONCE))}

    def _events(self, params: Params) -> Any:
        return {"events": self.board.events.since(whole(params, "from"))}

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
        words = [text(params, key) for key in ("digest", "board", "firmware")]
        incoming = self._slot(lambda: self.board.slots.begin(whole(params, "size"), *words))
        return {"slot": self.board.slots.other, "have": incoming.have}

    def image_block(self, block: Block) -> Any:
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


def _accepted_fields(accepted: AcceptedMove) -> dict[str, Any]:
    return {
        "motion": accepted.motion,
        "seconds": round(accepted.seconds, 3),
        "speed_mm_s": accepted.speed_mm_s,
        "capped_by": accepted.capped_by,
    }


def _segment(number: int, raw: object) -> Segment:
    try:
        return segment_from(raw)
    except ValueError as error:
        raise ValueError(f"segment {number}: {error}") from error


def number(params: Params, key: str) -> float:
    value = params[key]
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
        raise TypeError(f"{key} must be a finite number")
    return float(value)


def whole(params: Params, key: str) -> int:
    value = number(params, key)
    if value < 0 or value != int(value):
        raise TypeError(f"{key} must be a whole number from 0")
    return int(value)


def text(params: Params, key: str) -> str:
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


class StreamRequests:
    """Does what is asked; raises Refused, or what wrong parameters make of Python."""

    def __init__(self, board: SimulatedBoard) -> None:
        self._streams = board.streams
        self.methods: dict[str, Callable[[Params], Any]] = {
            "stream.open": self._open,
            "stream.credit": self._credit,
            "stream.again": self._again,
            "stream.close": self._close,
        }

    def _open(self, params: Params) -> Any:
        capture_s = number(params, "capture_s") if "capture_s" in params else None
        return self._streams.open(text(params, "stream"), number(params, "rate_hz"), capture_s)

    def _credit(self, params: Params) -> Any:
        self._streams.credit(whole(params, "number"), whole(params, "upto"))
        return {}

    def _again(self, params: Params) -> Any:
        raw = params["blocks"]
        if not isinstance(raw, list):
            raise TypeError("blocks must be a list of whole numbers")
        blocks = [whole({"blocks": field}, "blocks") for field in raw]
        return self._streams.again(whole(params, "number"), blocks)

    def _close(self, params: Params) -> Any:
        return self._streams.close(whole(params, "number"))


def kind_fields(kind: StreamKind) -> dict[str, Any]:
    """A sensor that streams, as hello shows it."""
    return {
        "name": kind.name,
        "columns": list(kind.columns),
        "units": list(kind.units),
        "scales": list(kind.scales),
        "rates_hz": list(kind.rates_hz),
        "memory_bytes": kind.memory_bytes,
        "socket": kind.socket,
    }
