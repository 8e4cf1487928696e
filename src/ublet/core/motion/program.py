"""Programs of motion: segments with named places, made by us, run on the board, timed beforehand."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TypeAlias

from ublet.core.machine.layouts import AXES
from ublet.core.motion.caps import Caps
from ublet.core.motion.planner import LinearMove, along


@dataclass(frozen=True)
class To:
    """A straight line to a place, mm by axis (those left out stay), pushing so much filament, mm, on the way; at most
    at an acceleration, mm/s² (0: that of its axes).
    """

    at: Mapping[str, float]
    mm_s: float
    filament: float = 0.0
    place: str = ""
    mm_s2: float = 0.0


@dataclass(frozen=True)
class Push:
    """Filament alone, mm; back when it is negative."""

    filament: float
    mm_s: float
    place: str = ""


@dataclass(frozen=True)
class SetAdvance:
    """From here to the program's end, or the next one, this pressure advance instead of the live one, s."""

    seconds: float
    place: str = ""


@dataclass(frozen=True)
class Dwell:
    """Standing still, s."""

    seconds: float
    place: str = ""


@dataclass(frozen=True)
class Warm:
    """Standing still until a heater is within so many °C of its target."""

    heater: str
    within_c: float = 2.0
    place: str = ""


@dataclass(frozen=True)
class ProbeMove:
    """Down, or wherever ``at`` lies, until the probe triggers; the board reports where. Going on starts from there."""

    at: Mapping[str, float]
    mm_s: float
    place: str = ""


@dataclass(frozen=True)
class Lift:
    """Single motors, mm by their roots (``axes.z.motors.left``); the axis's position stays what it was called."""

    motors: Mapping[str, float]
    mm_s: float
    place: str = ""


@dataclass(frozen=True)
class SweepMove:
    """To and fro along a straight line about where it stands, ever faster: a sine whose acceleration grows with its
    frequency, so many m/s² a Hz; it ends where it began. way: the line's direction, by axis, of length one.
    """

    direction: Mapping[str, float]
    from_hz: float
    to_hz: float
    seconds: float
    per_hz_m_s2: float
    place: str = ""

    @property
    def peak_mm_s2(self) -> float:
        """Its largest acceleration, along its way."""
        return 1000 * self.per_hz_m_s2 * self.to_hz

    @property
    def reach_mm(self) -> float:
        """It stays within so much of where it stands: what its speed makes of half the lead in, and of a swing."""
        return 1000 * self.per_hz_m_s2 / (2 * math.pi) * (SWEEP_LEAD_S / 2 + 1 / (math.pi * self.from_hz))


ADVANCE = "extruder.advance_s"
"""The setting that a program may have for itself."""

FEEDS, FLOWS = (0.1, 3.0), (0.2, 2.0)
"""Shares of the speed and of the filament that may be asked for while a program runs."""

MOST_NUDGED_MM = 2.0
"""Largest nudge of a running program from its height."""

SWEEP_LEAD_S = 0.8
"""A swing is led in and out for so long in all, s."""

Segment: TypeAlias = To | Push | SetAdvance | Dwell | Warm | ProbeMove | Lift | SweepMove


@dataclass(frozen=True)
class Park:
    """What a board does when a program ends early: it brakes along its path, lifts Z by lift_mm, and goes to ``at``, mm
    by axis, at mm_s.
    """

    lift_mm: float
    at: Mapping[str, float]
    mm_s: float


@dataclass(frozen=True)
class Program:
    """Segments in their order. place: a word at a segment is reported when it begins."""

    name: str
    segments: Sequence[Segment]
    note: str = ""

    @property
    def filament_mm(self) -> float:
        """Filament that is pushed in all; what is drawn back counts against it."""
        return sum(segment.filament for segment in self.segments if isinstance(segment, (To, Push)))

    @property
    def pushes(self) -> bool:
        """Whether any filament is moved."""
        return any(isinstance(segment, (To, Push)) and segment.filament for segment in self.segments)

    @property
    def axes(self) -> tuple[str, ...]:
        """The axes that it moves."""
        moved = [
            segment.at
            if isinstance(segment, (To, ProbeMove))
            else segment.direction
            if isinstance(segment, SweepMove)
            else {}
            for segment in self.segments
        ]
        return tuple(axis for axis in AXES if any(axis in at for at in moved))

    @property
    def places(self) -> tuple[str, ...]:
        """The named places, in their order."""
        return tuple(segment.place for segment in self.segments if segment.place)

    def end(self, start: Mapping[str, float]) -> dict[str, float]:
        """Where it ends, mm by axis."""
        here: Mapping[str, float] = start
        for end in self.ends(start):
            here = end
        return dict(here)

    def ends(self, start: Mapping[str, float]) -> Iterator[Mapping[str, float]]:
        """Where every segment ends, mm by axis; a touch at its furthest."""
        here = dict(start)
        for segment in self.segments:
            if isinstance(segment, (To, ProbeMove)):
                here.update(segment.at)
            yield dict(here)


@dataclass(frozen=True)
class Timed:
    """When a segment begins and how long it takes, s; how fast it is asked to be and may be, mm/s, and why not faster.

    A wait for a temperature takes no time here, a touch its whole way.
    """

    begins_s: float
    seconds: float = 0.0
    asked_mm_s: float = 0.0
    top_mm_s: float = 0.0
    capped_by: str = ""


@dataclass(frozen=True)
class Timetable:
    """A program as it will be run, segment by segment."""

    program: Program
    segments: Sequence[Timed]
    seconds: float
    capped: Mapping[str, int] = field(default_factory=dict)
    """How many segments each setting makes slower than asked for."""

    def seconds_from(self, place: str) -> float:
        """How long it takes from the first segment of a place on, s.

        Raises:
            StopIteration: there is no such place.
        """
        begins = zip(self.program.segments, self.segments, strict=True)
        return self.seconds - next(timed.begins_s for segment, timed in begins if segment.place == place)


@dataclass
class Going:
    """How a program that runs stands: segments given and begun, its last named place, held or not (and why, where the
    board held it by itself), how often its queue
    ran dry, by how much it was nudged, mm, its shares of speed and of filament, and where it touched, mm by axis.
    """

    table: Timetable
    given: int = 0
    place: str = ""
    segment: int = 0
    held: bool = False
    held_why: str = ""
    starved: int = 0
    height_mm: float = 0.0
    feed: float = 1.0
    flow: float = 1.0
    touched: list[Mapping[str, float]] = field(default_factory=list)


def line_to(segment: Segment, here: Mapping[str, float], caps: Caps) -> LinearMove | None:
    """The line of a segment from a place; None where nothing moves.

    Raises:
        KeyError: it moves an axis whose place is not known.
    """
    travel: dict[str, float] = {}
    if isinstance(segment, (To, ProbeMove)):
        travel = {axis: mm - here[axis] for axis, mm in segment.at.items() if abs(mm - here[axis]) > 1e-9}
    if isinstance(segment, (To, Push)) and segment.filament:
        travel["e"] = segment.filament
    if isinstance(segment, Lift):
        return caps.motor_line(segment.motors, segment.mm_s) if any(segment.motors.values()) else None
    if not travel or isinstance(segment, (Dwell, Warm, SweepMove, SetAdvance)):
        return None
    line = caps.line(travel, segment.mm_s)
    gentle = segment.mm_s2 if isinstance(segment, To) else 0.0
    return replace(line, acceleration=min(line.acceleration, gentle)) if gentle else line


def still_s(segment: Segment) -> float:
    """How long a segment takes that goes nowhere, s; a wait for a temperature is not known, and counts as nothing."""
    if isinstance(segment, SweepMove):
        return segment.seconds + SWEEP_LEAD_S
    return segment.seconds if isinstance(segment, Dwell) else 0.0


def timetable(program: Program, start: Mapping[str, float], caps: Caps) -> Timetable:
    """How long a program takes on a machine with these caps, from where it stands.

    Lines that follow one another are joined at their corners; everything else begins and ends standing.

    Raises:
        KeyError: it moves an axis whose place is not known.
    """
    lines: list[tuple[int, LinearMove]] = []
    timed: list[Timed] = [Timed(0.0)] * len(program.segments)
    now = 0.0

    def follow() -> None:
        """Put times to the lines that are joined."""
        nonlocal now
        taken = [0.0] * len(lines)
        for at, pace in along([line for _, line in lines], caps.corner):
            taken[at] += pace.seconds
        for (number, line), seconds in zip(lines, taken, strict=True):
            asked = getattr(program.segments[number], "mm_s", 0.0)
            timed[number] = Timed(now, seconds, asked, line.top, line.capped_by)
            now += seconds
        lines.clear()

    here: Mapping[str, float] = start
    for number, (segment, end) in enumerate(zip(program.segments, program.ends(start), strict=True)):
        if isinstance(segment, SetAdvance):
            caps = caps.with_advance(segment.seconds)
        line = line_to(segment, here, caps)
        stands = isinstance(segment, (ProbeMove, Lift))
        if line is None or stands:
            follow()
        if line is not None:
            lines.append((number, line))
        else:
            seconds = still_s(segment)
            timed[number] = Timed(now, seconds)
            now += seconds
        if stands:
            follow()
        here = end
    follow()
    capped: dict[str, int] = {}
    for timed_segment in timed:
        if timed_segment.capped_by:
            capped[timed_segment.capped_by] = capped.get(timed_segment.capped_by, 0) + 1
    return Timetable(program, timed, now, capped)


def must_be_inside(program: Program, start: Mapping[str, float], limits: Mapping[str, tuple[float, float]]) -> str:
    """Which segment leaves the machine's limits, as a sentence; empty: none does."""
    for number, end in enumerate(program.ends(start)):
        for axis in AXES:
            low, high = limits.get(axis, (float("-inf"), float("inf")))
            if axis in end and not low - 1e-6 <= end[axis] <= high + 1e-6:
                place = f"{axis.upper()} {end[axis]:.2f} mm"
                return f"segment {number} of {program.name} would end at {place}: allowed {low:g} to {high:g} mm"
    return ""
