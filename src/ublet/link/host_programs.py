"""Programs of motion on a board that has none: the host gives line after line, and follows where the board stands.

A language with lines of several axes and filament, and a board that says how many it still takes, keeps the path at an
even pace; else every segment becomes single moves that are waited for. Touches without a line of their own are made by
watching the probe's input in short steps.
"""

from __future__ import annotations

import asyncio
import contextlib
import math
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ublet.core.dialect.parts import AXES
from ublet.core.motion.program import (
    ADVANCE,
    FEEDS,
    FLOWS,
    MOST_NUDGED_MM,
    Dwell,
    Lift,
    Park,
    ProbeMove,
    Program,
    Push,
    Segment,
    SetAdvance,
    To,
    Warm,
    must_be_inside,
)
from ublet.core.settings import Value, number_or
from ublet.link.dialect_client import DialectClient
from ublet.link.errors import NOT_ALLOWED, BoardRefused
from ublet.link.replies import CappedSegment, ProgramReply

ROOM = 64
"""Segments that are taken from a program before they are done."""

AHEAD_S, PIECE_S = 0.6, 0.3
"""The most motion that waits on the board, and the pieces in which a line is given, s: whatever is held, nudged, slowed
or ended on the way acts after that.
"""

NO_MM = 1e-4
"""Less is no way to go, mm: a line has no more digits."""

COARSE_MM, CLOSE_MM, FINE_MM = 0.2, 0.05, 0.005
"""Steps in which a probe's input is watched: at first, again from above, and at the end where it is to be exact."""

ABOVE_MM = 0.1
"""The last approach begins so far above where the probe was clear: further than touches of one probe differ."""

EXACT_MM_S = 5.0
"""A touch that is asked for at this speed or faster only finds roughly where the bed is."""

STEP_S = 0.25
"""Duration of a watched step besides its travel: the line that commands it, and a reading that begins after it, s."""


def watched_s(mm: float, mm_s: float) -> float:
    """How much longer a touch takes that is watched, over a way, mm, at a speed, mm/s: its steps, usually, s."""
    last = ABOVE_MM / FINE_MM if mm_s < EXACT_MM_S else 0.0
    return STEP_S * (mm / COARSE_MM + ABOVE_MM / CLOSE_MM + last + 2)


LIFT_MM = 1.0
"""Lifts that go together go in turns, none further ahead than this."""


@dataclass(frozen=True)
class _Given:
    """A piece of a line that waits on the board: the time that it takes, s, and its segment's number and place."""

    seconds: float
    number: int
    place: str


@dataclass
class HostRun:
    """A program under way."""

    name: str
    motion: int
    park: Park | None
    promised: dict[str, float]
    """Where all that was taken will end."""
    waiting: deque[tuple[int, Segment]] = field(default_factory=deque)
    taken: int = 0
    last: bool = False
    more: asyncio.Event = field(default_factory=asyncio.Event)
    goes_on: asyncio.Event = field(default_factory=asyncio.Event)
    ahead: deque[_Given] = field(default_factory=deque)
    where: dict[str, float] = field(default_factory=dict)
    """Where the lines that were given end."""
    at_place: int = -1
    feed: float = 1.0
    flow: float = 1.0
    height_mm: float = 0.0
    nudged_mm: float = 0.0
    """How much of its height the lines that were given have."""
    advance_s: float | None = None
    """The live pressure advance, where the program has set its own, s."""
    parking: bool = False
    work: asyncio.Task[None] | None = None
    begun: asyncio.Future[float | None] | None = None
    """Of a program of one segment: the speed that the board gave it, mm/s."""


class HostPrograms:
    """Runs one program at a time over a dialect's client."""

    def __init__(self, client: DialectClient) -> None:
        self._client = client
        self._run: HostRun | None = None
        client.on_cut = self._cut
        client.on_look = self._looked

    # what may be asked for

    async def add(self, name: str, at: int, segments: Sequence[Segment], last: bool, park: Park | None) -> ProgramReply:
        """Take segments of a program: all of them, or none.

        Raises:
            BoardRefused: out of order, no room, not homed, beyond the limits, what the language cannot say. LinkLost.
        """
        client, run = self._client, self._run
        taken = run.taken if run is not None else 0
        if run is not None and run.name != name:
            raise _refused(f"the program “{run.name}” runs: wait for its end, or stop it")
        if run is None and client.values.get("motion.moving"):
            raise _refused("something moves: wait for its end")
        if at != taken or (run is not None and (run.last or run.parking)):
            raise _refused(f"segment {at} of “{name}” is not the next one")
        room = ROOM - (len(run.waiting) if run is not None else 0)
        if len(segments) > room:
            raise _refused(f"{len(segments)} segments: room for {room} now")
        start = dict(run.promised) if run is not None else self._standing()
        self._must_be_possible(name, segments, start)
        if run is None:
            run = self._run = HostRun(name, client.next_motion(), park, start, where=self._standing())
            run.goes_on.set()
            if last and len(segments) == 1:
                run.begun = asyncio.get_running_loop().create_future()
        run.waiting.extend((at + number, segment) for number, segment in enumerate(segments))
        run.taken, run.last = at + len(segments), last
        run.promised = Program(name, segments).end(start)
        run.more.set()
        if run.work is None:
            run.work = client.spawn(self._follow(run))
        capped = []
        if run.begun is not None:
            mm_s = await run.begun
            if mm_s is not None:
                capped = [CappedSegment(segment=0, mm_s=mm_s, capped_by=client.language.file.name)]
        return ProgramReply(motion=run.motion, taken=run.taken, room=ROOM - len(run.waiting), capped=capped)

    def adjust(self, feed: float | None, flow: float | None, height_mm: float | None) -> None:
        """Change what is under way; it acts on lines that were not given yet.

        Raises:
            BoardRefused: no program runs, or beyond what is allowed.
        """
        run = self._must_run()
        for word, value, (low, high) in (
            ("feed", feed, FEEDS),
            ("flow", flow, FLOWS),
            ("height", height_mm, (-MOST_NUDGED_MM, MOST_NUDGED_MM)),
        ):
            if value is not None and not low <= value <= high:
                raise _refused(f"{word} {value:g}: allowed {low:g} to {high:g}")
        run.feed = run.feed if feed is None else feed
        run.flow = run.flow if flow is None else flow
        run.height_mm = run.height_mm if height_mm is None else height_mm

    def hold(self, held: bool) -> None:
        """Give no more lines, or go on.

        Raises:
            BoardRefused: no program runs.
        """
        run = self._must_run()
        (run.goes_on.clear if held else run.goes_on.set)()

    async def stop(self) -> None:
        """End it: a print ends its piece, lifts and parks; everything else stops at once."""
        run = self._run
        if run is not None and run.parking:
            return
        if run is None or run.park is None or not run.where:
            await self.abandon()
            await self._client.request("stop")
            return
        run.parking = True
        await self._quit(run)
        run.work = self._client.spawn(self._end_early(run, "stopped"))

    async def abandon(self) -> None:
        """It ends here, wherever it is: whoever asks switches everything off, or stops the board."""
        run = self._run
        if run is not None:
            await self._quit(run)
            self._end(run, "stopped")
            await self._put_back(run)

    # inside

    def _must_run(self) -> HostRun:
        if self._run is None or self._run.parking:
            raise _refused("no program runs: there is nothing to change")
        return self._run

    def _standing(self) -> dict[str, float]:
        """Where the axes stand that are homed, mm, by the latest readings."""
        places = {axis: self._client.values.get(f"axes.{axis}.mm") for axis in AXES}
        return {axis: mm for axis, mm in places.items() if mm is not None}

    def _must_be_possible(self, name: str, segments: Sequence[Segment], start: Mapping[str, float]) -> None:
        for segment in segments:
            if isinstance(segment, (To, ProbeMove)) and (unknown := [axis for axis in segment.at if axis not in start]):
                raise _refused(f"{unknown[0].upper()} is not homed: a program needs to know where it stands")
            if isinstance(segment, Warm) and self._client.values.get(f"heaters.{segment.heater}.target_c") is None:
                raise _refused(f"{segment.heater}: it is off, and would be waited for without end")
            if why := self._unsayable(segment):
                raise _refused(f"{self._client.language.file.name} {why}")
        limits = {}
        for axis in AXES:
            if self._client.settings.known(f"axes.{axis}.soft_limits") is not False:
                limits[axis] = (
                    number_or(self._client.settings.known(f"axes.{axis}.minimum_mm"), -math.inf),
                    number_or(self._client.settings.known(f"axes.{axis}.maximum_mm"), math.inf),
                )
        if why := must_be_inside(Program(name, segments), start, limits):
            raise _refused(why)

    def _unsayable(self, segment: Segment) -> str:
        """What the language lacks for a segment; empty: nothing."""
        said = self._client.language.requests
        match segment:
            case To() if segment.filament and "line" not in said:
                return "has no line that pushes filament on its way ([requests.line])"
            case Push() if "push" not in said and "line" not in said:
                return "has no line to push filament ([requests.push])"
            case Lift() if "lift" not in said:
                return "has no line that turns one motor of an axis which keeps its place ([requests.lift])"
            case ProbeMove() if set(segment.at) != {"z"}:
                return "touches along Z only"
            case ProbeMove() if self._client.values.get("inputs.probe") is None:
                return "has no reading of the probe's input"
            case SetAdvance() if self._client.language.setting_for(ADVANCE) is None:
                return f"speaks of no setting {ADVANCE}"
            case To() | Push() | Lift() | ProbeMove() | Dwell() | Warm() | SetAdvance():
                return ""
            case _:
                return "has no line for that"

    async def _follow(self, run: HostRun) -> None:
        try:
            while True:
                await self._unless_held(run)
                if run.waiting:
                    number, segment = run.waiting.popleft()
                    await self._do(run, number, segment)
                elif run.last:
                    break
                else:
                    run.more.clear()
                    await run.more.wait()
            await self._stands(run)
            await self._put_back(run)
            self._end(run, "done")
        except BoardRefused as refusal:
            if run.begun is not None and not run.begun.done():
                self._run = None
                run.begun.set_exception(refusal)
            else:
                await self._client.next_look()  # a board that was halted refuses, too: then this ends there
                await self._end_early(run, "refused", str(refusal))

    async def _unless_held(self, run: HostRun) -> None:
        if not run.goes_on.is_set():
            await self._stands(run)
            self._emit(run, "held")
            await run.goes_on.wait()
            self._emit(run, "going on")

    async def _do(self, run: HostRun, number: int, segment: Segment) -> None:
        client = self._client
        streams = "line" in client.language.requests and client.room is not None
        if isinstance(segment, (To, Push)) and streams:
            await self._give_lines(run, number, segment)
            return
        await self._stands(run)
        self._at_place(run, number, segment.place)
        match segment:
            case To():
                await self._go(run, segment)
            case Push():
                mm, mm_s = segment.filament * run.flow, segment.mm_s * run.feed
                await self._ask_to_move(run, "push", mm_s, mm=mm)
            case ProbeMove():
                await self._touch(run, number, segment)
            case Lift():
                turns = max(1, math.ceil(max(abs(mm) for mm in segment.motors.values()) / LIFT_MM))
                for _ in range(turns):
                    for root, mm in segment.motors.items():
                        motor = root.removeprefix("axes.")
                        await self._ask_to_move(run, "lift", segment.mm_s, motor=motor, mm=mm / turns)
            case Dwell():
                until = client.board_time_s + segment.seconds
                while client.board_time_s < until:
                    await client.next_look()
            case Warm():
                await self._wait_until_warm(segment)
            case SetAdvance():
                await self._set_advance(run, segment.seconds)
            case _:
                raise _refused(f"{client.language.file.name} has no line for that")
        self._began(run, None)

    # lines, one after the other, ahead of where the board is

    async def _give_lines(self, run: HostRun, number: int, segment: To | Push) -> None:
        """A straight line in pieces, each given as soon as there is room for it and little enough waits."""
        client = self._client
        target = self._target(run, segment)
        way = {axis: mm - run.where[axis] for axis, mm in target.items()}
        length = math.hypot(*way.values()) if any(abs(mm) > NO_MM for mm in way.values()) else abs(segment.filament)
        if length < NO_MM:
            self._at_place(run, number, segment.place)
            self._began(run, None)
            return
        pieces = max(1, math.ceil(length / segment.mm_s / PIECE_S))
        for piece in range(1, pieces + 1):
            while not client.room_left or sum(given.seconds for given in run.ahead) > AHEAD_S:
                await client.next_look()
            await self._unless_held(run)
            mm_s = segment.mm_s * run.feed
            values = dict.fromkeys(AXES, 0.0)
            if "z" in target and run.height_mm != run.nudged_mm:  # nudged since the segment was begun
                target["z"] += run.height_mm - run.nudged_mm
                run.nudged_mm = run.height_mm
            for axis, mm in target.items():
                values[axis] = (mm - way[axis] * (1 - piece / pieces)) - run.where[axis]
            values |= {"filament": segment.filament * run.flow / pieces, "mm_s": mm_s}
            values["mm_s2"] = segment.mm_s2 if isinstance(segment, To) else 0.0
            answer, said = await client.line(values)
            speed = _allowed(answer, mm_s)
            run.where = {axis: mm + said.get(axis, 0.0) for axis, mm in run.where.items()}
            run.ahead.append(_Given(length / pieces / speed, number, segment.place if piece == 1 else ""))
            self._began(run, speed if speed < mm_s else None)

    def _target(self, run: HostRun, segment: To | Push) -> dict[str, float]:
        """Where a segment ends, with what the program was nudged by since its last one."""
        target = dict(segment.at) if isinstance(segment, To) else {}
        if "z" in target:
            target["z"] += run.height_mm
        elif target and "z" in run.where:
            target["z"] = run.where["z"] + run.height_mm - run.nudged_mm
        if target:
            run.nudged_mm = run.height_mm
        return target

    def _looked(self) -> None:
        """A look said how many lines wait: the first of them is under way."""
        run = self._run
        if run is None or not run.ahead:
            return
        waiting = self._client.lines_waiting
        while len(run.ahead) > max(waiting, 0):
            self._at_place(run, run.ahead[0].number, run.ahead[0].place)
            run.ahead.popleft()
        if run.ahead:
            self._at_place(run, run.ahead[0].number, run.ahead[0].place)

    async def _stands(self, run: HostRun) -> None:
        """Wait until all that was given is done; then we know where it stands."""
        if run.ahead:
            await self._client.stands()
            self._looked()
            run.ahead.clear()
            run.where = self._standing()

    # single moves

    async def _ask_to_move(self, run: HostRun, request: str, mm_s: float, **values: float | str) -> None:
        """One request that moves something, and the wait for its end."""
        answer = await self._client.request(request, mm_s=mm_s, **values)
        speed = _allowed(answer, mm_s)
        self._began(run, speed if speed < mm_s else None)
        await self._client.stands()
        run.where = self._standing()

    async def _go(self, run: HostRun, segment: To) -> None:
        """Straight where a line says so, else axis by axis: up first, down last, so that nothing is dragged along."""
        target = self._target(run, segment)
        way = {axis: mm - run.where[axis] for axis, mm in target.items() if abs(mm - run.where[axis]) > NO_MM}
        mm_s = segment.mm_s * run.feed
        if "line" in self._client.language.requests and (way or segment.filament):
            values = {axis: way.get(axis, 0.0) for axis in AXES}
            filament = segment.filament * run.flow
            await self._ask_to_move(run, "line", mm_s, **values, filament=filament, mm_s2=segment.mm_s2)
            return
        for axis in sorted(way, key=lambda axis: (axis == "z") != (way.get("z", 0.0) > 0)):
            await self._ask_to_move(run, "move", mm_s, axis=axis, mm=way[axis])

    async def _set_advance(self, run: HostRun, seconds: float) -> None:
        """The program's own pressure advance; what was live stands again at its end."""
        if run.advance_s is None:
            run.advance_s = number_or(await self._client.settings.read(ADVANCE), 0.0)
        await self._client.settings.write(ADVANCE, seconds)

    async def _put_back(self, run: HostRun) -> None:
        """The pressure advance that was live before."""
        if run.advance_s is not None:
            advance_s, run.advance_s = run.advance_s, None
            with contextlib.suppress(BoardRefused):
                await self._client.settings.write(ADVANCE, advance_s)

    async def _wait_until_warm(self, segment: Warm) -> None:
        client = self._client
        sensor = client.parts.heaters[segment.heater][0]
        while True:
            celsius, target = (
                client.values.get(f"sensors.{sensor}"),
                client.values.get(f"heaters.{segment.heater}.target_c"),
            )
            if target is None:
                raise _refused(f"the {segment.heater} was switched off while it was waited for")
            if celsius is not None and abs(celsius - target) <= segment.within_c:
                return
            await client.next_look()

    # touches

    async def _touch(self, run: HostRun, number: int, segment: ProbeMove) -> None:
        floor = segment.at["z"] + run.height_mm
        if "touch" in self._client.language.requests:
            await self._ask_to_move(run, "touch", segment.mm_s, mm=floor - run.where["z"])
            hit = self._pressed()
            touched = run.where["z"] if hit else None
        else:
            touched = await self._watched(run, floor, segment.mm_s)
        here: dict[str, float | None] = dict(run.where)
        if touched is not None:
            here["z"] = touched
        self._emit(run, "missed" if touched is None else "touched", segment=number, position=here)

    def _pressed(self) -> bool:
        return bool(self._client.values.get("inputs.probe"))

    async def _watched(self, run: HostRun, floor: float, mm_s: float) -> float | None:
        """Down in short steps until the input triggers; where that was, mm: between the last step and the one before.

        Each approach begins above, so that none of its touches is one that the last step has not made.
        """
        met = await self._step_down(run, floor, COARSE_MM, mm_s)
        exact = (CLOSE_MM, FINE_MM) if mm_s < EXACT_MM_S else (CLOSE_MM,)
        for step in exact:
            if met is None:
                return None
            await self._clear_of(run, met + ABOVE_MM, mm_s)
            met = await self._step_down(run, floor, step, mm_s)
        return None if met is None else met - exact[-1] / 2

    async def _clear_of(self, run: HostRun, above: float, mm_s: float) -> None:
        """Up to a height, and further while the input stays triggered."""
        top = number_or(self._client.settings.known("axes.z.maximum_mm"), math.inf)
        while True:
            await self._ask_to_move(run, "move", mm_s, axis="z", mm=above - run.where["z"])
            if not self._pressed():
                return
            above += COARSE_MM
            if above > top:
                raise _refused(f"the probe's input stays triggered up to Z {run.where['z']:.2f} mm")

    async def _step_down(self, run: HostRun, floor: float, step: float, mm_s: float) -> float | None:
        """Step by step; the last height at which the input was clear, mm (None: it was to the end)."""
        clear = run.where["z"]
        while not self._pressed():
            clear = run.where["z"]
            if clear <= floor + NO_MM:
                return None
            await self._ask_to_move(run, "move", mm_s, axis="z", mm=max(floor, clear - step) - clear)
        return clear

    # ends

    async def _end_early(self, run: HostRun, how: str, why: str = "") -> None:
        """A print lifts, and goes to the place where one that ended early leaves the nozzle; then it has ended."""
        run.parking, park = True, run.park
        with contextlib.suppress(BoardRefused):
            if park is not None and run.where:
                self._emit(run, "parking")
                await self._go_to_park(run, park)
            await self._put_back(run)
        self._end(run, how, why)

    async def _go_to_park(self, run: HostRun, park: Park) -> None:
        await self._client.stands()
        run.ahead.clear()
        run.where, run.height_mm, run.nudged_mm = self._standing(), 0.0, 0.0  # it counts from where it is now
        top = number_or(self._client.settings.known("axes.z.maximum_mm"), math.inf)
        if "z" in run.where:
            await self._go(run, To({"z": min(top, run.where["z"] + park.lift_mm)}, park.mm_s))
        await self._go(run, To({axis: mm for axis, mm in park.at.items() if axis in run.where}, park.mm_s))

    async def _quit(self, run: HostRun) -> None:
        """No more lines are given."""
        if run.work is not None:
            run.work.cancel()
            await asyncio.wait({run.work})
            run.work = None

    def _cut(self, restarted: bool) -> None:
        """The board was halted, or has restarted."""
        run = self._run
        if run is None:
            return
        if run.work is not None:
            run.work.cancel()
        if restarted:
            self._run = None
            self._began(run, None)
        else:
            self._end(run, "stopped")
            self._client.spawn(self._put_back(run))

    def _end(self, run: HostRun, how: str, why: str = "") -> None:
        if self._run is not run:
            return
        self._run = None
        self._began(run, None)
        self._emit(run, "ended", how=how, why=why, position=dict(self._standing()))

    def _began(self, run: HostRun, slower_mm_s: float | None) -> None:
        if run.begun is not None and not run.begun.done():
            run.begun.set_result(slower_mm_s)

    def _at_place(self, run: HostRun, number: int, place: str) -> None:
        if place and number > run.at_place:
            run.at_place = number
            self._emit(run, "place", segment=number, place=place)

    def _emit(self, run: HostRun, what: str, **fields: object) -> None:
        self._client.emit(what, motion=run.motion, program=run.name, **fields)


def _allowed(answer: Mapping[str, Value], asked_mm_s: float) -> float:
    """The speed that a board gives a motion by its answer, mm/s; the one asked for where it names no lower one."""
    mm_s = number_or(answer.get("mm_s"), asked_mm_s)
    return mm_s if 0 < mm_s < asked_mm_s * (1 - 1e-6) else asked_mm_s


def _refused(why: str) -> BoardRefused:
    return BoardRefused(NOT_ALLOWED, why)
