"""The end of a link whose lines a dialect file describes: lines sent, readings asked for again and again, and what the
board does not say by itself (ends of motions, numbers of samples) made of them.
"""

from __future__ import annotations

import asyncio
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from ublet.core.dialect.acts import NO_WORD, REQUESTS, part_in
from ublet.core.dialect.framing import LineCutter
from ublet.core.dialect.language import Language
from ublet.core.dialect.parts import AXES, MachineParts
from ublet.core.dialect.pattern import LinePatternError, Pattern
from ublet.core.settings import Value
from ublet.link.dialect_settings import DialectSettings, first_read
from ublet.link.end import LinkListeners, LinkQuality, LinkWork, State, fault_words
from ublet.link.errors import NOT_ALLOWED, BoardRefused, LinkLost, Malformed
from ublet.link.exchanges import ExchangeHooks, LineExchanges
from ublet.link.host_guards import HostGuards, HostTrip
from ublet.link.replies import EventReport, Hello, Sample
from ublet.link.transport import Transport

LOOKS_SHOWN = 100
"""One look of so many is part of the raw dialogue."""

READ_TRIES, SHORT_LOOKS = 3, 5
READ_S = 0.1
"""Readings are asked for this often, s; a slow line takes longer."""

RESTS_S, ASKED_S = 0.25, 1.0
"""The same while no trial runs and nothing moves or heats; how long after any other request they stay frequent, s."""

NO_NEWS_S = 4.0
"""Without new readings for this long the link is ended, as over the protocol."""

COLDEST_C, HOTTEST_C = -80.0, 1500.0
FARTHEST_MM = 1e5
"""Readings beyond these are none of a machine: the link is ended."""

JUMP_C = 10.0
"""No temperature changes by more from look to look, but for a sensor that ends."""

LONGEST_SILENCE_S = 1e9
WE_HALTED = "Ublet watches for this, since the board does not, and has halted it."


@dataclass
class HostRelay:
    """A heater that we switch between two duties around a temperature, where the board has no relay."""

    centre_c: float
    hysteresis_c: float
    high: float
    low: float
    on: bool | None = None


class DialectClient(LinkWork):
    """One open link in a dialect. parts: of the machine at its end."""

    def __init__(self, transport: Transport, language: Language, parts: MachineParts, listeners: LinkListeners) -> None:
        super().__init__()
        self.transport, self.language, self.parts = transport, language, parts
        self.quality, self.state = LinkQuality(), State()
        self.about: Hello | None = None
        self.relays: dict[str, HostRelay] = {}
        self.values: dict[str, float | None] = {}
        self.homed: dict[str, tuple[str, float | None]] = {}
        self.may_heat = listeners.may_heat
        self.on_cut: Callable[[bool], None] = lambda restarted: None
        self.on_look: Callable[[], None] = lambda: None
        self.settings = DialectSettings(self)
        self._guards = HostGuards(language.guards_lacking(), parts, self.settings.known)
        self.tripped: HostTrip | None = None
        """The guard of ours that has tripped, until it is released."""
        self.room: int | None = None
        """How many lines more of a path the board takes, as it said last; None: it has not said."""
        self._most_room = self._lines = self._lines_then = 0
        self._listeners = listeners
        self._cutter = LineCutter(language.file.line.longest)
        hooks = ExchangeHooks(transport.write, self._talk, self._hang_up, self._silent_s)
        self._exchanges = LineExchanges(language, self.quality, hooks)
        self._index = self._events = self._motions = 0
        self._edges: dict[str, tuple[bool, int]] = {}
        self._moving: dict[int, int] = {}  # motions under way, and the look that may find them ended
        self._stand_waits: list[tuple[int, asyncio.Future[None]]] = []  # the same for whoever waits
        self._look_waits: list[asyncio.Future[None]] = []
        self._looks = self._short_looks = 0
        self._asked_s = -math.inf
        self._stood: int | None = None  # the look before, if nothing moved in it
        self._unasked: dict[tuple[str, str], tuple[float, dict[str, Value]]] = {}
        self._unasked_at = 0.0
        self._spoken_of: dict[str, int] = {}  # how many records each rule had
        self._silent_until = 0.0
        self._loop = asyncio.get_running_loop()
        self._began = self._news = self._loop.time()
        self._last_s: float | None = None
        transport.received = self._received
        transport.lost = self._lost

    # the link

    async def hello(self, client: str = "ublet") -> Hello:
        """Ask who is there, and begin to read.

        Raises:
            LinkLost: nothing that speaks this language answers. Malformed: it says something else of itself.
        """
        greeting = self.language.file.greeting
        try:
            lines = await self.ask(greeting.ask, first=True)
        except (LinkLost, BoardRefused) as error:
            raise LinkLost(f"nothing there answers “{greeting.ask}” as {self.language.file.name}: {error}") from error
        said = first_read(self.language.greeting, lines)
        if said is None:
            came = f"“{lines[0][:60]}”" if lines else "nothing"
            raise Malformed(f"it answers “{greeting.ask}” with {came}: not the language {self.language.file.name}")
        board = self.language.words.of_ours("board", str(said.get("board", "")))
        boot = said.get("boot")
        self.state = State(boot if isinstance(boot, int) else self.state.boot)
        alive = self.language.file.alive
        self.about = Hello(
            board=board,
            boot=self.state.boot,
            firmware=str(said.get("firmware", self.language.file.name)),
            clock=1.0,
            channels=self.parts.channels,
            sample_period_s=READ_S,
            heartbeat_window_s=alive.window_s or LONGEST_SILENCE_S,
            switches_off=alive.window_s > 0,
            stores=bool(self.language.file.layers.store),
            host_guards=sorted(self.language.guards_lacking()),
            language=self.language.file.name,
            can=sorted(self.language.can()),
        )
        self._news = self._loop.time()
        if not self._tasks:
            self.spawn(self._look())
            if alive.line:
                self.spawn(self._show_alive())
        return self.about

    async def call(self, method: str, params: dict[str, Any] | None = None) -> Any:
        """Requests have no such names here.

        Raises:
            BoardRefused: always.
        """
        raise BoardRefused(NOT_ALLOWED, f"{method}: {self.language.file.name} is no language with such a request")

    def signal_halt(self) -> None:
        """Halt from any thread."""
        self.transport.signal(self._halt_bytes())

    def halt(self) -> None:
        """Halt ahead of anything that waits, and again behind it."""
        self.relays.clear()
        self.transport.write(self._halt_bytes(), first=self.language.file.halt.overtakes)
        self.transport.write(self._halt_bytes())

    def _halt_bytes(self) -> bytes:
        halt = self.language.file.halt
        if halt.byte:
            return bytes((halt.byte,))
        return self.language.framing.from_host(halt.line, 0)

    def fall_silent(self, seconds: float) -> None:
        """Send nothing for so long."""
        self._silent_until = self._loop.time() + seconds

    def _silent_s(self) -> float:
        return self._silent_until - self._loop.time()

    def let_go(self) -> None:
        """Everything off, without waiting for an answer."""
        for name in ("stop", "off"):
            for pattern in self.language.requests[name].lines if name in self.language.requests else ():
                self.transport.write(self._exchanges.frame(pattern.write({})))

    @property
    def news_at_s(self) -> float:
        """When readings came last, by the loop's clock, s."""
        return self._news

    # asking

    async def request(self, name: str, **values: Value) -> dict[str, Value]:
        """Do what a request of the dialect says; returns the fields of its answer.

        Raises:
            BoardRefused: the language has no such line, or the board says no. LinkLost: no answer.
        """
        spoken = self.language.requests.get(name)
        if spoken is None:
            help_words = REQUESTS[name].help
            raise BoardRefused(
                NOT_ALLOWED, f"{self.language.file.name} has no line to {help_words} ([requests.{name}])"
            )
        answers: list[str] = []
        for number, pattern in enumerate(spoken.lines, 1):
            wants = spoken.answer if number == len(spoken.lines) else None
            answers = await self.ask(self.line_for(name, pattern.write, values), REQUESTS[name].again, wants)
        return first_read(spoken.answer, answers) or {}

    def line_for(self, name: str, write: Callable[[Mapping[str, Value]], str], values: Mapping[str, Value]) -> str:
        """The line that says something.

        Raises:
            BoardRefused: the language cannot say it, or not in a line.
        """
        try:
            line: str = write(values)
            line.encode(self.language.file.line.encoding)
        except (LinePatternError, KeyError, UnicodeEncodeError) as error:
            raise BoardRefused(NOT_ALLOWED, f"{name} cannot be said in {self.language.file.name}: {error}") from error
        if len(line) > self.language.file.line.longest:
            raise BoardRefused(
                NOT_ALLOWED, f"{name}: the line is longer than {self.language.file.line.longest} characters"
            )
        return line

    async def ask(
        self, line: str, again: bool = True, wants: Pattern | None = None, first: bool = False, looks: bool = False
    ) -> list[str]:
        """Send a line, and return those of its reply: see :meth:`LineExchanges.ask`.

        Raises:
            LinkLost, Malformed, BoardRefused.
        """
        self._asked_s = self._asked_s if looks else self._loop.time()
        return await self._exchanges.ask(line, again, wants, first, looks)

    # motions

    def next_motion(self) -> int:
        """A number by which the end of a motion will be reported."""
        self._motions += 1
        return self._motions

    def begun(self) -> int:
        """A motion was accepted: returns the number by which its end will be reported, as soon as it stands."""
        motion = self.next_motion()
        self._moving[motion] = self._looks + 1  # a look that began before may still have seen it standing
        return motion

    async def stands(self) -> None:
        """Wait until the board has come to stand after all that it was given so far.

        Raises:
            LinkLost: the board restarted, or the link went.
        """
        stood: asyncio.Future[None] = self._loop.create_future()
        self._stand_waits.append((self._looks + 1, stood))
        await stood

    async def next_look(self) -> None:
        """Wait for the next readings.

        Raises:
            LinkLost: the board restarted, or the link went.
        """
        looked: asyncio.Future[None] = self._loop.create_future()
        self._look_waits.append(looked)
        await looked

    async def line(self, values: Mapping[str, float]) -> tuple[dict[str, Value], dict[str, float]]:
        """One line of a path. Returns the fields of its answer, and those that the line said, as its digits have them.

        Raises:
            BoardRefused, LinkLost.
        """
        answer = await self.request("line", **values)
        self._lines += 1
        if isinstance(room := answer.get("room"), int):
            self._note_room(room)
        pattern = self.language.requests["line"].lines[-1]
        said = pattern.read(pattern.write(values)) or {}
        return answer, {name: value for name, value in said.items() if isinstance(value, float)}

    def _note_room(self, room: int) -> None:
        self.room, self._lines_then = room, self._lines
        self._most_room = max(self._most_room, room)

    @property
    def room_left(self) -> int:
        """How many lines more it takes now, as far as we know."""
        return max(0, (self.room or 0) - (self._lines - self._lines_then))

    @property
    def lines_waiting(self) -> int:
        """How many of our lines are not done yet, as far as we know."""
        return self._most_room - self.room_left

    @property
    def board_time_s(self) -> float:
        """The board's clock at the latest readings, s."""
        return self._last_s or 0.0

    def emit(self, what: str, **fields: Any) -> None:
        """Something has happened that a board of the protocol would report by itself."""
        self._events += 1
        about: dict[str, Any] = {"boot": self.state.boot, "number": self._events, "time_s": self.board_time_s}
        self._listeners.on_event(EventReport(**about, what=what, **fields))

    # what arrives

    def _received(self, data: bytes) -> None:
        try:
            for raw in self._cutter.feed(data):
                line = self.language.framing.read_board(raw)
                if line is None:
                    self.quality.bad_sums += 1
                    continue
                self._take(line.text)
        except Exception as error:
            self._hang_up(fault_words(error))

    def _take(self, text: str) -> None:
        language, rules = self.language, self.language.file.line
        self._talk("<", text, self._exchanges.looking)
        if rules.comment and text.startswith(rules.comment):
            return
        if language.start is not None and (started := language.start.read(text)) is not None:
            if started.get("boot", -1) != self.state.boot:  # else a look has shown it already
                self._restarted()
        elif not self._exchanges.took(text) and not self._took_unasked(text):
            self._exchanges.answered(text)

    def _took_unasked(self, text: str) -> bool:
        """Whether a line is one of the readings that come by themselves; they count until they are old."""
        for name, rule in self.language.readings.items():
            records = rule.read(text) if not rule.ask else []
            for record in records:
                part = part_in(record)
                self._unasked[name, str(record[part]) if part else ""] = self._loop.time(), record
            if records:
                return True
        return False

    # readings

    async def _look(self) -> None:
        """Ask for everything, again and again."""
        asks = list(dict.fromkeys(one.ask for one in self.language.readings.values() if one.ask))
        while True:
            began = self._loop.time()
            self._looks += 1
            look = self._looks
            if self.language.file.line.waiting > 1:
                pieces = await asyncio.gather(*(self._asked(ask) for ask in asks))
            else:
                pieces = [await self._asked(ask) for ask in asks]
            whole = [records for records in pieces if records is not None]
            newest = max((at for at, _ in self._unasked.values()), default=began)
            if len(whole) == len(pieces) and (asks or newest > self._unasked_at):
                self._unasked_at = newest
                recent = [record for at, record in self._unasked.values() if began - at < NO_NEWS_S / 2]
                self._note([*recent, *(record for records in whole for record in records)], look)
            await self._switch_relays()
            if self._loop.time() - self._news > NO_NEWS_S:
                self._hang_up(f"no new readings have come from the board for {NO_NEWS_S:.0f} s")
            apart_s = RESTS_S if self._rests() else READ_S
            await asyncio.sleep(max(0.001, apart_s - (self._loop.time() - began)))

    def _rests(self) -> bool:
        """Whether readings at rest are enough."""
        waits = self._moving or self._look_waits or self._stand_waits or self._loop.time() - self._asked_s < ASKED_S
        if waits or self._listeners.attends() or self.values.get("motion.moving"):
            return False
        heats = (f"heaters.{name}.{what}" for name in self.parts.heaters for what in ("target_c", "duty"))
        return not any(self.values.get(channel) for channel in heats)

    async def _asked(self, ask: str) -> list[dict[str, Value]] | None:
        """The records of one question; None: fewer than there were before came, again and again. A line of a reply may
        have been lost, and a part that is not spoken of is not one that is off.
        """
        rules = {name: one for name, one in self.language.readings.items() if one.ask == ask}
        unlikely: list[dict[str, Value]] | None = None
        for _ in range(READ_TRIES):
            lines = list(dict.fromkeys(await self.ask(ask, looks=True)))  # one may have come twice
            records = {name: [record for line in lines for record in one.read(line)] for name, one in rules.items()}
            if all(len(records[name]) >= self._spoken_of.get(name, 0) for name in rules):
                self._spoken_of |= {name: len(records[name]) for name in rules}
                self._short_looks = 0
                every = [record for one in records.values() for record in one]
                if unlikely is None and self._are_unlikely(every):
                    unlikely = every
                    continue
                for record in every:  # now, before another line of a path can be given
                    if isinstance(room := record.get("room"), int):
                        self._note_room(room)
                return every
            self.quality.retries += 1
        if unlikely is not None:
            return unlikely
        self._short_looks += 1
        if self._short_looks >= SHORT_LOOKS:
            self._spoken_of.clear()  # the board has fewer parts than it had
        return None

    def _are_unlikely(self, records: list[dict[str, Value]]) -> bool:
        """Whether a reading without a checksum is so far from the one before that a spoilt digit may have made it: it
        is asked for once more.
        """
        if self.language.framing.sums_replies:
            return False
        stands = not self.values.get("motion.moving")
        for record in records:
            of = str(record.get(part_in(record) or "", ""))
            celsius, mm, edges, boot, duty = (record.get(name) for name in ("celsius", "mm", "edges", "boot", "duty"))
            warm, at = self.values.get(f"sensors.{of}"), self.values.get(f"axes.{of}.mm")
            if isinstance(celsius, (int, float)) and warm is not None and abs(celsius - warm) > JUMP_C:
                return True
            if stands and isinstance(mm, (int, float)) and at is not None and mm != at:
                return True
            if isinstance(edges, int) and edges != self._edges.get(of, (False, edges))[1]:
                return True
            if isinstance(boot, int) and boot != self.state.boot:
                return True
            if isinstance(duty, (int, float)) and not 0 <= duty <= 1:
                return True
        return False

    def _note(self, records: list[dict[str, Value]], look: int) -> None:
        """A look's records become a sample, and what else they show."""
        self.values = dict.fromkeys(self.parts.channels)
        board: dict[str, Value] = {}
        for record in records:
            self._place(record, board)
        for heater, relay in self.relays.items():
            self.values[f"heaters.{heater}.target_c"] = relay.centre_c
        boot, halted = board.get("boot"), bool(board.get("halted"))
        if isinstance(boot, int) and boot != self.state.boot:
            self._new_state(State(boot, "ready"))
            self._last_s = self.room = self.tripped = None
            self._guards.forget()
            self._moving.clear()
            self._cut("", restarted=True)
            return
        guard = "" if (named := str(board.get("guard", ""))) == NO_WORD else named
        mode = "tripped" if guard else "halted" if halted else "ready"
        seconds = board.get("time_s")
        time_s = float(seconds) if isinstance(seconds, (int, float)) else self._loop.time() - self._began
        if mode == "ready" and self.tripped is None and (trip := self._guards.watch(time_s, self.values)):
            self.tripped = trip
            self._guards.forget()
        if mode == "ready" and self.tripped is not None:
            self.halt()  # again at each look, until it is
        why = str(board.get("why", "")) if mode != "ready" else ""
        if self.tripped is not None:
            mode, guard, why = "tripped", self.tripped.guard, f"{self.tripped.why} {WE_HALTED}"
        self._new_state(State(self.state.boot, mode, why, guard))
        if all(value is None for value in self.values.values()):
            return  # it has just started, and has read nothing yet
        if self._last_s is not None and time_s <= self._last_s:
            return
        self._last_s, self._news = time_s, self._loop.time()
        row: Sample = [float(self._index), time_s, *self.values.values()]
        self._index += 1
        self._listeners.on_samples([row])
        # one question after the other: where axes stand may have been answered before they stood still
        stood, self._stood = self._stood, look if board.get("moving") is False else None
        if self._stood is not None and stood is not None:
            self._end_motions(stood)
        self.on_look()
        looked, self._look_waits = self._look_waits, []
        _let_go_on(looked)

    def _place(self, record: Mapping[str, Value], board: dict[str, Value]) -> None:
        """A record's values go to their channels.

        Raises:
            Malformed: a value is none of a machine.
        """
        name = part_in(record)
        of = str(record[name]) if name else ""
        if name == "sensor":
            self._put(f"sensors.{of}", record.get("celsius"), COLDEST_C, HOTTEST_C)
        elif name == "heater":
            self._put(f"heaters.{of}.duty", record.get("duty"), 0.0, 1.0)
            self._put(f"heaters.{of}.target_c", record.get("target_c"), COLDEST_C, HOTTEST_C)
        elif name == "fan":
            self._put(f"fans.{of}", record.get("duty"), 0.0, 1.0)
        elif name == "input":
            self._put_input(of, bool(record.get("pressed")), record.get("edges"))
        elif name == "axis":
            self._put(f"axes.{of}.mm", record.get("mm"), -FARTHEST_MM, FARTHEST_MM)
            shift = record.get("shift_mm")
            why = str(record.get("why", ""))
            self.homed[of] = "" if why == NO_WORD else why, shift if isinstance(shift, float) else None
        else:
            board.update(record)
            if "moving" in record:
                self._put("motion.moving", float(bool(record["moving"])), 0.0, 1.0)

    def _put(self, channel: str, value: Value, low: float, high: float) -> None:
        if channel not in self.values or not isinstance(value, (int, float)):
            return
        if not low - 1e-6 <= value <= high + 1e-6:
            raise Malformed(f"the board reports {channel} = {value:g}: allowed {low:g} to {high:g}")
        self.values[channel] = float(value)

    def _put_input(self, name: str, pressed: bool, edges: Value) -> None:
        if f"inputs.{name}" not in self.values:
            return
        before, count = self._edges.get(name, (pressed, 0))
        count = edges if isinstance(edges, int) else count + (pressed != before)
        self._edges[name] = pressed, count
        self.values[f"inputs.{name}"], self.values[f"edges.{name}"] = float(pressed), float(count)

    def _end_motions(self, look: int) -> None:
        where = {axis: self.values.get(f"axes.{axis}.mm") for axis in AXES}
        for motion in [motion for motion, first in self._moving.items() if first <= look]:
            del self._moving[motion]
            self.emit("ended", motion=motion, how="done", position=where)
        stand = [stood for first, stood in self._stand_waits if first <= look]
        self._stand_waits = [(first, stood) for first, stood in self._stand_waits if first > look]
        _let_go_on(stand)

    def _cut(self, why: str, restarted: bool) -> None:
        """What moved does so no more, and whoever waits for its end waits in vain."""
        self.on_cut(restarted)
        waits = [*self._look_waits, *(stood for _, stood in self._stand_waits)]
        self._look_waits, self._stand_waits = [], []
        for wait in waits:
            if not wait.done():
                wait.set_exception(LinkLost(why or "the board restarted meanwhile"))
                wait.exception()

    async def _switch_relays(self) -> None:
        """Where the board has no relay, we are it: once a look."""
        for heater, relay in list(self.relays.items()):
            celsius = self.values.get(f"sensors.{self.parts.heaters[heater][0]}")
            if celsius is None:
                continue
            wanted = relay.on
            if celsius > relay.centre_c + relay.hysteresis_c:
                wanted = False
            elif celsius < relay.centre_c - relay.hysteresis_c:
                wanted = True
            if wanted is None:
                wanted = celsius < relay.centre_c
            if wanted != relay.on:
                duty = relay.high if wanted else relay.low
                await self.request("drive", heater=heater, duty=duty, celsius=self.parts.heaters[heater][1])
                relay.on = wanted

    async def _show_alive(self) -> None:
        alive = self.language.file.alive
        while True:
            await asyncio.sleep(alive.every_s)
            if self._loop.time() >= self._silent_until:
                await self.ask(alive.line, looks=True)

    def _restarted(self) -> None:
        """It says by itself that it has started."""
        self._moving.clear()
        self.room = None
        self._cut("", restarted=True)
        self.relays.clear()
        self._exchanges.fail("the board restarted meanwhile", for_good=False)

    def _new_state(self, state: State) -> None:
        changed, self.state = state != self.state, state
        if state.mode != "ready":
            self.relays.clear()
            if changed:
                self._cut(state.why, restarted=False)
        if changed:
            self._listeners.on_state(state)

    # ends

    def _talk(self, way: str, line: str, looks: bool) -> None:
        """Pass on what is said, with what it is understood as; of the looks, which never end, only now and then."""
        if self._listeners.on_talk is None or (looks and self._looks % LOOKS_SHOWN):
            return
        meaning = self.language.meaning(line, way == ">") or "not described"
        self._listeners.on_talk(way, {"line": line, "meaning": meaning})

    def _announce_lost(self, why: str) -> None:
        self._listeners.on_lost(why)

    def _fail_waiting(self, why: str) -> None:
        self.relays.clear()
        self._cut(why, restarted=True)
        self._exchanges.fail(why, for_good=True)


def _let_go_on(waits: list[asyncio.Future[None]]) -> None:
    for wait in waits:
        if not wait.done():
            wait.set_result(None)
