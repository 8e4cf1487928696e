"""The board's side of a dialect: the same file backwards. Lines come in, the board does what they ask, and answers."""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from ublet.core.dialect.acts import NO_WORD
from ublet.core.dialect.framing import LineCutter, WireLine
from ublet.core.dialect.language import ROW, ROWS, Language, ReadingLine, SettingLine, literal
from ublet.core.dialect.parts import AXES
from ublet.core.dialect.pattern import Pattern
from ublet.core.heat.drills import GUARDS_OF
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.settings import Value
from ublet.firmware.board import SimulatedBoard
from ublet.firmware.hardware import Wire
from ublet.firmware.refusal import NOT_ALLOWED, Refused
from ublet.firmware.requests import Params, Requests
from ublet.firmware.service import Service
from ublet.link.frames import Message

Does = Callable[[Mapping[str, Value]], list[str]]


class DialectService(Service):
    """Serves one host in a dialect. A language whose board does not switch off by itself keeps the dead-man asleep."""

    def __init__(
        self, board: SimulatedBoard, language: Language, clock_speed: float, seed: int = 1, wire: Wire | None = None
    ) -> None:
        super().__init__(board, clock_speed, seed, wire)
        self._language = language
        self._does = Requests(board).methods
        board.heat.lacks = frozenset(own for name in language.guards_lacking() for own in GUARDS_OF[name])
        self._programs = itertools.count(1)
        self._rows: dict[str, list[str]] = {}  # of arrays that are on their way
        self._path = ""  # name of the program that the lines of a path make
        self._cutter = LineCutter(language.file.line.longest)
        self._done_last: deque[tuple[int, list[str]]] = deque(maxlen=language.file.line.waiting)
        """Number and answer of the lines that were done last."""
        self._lines: list[tuple[Pattern, Does]] = list(self._known_lines())

    def new_host(self) -> None:
        """Another program is at the other end of the line."""
        super().new_host()
        self._cutter = LineCutter(self._language.file.line.longest)
        self._done_last.clear()

    def take(self, data: bytes) -> None:
        """Take bytes as they arrive: the halt byte counts wherever it stands."""
        halt = self._language.file.halt.byte
        if halt and halt in data:
            self.board.halt()
            data = data.replace(bytes((halt,)), b"")
        for raw in self._cutter.feed(data):
            for _ in range(self._arrivals()):
                self._line(raw)

    def state(self) -> None:
        """What the board says unasked: that it has started, and readings that no line asks for."""
        if not self._language.file.alive.window_s:
            self.board.note_host()
        if self.board.boot != self._boot:
            self._boot = self.board.boot
            self._done_last.clear()
            if self._language.start is not None:
                self._say(self._language.start.write(self._about()))
        if self._session is not None:
            unasked = [one for one in self._language.readings.values() if not one.ask]
            self._say(*(self._reads(unasked)({}) if unasked else ()))

    def stream(self, pause_s: float) -> None:
        """There are no fast readings in a dialect."""

    # lines

    def _line(self, raw: bytes) -> None:
        framing = self._language.framing
        self._close_path()
        line = framing.read_host(raw)
        if line is None:
            self._ask_again()
            return
        if line.text == self._language.file.greeting.ask and self._session is None:
            self._session = "dialect"
            self._done_last.clear()
        if line.text == self._language.file.halt.line:
            self.board.halt()  # whatever its number
            return
        if framing.numbered and line.number is not None and not self._is_next(line):
            return
        self.board.note_host()
        answer = self._done(line)
        if line.number is not None:
            self._done_last.append((line.number, answer))
        self._say(*answer)

    def _is_next(self, line: WireLine) -> bool:
        """Whether a numbered line is to be done now; one that was done already is answered again."""
        number = line.number or 0
        if line.text == self._language.file.greeting.ask or not self._done_last:
            return True
        if (answer := dict(self._done_last).get(number)) is not None:
            self._say(*answer)
            return False
        if number == self._done_last[-1][0] + 1:
            return True
        self._ask_again()
        return False

    def _ask_again(self) -> None:
        again = self._language.again
        if again is not None:
            self._say(again.write({"n": self._done_last[-1][0] + 1 if self._done_last else 1}))
        elif not self._language.framing.numbered:
            self._say(self._language.error.write({"n": 0, "why": "that was damaged"}))

    def _done(self, line: WireLine) -> list[str]:
        number = line.number or 0
        try:
            for pattern, does in self._lines:
                fields = pattern.read(line.text)
                if fields is not None:
                    return [*does(fields), self._language.done.write({"n": number})]
            raise Refused(NOT_ALLOWED, f"what is “{line.text[:60]}”?")
        except Refused as error:
            why = str(error)
        except (KeyError, TypeError, ValueError, OverflowError) as error:
            why = f"that cannot be ({error})"
        return [self._language.error.write({"n": number, "why": why.replace("\n", " ")})]

    def _say(self, *texts: str) -> None:
        """Say lines: one by one where the wire may damage one of them, else together."""
        longest = self._language.file.line.longest
        frames = [self._language.framing.from_board(text[:longest].rstrip()) for text in texts]
        wire = self.wire
        if not wire.spoils:
            frames = [b"".join(frames)] if frames else []
        for frame in frames:
            self._transmit(frame)

    def _emit(self, message: Message) -> None:
        """The protocol's notifications have no line here."""

    # what each line does

    def _known_lines(self) -> Iterator[tuple[Pattern, Does]]:
        """Every line that a host may send, and what it does."""
        language, file = self._language, self._language.file
        yield literal(file.greeting.ask), lambda fields: [language.greeting.write(self._about())]
        if file.alive.line:
            yield literal(file.alive.line), lambda fields: []
        if file.layers.store:
            yield literal(file.layers.store), lambda fields: self._store()
        for ask in dict.fromkeys(one.ask for one in language.readings.values() if one.ask):
            yield literal(ask), self._reads([one for one in language.readings.values() if one.ask == ask])
        for name, spoken in language.requests.items():
            for pattern in spoken.lines[:-1]:
                yield pattern, lambda fields: []  # what goes before, a mode of motion: the last line acts
            yield spoken.lines[-1], self._acts(name, spoken.answer)
        for rule in language.settings.values():
            yield rule.ask, self._answers_setting(rule, stored=False)
            if rule.ask_stored is not None:
                yield rule.ask_stored, self._answers_setting(rule, stored=True)
            if rule.change is not None:
                yield rule.change, self._changes(rule)

    def _acts(self, name: str, answer: Pattern | None) -> Does:
        def does(fields: Mapping[str, Value]) -> list[str]:
            if name in SEGMENTS:
                method, params = "motion.add", self._program(name, fields)
            else:
                method, params = _METHODS[name](fields)
            result = self._does[method](params) or {}
            if answer is None:
                return []
            capped = [one["mm_s"] for one in result.get("capped", ())]
            speed = result.get("speed_mm_s", capped[0] if capped else fields.get("mm_s"))
            return [answer.write({"seconds": result.get("seconds"), "mm_s": speed, "room": result.get("room")})]

        return does

    def _program(self, name: str, fields: Mapping[str, Value]) -> Params:
        """A line of motion as a program of one segment; lines of a path follow one another in one program."""
        mover = self.board.mover
        numbers = {key: float(value) for key, value in fields.items() if isinstance(value, (int, float))}
        run, at = mover.programs.run, 0
        if name != "line":
            self._path = ""
        elif run is not None and run.name == self._path:
            at = run.taken
        else:
            self._path = f"path {next(self._programs)}"
        here = run.promised if run is not None and at else mover.position
        segment = _segment(name, numbers, str(fields.get("motor", "")), here)
        program = self._path or f"line {next(self._programs)}"
        return {"program": program, "at": at, "segments": [segment], "last": name != "line"}

    def _close_path(self) -> None:
        """A path that has run dry has ended: who gives lines one by one does not say which is the last."""
        run = self.board.mover.programs.run
        if run is not None and run.name == self._path and run.starved:
            self.board.mover.programs.close()

    def _reads(self, readings: list[ReadingLine]) -> Does:
        def does(fields: Mapping[str, Value]) -> list[str]:
            records = self._records()
            return [text for one in readings for text in one.write(records)]

        return does

    def _answers_setting(self, rule: SettingLine, stored: bool) -> Does:
        def does(fields: Mapping[str, Value]) -> list[str]:
            path = rule.path.write(fields)
            layers = self.board.layers
            if path not in layers.live or BOARD_SETTINGS.find(path) is None:
                raise Refused(NOT_ALLOWED, f"there is no {path}")
            after_power_on = layers.store.values.get(path, layers.image.get(path))
            value = after_power_on if stored else layers.live[path]
            if value is None:
                raise Refused(NOT_ALLOWED, f"{path} is not set")
            if rule.in_rows:
                rows, row = rule.to_rows(value), int(str(fields[ROW]))
                if row > max(0, len(rows) - 1):
                    raise Refused(NOT_ALLOWED, f"{path} has {len(rows)} rows")
                words = rows[row] if rows else NO_WORD
                return [rule.answer.write({**fields, ROWS: len(rows), "value": words})]
            return [rule.answer.write({**fields, "value": rule.to_wire(value)})]

        return does

    def _changes(self, rule: SettingLine) -> Does:
        def does(fields: Mapping[str, Value]) -> list[str]:
            path = rule.path.write(fields)
            if rule.in_rows:
                rows = [*(self._rows.get(path, []) if fields[ROW] else []), str(fields["value"])]
                self._rows[path] = rows
                if fields[ROWS] and len(rows) != fields[ROWS]:
                    return []
                value = rule.from_rows(BOARD_SETTINGS.find(path), rows if fields[ROWS] else [])
            else:
                value = rule.from_wire(BOARD_SETTINGS.find(path), fields["value"])
            if value is None:
                raise Refused(NOT_ALLOWED, f"{path} cannot be that")
            self.board.write({path: value})
            return []

        return does

    def _store(self) -> list[str]:
        layers = self.board.layers
        kept = layers.image.keys() & layers.live.keys()
        self.board.save({path: None if layers.live[path] == layers.image[path] else layers.live[path] for path in kept})
        return []

    def _about(self) -> dict[str, Value]:
        board = self.board
        return {
            "board": self._language.words.of_board("board", board.hardware.name),
            "firmware": board.slots.running.head.version,
            "boot": board.boot,
        }

    def _records(self) -> list[dict[str, Value]]:
        """Everything that readings may say, a record for each part."""
        board, heat = self.board, self.board.heat
        if not board.samples:
            return [self._of_board()]
        # of one tick, as a sample of the protocol is: a duty that is set between two ticks was not put out yet
        sample = dict(zip(board.channels, board.samples[-1][2:], strict=True))
        records: list[dict[str, Value]] = [
            {"sensor": name, "celsius": sample[f"sensors.{name}"]} for name in heat.sensors
        ]
        records += [
            {"heater": name, "duty": sample[f"heaters.{name}.duty"], "target_c": sample[f"heaters.{name}.target_c"]}
            for name in heat.heaters
        ]
        records += [{"fan": name, "duty": sample[f"fans.{name}"]} for name in heat.fans]
        records += [
            {
                "input": name,
                "pressed": bool(sample.get(f"inputs.{name}")),
                "edges": int(sample.get(f"edges.{name}") or 0),
            }
            for name in board.inputs
        ]
        results = board.mover.home_results
        for axis, mm in board.mover.position.items():
            why, shift = results.get(axis, ("", None))
            records.append({"axis": axis, "mm": mm, "shift_mm": shift, "why": why or NO_WORD})
        records.append(self._of_board())
        return records

    def _of_board(self) -> dict[str, Value]:
        board = self.board
        return {
            "moving": bool(board.mover.moving),
            "room": board.mover.programs.room,
            "halted": board.mode == "halted",
            "guard": board.guard if board.mode == "tripped" else NO_WORD,
            "why": board.why if board.mode != "ready" else NO_WORD,
            "boot": board.boot,
            "time_s": board.time_s,
        }


def _method(name: str, **named: str) -> Callable[[Mapping[str, Value]], tuple[str, Params]]:
    """The board's method, and its parameters by the fields of the line."""

    def make(fields: Mapping[str, Value]) -> tuple[str, Params]:
        params: dict[str, Any] = {key: fields[of] for key, of in named.items() if of in fields}
        return name, params

    return make


def _fixed(name: str, **params: Value) -> Callable[[Mapping[str, Value]], tuple[str, Params]]:
    return lambda fields: (name, {**({"heater": fields["heater"]} if "heater" in fields else {}), **params})


SEGMENTS = frozenset({"line", "push", "touch", "lift"})
"""Requests that are segments of a program on the board."""


def _segment(name: str, numbers: Mapping[str, float], motor: str, here: Mapping[str, float | None]) -> Message:
    """The segment that a line asks for, as the protocol has it: ways become places.

    Raises:
        Refused: an axis is to move that does not know where it stands.
    """
    speed = {"mm_s": numbers["mm_s"]} if "mm_s" in numbers else {}
    match name:
        case "push":
            return {"push": numbers["mm"], **speed}
        case "lift":
            return {"lift": {motor if motor.startswith("extruder.") else f"axes.{motor}": numbers["mm"]}, **speed}
    way = {"z": numbers["mm"]} if name == "touch" else {axis: numbers[axis] for axis in AXES if numbers.get(axis)}
    at = {}
    for axis, mm in way.items():
        stands = here.get(axis)
        if stands is None:
            raise Refused(NOT_ALLOWED, f"{axis.upper()} is not homed: it does not know where it stands")
        at[axis] = stands + mm
    if name == "touch":
        return {"touch": at, **speed}
    if not at:
        return {"push": numbers["filament"], **speed}
    return {"to": at, "filament": numbers["filament"], "mm_s2": numbers.get("mm_s2", 0.0), **speed}


def _drive(fields: Mapping[str, Value]) -> tuple[str, Params]:
    """A duty below a temperature: the board's relay with nothing as its lower duty; no duty switches off."""
    if not fields["duty"]:
        return "heat.target", {"heater": fields["heater"], "celsius": None}
    params = {"heater": fields["heater"], "centre_c": fields["celsius"], "hysteresis_c": 0.5, "low": 0.0}
    return "heat.relay", {**params, "high": fields["duty"]}


_METHODS: Mapping[str, Callable[[Mapping[str, Value]], tuple[str, Params]]] = {
    "hold": _method("heat.target", heater="heater", celsius="celsius"),
    "cool": _fixed("heat.target", celsius=None),
    "relay": _method(
        "heat.relay", heater="heater", centre_c="celsius", hysteresis_c="hysteresis", high="high", low="low"
    ),
    "drive": _drive,
    "fan": _method("fan.set", fan="fan", duty="duty"),
    "off": _fixed("heat.off"),
    "turn": _method("motor.turn", motor="motor", mm="mm", speed_mm_s="mm_s"),
    "move": _method("axis.move", axis="axis", mm="mm", speed_mm_s="mm_s"),
    "home": _method("axis.home", axis="axis"),
    "stop": _fixed("motion.stop"),
    "let-go": _fixed("motor.off"),
    "pin-down": _fixed("probe.pin", deployed=True),
    "pin-up": _fixed("probe.pin", deployed=False),
    "release": _fixed("release"),
}
