"""Pushing filament past a mark, and reading what is left of it."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Literal

from ublet.core.acts import MarkFilament
from ublet.core.bench import Bench
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.extrude.melting import melt
from ublet.core.motion.measuring import INSTRUMENTS, Length, length_of
from ublet.core.observations import CheckFilament, ReadFilament
from ublet.core.questions import Confirm, Measure
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, GoTo, StartAgain
from ublet.core.run import Checkpoint, Progress, Stream, TrialFailed
from ublet.core.units import parse

BEYOND_MM = 20.0
"""The first mark stands so far beyond what is pushed, the second as far again as the first, mm."""

PLACED_MM = 2.0
"""A mark is placed and filament springs back within this: more than it was is not left, mm."""

BITE_RATIO = 0.002
"""A sound hob bites by this fraction of a push more or less from one to the next, standard: the filament's surface."""

KINDS = ("slow", "fast", "slower", "current", "hotter")
"""How pushes differ, by their number in the stream."""

STREAM = Stream(
    "pushes",
    ("kind", "speed_mm_s", "nozzle_c", "commanded_mm", "measured_mm"),
    ("", "mm/s", "°C", "mm", "mm"),
)

NONE_LEFT = "no filament left"
GONE = "gone"


class BothGone(TrialFailed):
    """More went in than two marks can show."""


FilamentInstrument = Literal["rule", "callipers"]

PRIME_MM = 20.0
"""The first millimetres after heating do not count, mm."""

ROOM_MM, LIFT_MM_S = 60.0, 10.0
"""The nozzle stands at least so high over the bed, for what comes out, mm; and how fast it goes there, mm/s."""


async def make_ready(bench: Bench, heater: str, celsius: float, question: str, mm_s: float) -> None:
    """Room below the nozzle, heat, filament in, and the first millimetres gone. question: whether it is loaded.

    Raises:
        TrialFailed: it does not get warm, or the builder stops there.
    """
    with bench.aside():
        here, high = bench.motion.position("z"), min(ROOM_MM, bench.machine.axes.z.maximum_mm)
        if here is not None and here < high:
            bench.progress(Progress("room for what comes out", 0.02, None, f"Z goes to {high:g} mm"))
            await bench.motion.move("z", high - here, LIFT_MM_S)
    await melt(bench, heater, celsius, 0.05)
    words = f"{question} {PRIME_MM:g} mm are pushed at {mm_s:g} mm/s, to begin with."
    if await bench.builder.ask(Confirm(words, ("loaded", "stop here"), CheckFilament())) != "loaded":
        raise TrialFailed("Stopped before any filament was pushed.", StartAgain())
    bench.progress(Progress("priming", 0.15, None, f"{PRIME_MM:g} mm at {mm_s:g} mm/s"))
    await bench.motion.push(PRIME_MM, mm_s)


def marks_for(mm: float) -> tuple[float, float]:
    """Where the two marks stand for a push of so many mm, before the place where the filament goes in, mm."""
    return mm + BEYOND_MM, 2 * (mm + BEYOND_MM)


@dataclass
class Pushing:
    """Pushes on one machine. length_mm: of a whole push. read: what went in, mm, by kind. placings: readings that one
    length is made of, at most: a mark is placed and then read, the second one is placed from the first. records:
    whether each push is a row of the stream.
    """

    bench: Bench
    instrument: FilamentInstrument
    celsius: float
    length_mm: float
    read: dict[str, list[float]] = field(default_factory=dict)
    placings: int = 2
    records: bool = True
    _former: FormerReading | None = None

    async def push(self, kind: str, mm: float, mm_s: float, times: int, fraction: float) -> Length:
        """Mark, push, read, so many times; what was read before counts. share: of the whole trial when it is done.

        Raises:
            BothGone: more went in than can be read. TrialFailed: the filament ended, or the builder stopped.
        """
        bench = self.bench
        readings = self.read.setdefault(kind, [])
        while len(readings) < times:
            count = f", {len(readings) + 1} of {times}" if times > 1 else ""
            bench.progress(Progress(f"{kind} push", fraction, None, f"{mm:g} mm at {mm_s:.3g} mm/s{count}", kind))
            await self._mark(mm, mm_s)
            await bench.motion.push(mm, mm_s)
            readings.append(went := await self._went(kind, mm))
            if self.records:
                bench.record.row(STREAM.name, (float(KINDS.index(kind)), mm_s, self.celsius, mm, went))
            read = {kind: list(readings) for kind, readings in self.read.items()}
            state = {"read": read, "placings": self.placings, "length_mm": self.length_mm}
            bench.record.checkpoint(Checkpoint(f"{self._progress_words()} read", state))
        return length_of(readings, self.instrument, self.placings, BITE_RATIO * mm)

    async def mean_mm(self, kind: str, mm: float, mm_s: float, times: int, fraction: float) -> float:
        """The mean of what went in, as :meth:`push`."""
        return (await self.push(kind, mm, mm_s, times, fraction)).mean_mm

    def length_for(self, mm: float) -> float:
        """Length of a push, mm: as asked for."""
        return mm

    @property
    def error_mm(self) -> float:
        """Standard error of a length: a mark that is placed and read, mm."""
        return INSTRUMENTS[self.instrument].placing_mm * math.sqrt(2 / 3)

    async def _mark(self, mm: float, mm_s: float) -> None:
        first, second = marks_for(mm)
        asked = Confirm(
            f"{mm:g} mm of filament are pushed next, at {mm_s:.3g} mm/s. Mark it {first:g} and {second:g} mm before it "
            f"goes in, by the {self.instrument}.",
            ("marked", NONE_LEFT, "stop here"),
            MarkFilament((first, second), self.instrument),
        )
        answer = await self.bench.builder.ask(asked)
        if answer == NONE_LEFT:
            raise TrialFailed(
                f"The filament ends before the second mark: load more, then go on. {self._so_far()}",
                ByHand("load filament"),
                StartAgain(goes_on=True),
            )
        if answer != "marked":
            raise TrialFailed(f"Stopped at the mark: nothing was concluded. {self._so_far()}", StartAgain(goes_on=True))

    def _put(self, kind: str, mark: float, answer: str) -> None:
        """A reading that was typed wrong is another one."""
        if self.read.get(kind):
            self.read[kind][-1] = mark - parse(answer, "mm")

    async def _went(self, kind: str, mm: float) -> float:
        """What went in: a mark's place less what is left to it; the second mark, where the first one is gone."""
        for placings, named, mark in zip((2, 3), ("first", "second"), marks_for(mm), strict=True):
            asked = Measure(
                f"How far is the {named} mark from the inlet now ({mark:g} mm at first)?",
                (GONE, NONE_LEFT),
                ReadFilament(mark, self.instrument),
                unit="mm",
                lowest=0.0,
                highest=mark + PLACED_MM,
            )
            answer = await read_or_back(self.bench, asked, self._former)
            if answer == NONE_LEFT:
                raise TrialFailed(
                    f"The filament ran out on the way: load more, then go on. {self._so_far()}",
                    ByHand("load filament"),
                    StartAgain(goes_on=True),
                )
            if answer != GONE:
                self.placings = max(self.placings, placings)
                self._former = FormerReading(replace(asked, answers=()), partial(self._put, kind, mark))
                return mark - parse(answer, "mm")
        raise BothGone(
            f"Both marks went in: more than {marks_for(mm)[1]:g} mm for {mm:g} commanded. Set steps per mm to what the "
            "geometry gives first, then measure again.",
            ChangeSetting("extruder.steps_per_mm", "what the geometry gives"),
        )

    def _progress_words(self) -> str:
        return ", ".join(f"{len(readings)} {kind}" for kind, readings in self.read.items() if readings)

    def _so_far(self) -> str:
        return f"Read so far: {progress}." if (progress := self._progress_words()) else "Nothing was read yet."


EDGES_A_PUSH = 120
"""Least number of contact changes in a push that a wheel measures: one change then is less than 1 %."""

LEAST_EDGES = 20
SEEN_S = 0.6
"""Time after a push until the board has reported what its wheel did, s."""

FIRST_MM = 200.0
"""The first push by a wheel, which shows how much filament a change of its contact stands for, mm."""


@dataclass
class WheelPushing:
    """Pushes on one machine whose wheel the filament turns: nobody marks or reads anything. What a change of the
    contact stands for is taken from slow pushes, so only shares of them are known. read: what went in, mm, by kind.
    """

    bench: Bench
    read: dict[str, list[float]] = field(default_factory=dict)
    edge_mm: float = 0.0
    _slow_mm: float = 0.0
    _slow_edges: int = 0

    def length_for(self, mm: float) -> float:
        """Length of a push for which a mark would need ``mm``, mm: enough changes of the contact."""
        return max(mm, EDGES_A_PUSH * self.edge_mm)

    @property
    def error_mm(self) -> float:
        """Standard error of a length: both ends lie anywhere between two changes, ``edge sqrt(1/6)``, mm."""
        return self.edge_mm / math.sqrt(6)

    async def mean_mm(self, kind: str, mm: float, mm_s: float, times: int, fraction: float) -> float:
        """Push until ``times`` pushes of this kind were counted; their mean, mm. Slow pushes calibrate the wheel.

        Raises:
            TrialFailed: the wheel does not turn, or not often enough to count.
        """
        readings = self.read.setdefault(kind, [])
        while len(readings) < times:
            self.bench.progress(Progress(f"{kind} push", fraction, None, f"{mm:g} mm at {mm_s:.3g} mm/s", kind))
            before = await self._edges()
            await self.bench.motion.push(mm, mm_s)
            edges = await self._edges() - before
            if kind == "slow" and edges < LEAST_EDGES:
                raise TrialFailed(
                    f"The wheel of the filament sensor changed {edges} times in {mm:g} mm: it shows too little.",
                    ChangeParameter("by", "mark: read by hand what went in"),
                    GoTo("inputs by hand", "whether the wheel turns with the filament", "inputs-by-hand"),
                )
            if kind == "slow":
                self._slow_mm, self._slow_edges = self._slow_mm + mm, self._slow_edges + edges
                self.edge_mm = self._slow_mm / self._slow_edges
            readings.append(mm if kind == "slow" else edges * self.edge_mm)
        return sum(readings) / len(readings)

    async def _edges(self) -> int:
        await self.bench.clock.rest(SEEN_S)
        state = self.bench.probe.inputs().get("filament")
        return state.edges if state is not None else 0
