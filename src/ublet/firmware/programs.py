"""The board's side of programs: segments taken with credit, run in order, nudged, held and sped on the way."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from ublet.core.machine.layouts import AXES
from ublet.core.motion.caps import EXTRUDER, Caps
from ublet.core.motion.program import (
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
    SweepMove,
    To,
    Warm,
    line_to,
    must_be_inside,
)
from ublet.core.motion.sweep_motion import SweepCourse
from ublet.core.sockets import Steps, Until
from ublet.firmware.drivers import Drivers
from ublet.firmware.events import Events
from ublet.firmware.live_values import LiveValues, number_in
from ublet.firmware.melt import HeatOf, why_too_cold
from ublet.firmware.queue import MotionQueue, Move, Pause, Piece, SweepMotion, Waiting
from ublet.firmware.refusal import NOT_ALLOWED, Refused

ROOM = 128
"""Segments that the board holds at once."""


@dataclass
class Run:
    """One program under way. taken: segments so far; ended: of these; last: whether more will come."""

    name: str
    motion: int
    taken: int = 0
    ended: int = 0
    last: bool = False
    starved: bool = False
    capped: list[tuple[int, float, str]] = field(default_factory=list)
    """Of those taken last: segment, the speed that it may have, mm/s, and the setting that caps it."""
    waiting: deque[Segment] = field(default_factory=deque)
    planned: dict[str, float] = field(default_factory=dict)
    """Where the segments that are in the queue will end."""
    park: Park | None = None
    """Where it goes when it ends early."""
    ending: tuple[str, dict[str, object]] | None = None
    """How its end will be reported, once it has parked; None: it runs."""
    parking: bool = False
    """Whether it lifts and goes to its place already; before, it brakes."""
    promised: dict[str, float] = field(default_factory=dict)
    """Where all that were taken will end, as far as is known."""
    planned_advance_s: float | None = None
    promised_advance_s: float | None = None
    """Pressure advance after the segments in the queue, and after all that were taken; None: the live one."""


class Programs:
    """Runs one program at a time through the queue of motion.

    position: what the board knows of its axes. heat_of: a heater's temperature and target, °C. until: what ends a
    touch. begin: numbers a motion. end: called with how it ended, with what there is to say.
    """

    def __init__(
        self,
        queue: MotionQueue,
        events: Events,
        position: Callable[[], Mapping[str, float | None]],
        heat_of: HeatOf,
        until: Callable[[], Until | None],
        end: Callable[..., None],
    ) -> None:
        self._queue, self._events = queue, events
        self._position, self._heat_of, self._until, self._finish = position, heat_of, until, end
        self.run: Run | None = None
        self.flow = 1.0
        self.height_mm = 0.0
        self.sweep_moves = self.advances = True
        self._advance_s: float | None = None  # that the program has set
        self.drivers = Drivers({}, 0.0)

    def settled(self, advances: bool) -> None:
        """Live settings have changed. advances: whether the board can lead the path with its extruder."""
        self.advances = advances
        if not advances:
            self.drivers.caps.advance_s = 0.0
        self._queue.lead.limit(*self.drivers.extruder_limit())
        self._queue.lead.follow(self.drivers.caps.advance_s if self._advance_s is None else self._advance_s)

    def forget(self) -> None:
        """Nothing runs, and nothing is nudged; the live pressure advance counts again."""
        self.run = None
        self._advance_s = None
        self._queue.lead.follow(self.drivers.caps.advance_s)
        self.flow, self.height_mm = 1.0, 0.0
        self._queue.feed = 1.0

    @property
    def room(self) -> int:
        """How many more segments are taken now."""
        return ROOM - (self.run.taken - self.run.ended if self.run else 0)

    # requests

    def add(
        self,
        name: str,
        at: int,
        segments: Sequence[Segment],
        last: bool,
        begin: Callable[[], int],
        park: Park | None = None,
    ) -> Run:
        """Take segments: all of them, or none. park: what it does when it ends early; given with its first segments.

        Raises:
            Refused: out of order, no room, beyond the limits, not homed, too cold, a part that is not there.
        """
        run = self.run
        if run is not None and run.name != name:
            raise Refused(NOT_ALLOWED, f"the program “{run.name}” runs: wait for its end, or stop it")
        if run is None and (at != 0 or self._queue.pieces):
            why = f"no program “{name}” runs: begin at segment 0" if at else "something moves: wait for its end"
            raise Refused(NOT_ALLOWED, why)
        taken = run.taken if run else 0
        if at != taken:
            raise Refused(NOT_ALLOWED, f"segment {at} out of order: the next one of “{name}” is {taken}")
        if run is not None and run.ending is not None:
            raise Refused(NOT_ALLOWED, f"“{name}” was ended ({run.ending[0]}) and parks: no more is taken")
        if run is not None and run.last:
            raise Refused(NOT_ALLOWED, f"“{name}” ended with segment {taken - 1}: no more can be taken")
        if len(segments) > self.room:
            raise Refused(NOT_ALLOWED, f"{len(segments)} segments: room for {self.room} now")
        known = {axis: mm for axis, mm in self._position().items() if mm is not None}
        start = dict(run.promised) if run else known
        for segment in segments:
            self._must_be_possible(segment, start)
        asked = Program(name, segments)
        if why := must_be_inside(asked, start, self._limits()):
            raise Refused(NOT_ALLOWED, why)
        if run is None:
            run = self.run = Run(name, begin(), planned=dict(known), promised=known, park=park)
        run.capped = []
        caps = self.drivers.caps if run.promised_advance_s is None else self._caps(run.promised_advance_s)
        for number, (segment, here) in enumerate(zip(segments, (start, *asked.ends(start)), strict=False)):
            if isinstance(segment, SetAdvance):
                run.promised_advance_s, caps = segment.seconds, self._caps(segment.seconds)
            if (line := line_to(segment, here, caps)) is not None and line.capped_by:
                run.capped.append((at + number, line.top, line.capped_by))
        run.taken += len(segments)
        run.last = last
        run.waiting.extend(segments)
        run.promised = asked.end(run.promised)
        if run.starved and segments:
            run.starved = False
            self._events.emit("fed", motion=run.motion, program=name, segment=at)
        self._fill(run)
        self._end_when_done(run)
        return run

    def adjust(self, feed: float | None, flow: float | None, height_mm: float | None) -> None:
        """Change what is under way.

        Raises:
            Refused: no program runs, or out of range.
        """
        if self.run is None or self.run.ending is not None:
            raise Refused(NOT_ALLOWED, "no program runs: there is nothing to change")
        for word, value, (low, high) in (("feed", feed, FEEDS), ("flow", flow, FLOWS)):
            if value is not None and not low <= value <= high:
                raise Refused(NOT_ALLOWED, f"{word} {value:g}: allowed {low:g} to {high:g}")
        if height_mm is not None:
            self._nudge(height_mm)
        if feed is not None:
            self._queue.feed = feed
        if flow is not None:
            self.flow = flow
            for piece in self._queue.pieces:
                if isinstance(piece, Move) and EXTRUDER in piece.motors:
                    piece.steps = self._steps(piece.motors, piece.line.length)

    def close(self) -> None:
        """No more segments come: it ends when those that were taken are done."""
        if self.run is not None and not self.run.last:
            self.run.last = True
            self._end_when_done(self.run)

    # inside

    def _must_be_possible(self, segment: Segment, known: Mapping[str, float]) -> None:
        if isinstance(segment, (To, ProbeMove, SweepMove)):
            moved = segment.direction if isinstance(segment, SweepMove) else segment.at
            unknown = [axis.upper() for axis in moved if axis not in known]
            if unknown:
                raise Refused(NOT_ALLOWED, f"{unknown[0]} is not homed: a program needs to know where it stands")
        if isinstance(segment, SetAdvance) and not self.advances:
            raise Refused(NOT_ALLOWED, "this image has no module for pressure advance")
        if isinstance(segment, SweepMove) and not self.sweep_moves:
            raise Refused(NOT_ALLOWED, "this firmware cannot run a sine sweep")
        if isinstance(segment, SweepMove) and (why := self._too_hard(segment, known)):
            raise Refused(NOT_ALLOWED, why)
        if isinstance(segment, ProbeMove) and self._until() is None:
            raise Refused(NOT_ALLOWED, "there is no probe that could touch")
        if isinstance(segment, Lift):
            for root in segment.motors:
                self.drivers.must_have(root)
        if isinstance(segment, Warm) and self._heat_of(segment.heater)[1] is None:
            raise Refused(NOT_ALLOWED, f"{segment.heater}: it is off, and would be waited for without end")
        if isinstance(segment, (To, Push)) and segment.filament:
            self.drivers.must_have(EXTRUDER)
            if why := why_too_cold(self._live, self._heat_of, on_its_way=True):
                raise Refused(NOT_ALLOWED, why)

    def _too_hard(self, sweep_move: SweepMove, known: Mapping[str, float]) -> str:
        """Why a swing is not done: harder than an axis may be driven, or beyond its limits; empty: nothing is wrong."""
        limits = self._limits()
        for axis, fraction in sweep_move.direction.items():
            most, asked = (
                number_in(self._live, f"axes.{axis}.acceleration_mm_s2"),
                abs(fraction) * sweep_move.peak_mm_s2,
            )
            if asked > most * (1 + 1e-9):
                return f"a sweep of up to {asked:.0f} mm/s² along {axis.upper()}: its acceleration is {most:g} at most"
            low, high = limits.get(axis, (float("-inf"), float("inf")))
            reach = abs(fraction) * sweep_move.reach_mm
            if not low <= known[axis] - reach <= known[axis] + reach <= high:
                place = f"{axis.upper()} {known[axis]:.2f} mm"
                return f"a sweep of {reach:.1f} mm either way about {place}: allowed {low:g} to {high:g} mm"
        return ""

    @property
    def _live(self) -> LiveValues:
        return self.drivers.live

    def _limits(self) -> dict[str, tuple[float, float]]:
        live = self._live
        soft = (axis for axis in AXES if live.get(f"axes.{axis}.soft_limits", True))
        return {a: (number_in(live, f"axes.{a}.minimum_mm"), number_in(live, f"axes.{a}.maximum_mm")) for a in soft}

    def _fill(self, run: Run) -> None:
        """Plan what can be planned: after a touch nobody knows where it stands until it has touched."""
        while run.waiting and not any(isinstance(piece, Move) and piece.until for piece in self._queue.pieces):
            segment = run.waiting.popleft()
            number = run.taken - len(run.waiting) - 1
            self._queue.add(self._piece(run, segment, number))
            if isinstance(segment, To):
                run.planned.update(segment.at)

    def _piece(self, run: Run, segment: Segment, number: int) -> Piece:

        def begun() -> None:
            if segment.place:
                self._events.emit("place", motion=run.motion, program=run.name, segment=number, place=segment.place)
            if isinstance(segment, SetAdvance):
                self._advance_s = segment.seconds
                self._queue.lead.follow(segment.seconds)
            pushes = isinstance(segment, (To, Push)) and segment.filament
            if pushes and (why := why_too_cold(self._live, self._heat_of)):
                self._finish("refused", why=why)

        def done(hit: bool) -> None:
            if isinstance(segment, ProbeMove):
                here = dict(self._position())
                run.planned.update({axis: mm for axis, mm in here.items() if mm is not None})
                if "z" in run.planned:
                    run.planned["z"] -= self.height_mm  # the program counts without what it was nudged by
                what = "touched" if hit else "missed"
                self._events.emit(what, motion=run.motion, program=run.name, segment=number, position=here)
                run.promised = Program(run.name, tuple(run.waiting)).end(run.planned)
            run.ended += 1
            self._fill(run)
            self._end_when_done(run)

        if isinstance(segment, SetAdvance):
            run.planned_advance_s = segment.seconds
        caps = self.drivers.caps if run.planned_advance_s is None else self._caps(run.planned_advance_s)
        line = line_to(segment, run.planned, caps)
        if isinstance(segment, SweepMove):
            steps = self._steps(caps.motors(segment.direction), 1.0)
            return SweepMotion(SweepCourse(segment), segment.direction, steps, done=done, begun=begun)
        if line is None:
            if isinstance(segment, Warm):
                return Waiting(lambda: self._is_warm(segment), done=done, begun=begun)
            return Pause(segment.seconds if isinstance(segment, Dwell) else 0.0, done=done, begun=begun)
        if isinstance(segment, Lift):
            motors = dict(segment.motors)
        else:
            motors = caps.motors({part: fraction * line.length for part, fraction in line.direction.items()})
        until = self._until() if isinstance(segment, ProbeMove) else None
        stands = isinstance(segment, (ProbeMove, Lift))
        return Move(line, self._steps(motors, line.length), until, motors=motors, stands=stands, done=done, begun=begun)

    def _caps(self, advance_s: float) -> Caps:
        """The caps with a pressure advance that a program sets."""
        return self.drivers.caps.with_advance(advance_s if self.advances else 0.0)

    def _steps(self, motors: Mapping[str, float], length: float) -> tuple[Steps, ...]:
        flowing = {root: mm * (self.flow if root == EXTRUDER else 1.0) for root, mm in motors.items()}
        return self.drivers.steps(flowing, length)

    def _is_warm(self, segment: Warm) -> bool:
        celsius, target = self._heat_of(segment.heater)
        if target is None:
            self._finish("refused", why=f"the {segment.heater} was switched off while it was waited for")
            return False
        return celsius is not None and abs(celsius - target) <= segment.within_c

    def _nudge(self, height_mm: float) -> None:
        if abs(height_mm) > MOST_NUDGED_MM:
            raise Refused(NOT_ALLOWED, f"height {height_mm:+g} mm: allowed up to {MOST_NUDGED_MM:g} mm either way")
        here = self._position().get("z")
        if here is None:
            raise Refused(NOT_ALLOWED, "Z is not homed: its height cannot be nudged")
        caps, by = self.drivers.caps, height_mm - self.height_mm
        if abs(by) > 1e-9:
            line = caps.line({"z": by}, number_in(self._live, "axes.z.maximum_feed_mm_s"))
            motors = caps.motors({"z": by})
            steps, run = self.drivers.steps(motors, line.length), self.run
            self._queue.beside(Move(line, steps, done=lambda hit: self._end_when_done(run)))
        self.height_mm = height_mm

    def _end_when_done(self, run: Run | None) -> None:
        """End the program when all is done; a nudge that is still on its way is not cut off."""
        if run is None or self.run is not run or self._queue.busy or run.waiting:
            return
        if run.last:
            self._finish("done")
        elif not run.starved and run.taken:
            run.starved = True
            self._events.emit("starved", motion=run.motion, program=run.name, segment=run.taken)
