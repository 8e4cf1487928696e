"""The bench that recipes talk to: facets, each with one subject. What is read through them is what a run rests on."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterable, Mapping
from contextlib import AbstractAsyncContextManager, AbstractContextManager
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.print_plan import PrintPlan
from ublet.core.motion.program import Going, Program, Timetable
from ublet.core.questions import Jog, Judge, Live, Measure, Question
from ublet.core.run import Checkpoint, Finding, Option, Progress, TrialResult
from ublet.core.settings import Value
from ublet.core.streams import Chunk, StreamKind

T = TypeVar("T")


@dataclass(frozen=True)
class HeatSample:
    """One sample of a heater by the board's clock; target_c is None while it is off."""

    time_s: float
    celsius: float
    duty: float
    fan: float
    target_c: float | None = None


@dataclass(frozen=True)
class InputState:
    """A digital input: whether it reads as triggered, and how often its level changed since power-on."""

    triggered: bool
    edges: int


@dataclass(frozen=True)
class Jogged:
    """How a jog ended: the answer, and where the axes stand that know it, mm."""

    answer: str
    position: Mapping[str, float]


class Settings(Protocol):
    """The live settings of the board."""

    def live(self, path: str) -> Value:
        """The live value, which the findings rest on; None when the board has no such setting."""

    def shown(self, path: str) -> Value:
        """The live value to stand beside a proposal: the findings do not rest on it."""

    def borrowed(self, values: Mapping[str, Value]) -> AbstractAsyncContextManager[None]:
        """Other live settings for a while: whatever happens, they are put back at the end."""


class Heat(Protocol):
    """Sensors, heaters and fans."""

    @property
    def first_c(self) -> float | None:
        """The coolest sensor when the link was made, °C: the room, or above it; None before."""

    @property
    def apart_s(self) -> float:
        """How far apart in time a reading and the duty beside it may be, s: 0 where the board samples both at once, the
        time between two questions where it is asked for its readings.
        """

    def celsius(self, sensor: str) -> float | None:
        """The latest reading of a sensor; None when it is open or shorted."""

    def rise(self, sensor: str, since_c: float) -> float | None:
        """How far a sensor has risen since a reading, °C: shows only whether it warms; None when it does not read."""

    def target(self, heater: str) -> float | None:
        """What a heater is held at, °C; None while it is off."""

    def held_s(self, heater: str) -> float:
        """How long a heater has been at its target already, whoever set it, s; 0: it is not there."""

    def samples(self, heater: str) -> AsyncIterator[HeatSample]:
        """Samples of a heater from now on, 10 a second by the board's clock."""

    async def hold(self, heater: str, celsius: float) -> None:
        """Hold a temperature with the live gains, which the findings then rest on."""

    async def warm(self, heater: str, celsius: float) -> None:
        """The same as a mere means: how it is held does not matter to the findings."""

    async def pulse(self, heater: str, duty: float, highest_c: float) -> None:
        """Drive a heater at a duty to see what warms; the board stops it at a temperature."""

    async def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Switch between two duties around a temperature; the board does the switching."""

    async def off(self, heater: str) -> None:
        """Switch a heater off."""

    async def fan(self, name: str, duty: float) -> None:
        """Run a fan at a duty 0..1."""


class Running(Protocol):
    """A program that runs: how it stands, and what acts on it while it does."""

    @property
    def going(self) -> Going:
        """How it stands."""

    @property
    def begun_s(self) -> float | None:
        """The board's time at which its first named place began, s; None before."""

    @property
    def ended(self) -> tuple[str, float] | None:
        """How it ended (``done``, ``stopped``, why it was refused), and when by the board's clock, s; None: it runs."""

    async def nudge(self, by_mm: float) -> str:
        """Nearer to the bed (negative) or further from it, on top of what it was nudged by before; returns why the
        board refused it (empty: it did not). The program goes on either way.
        """

    async def set_feed(self, fraction: float) -> None:
        """Follow it at another share of its speed."""

    async def set_flow(self, fraction: float) -> None:
        """Push another share of its filament."""

    async def hold(self, held: bool) -> str:
        """Stand still on the path, or go on from there; returns why the board refused it (empty: it did not)."""


class MotionAccess(Protocol):
    """Motors and axes."""

    def timetable(self, program: Program) -> Timetable:
        """The program as the board will run it from where it stands.

        Raises:
            TrialFailed: it moves an axis that is not homed.
        """

    def run(self, table: Timetable) -> AbstractAsyncContextManager[Running]:
        """A program that runs while the block goes on; one that still does at its end is stopped."""

    async def turn(self, motor: str, mm: float, speed_mm_s: float) -> None:
        """Turn one motor by itself, and wait until it stands."""

    async def move(self, axis: str, mm: float, speed_mm_s: float) -> float:
        """Move an axis by so much, and wait until it stands; returns the speed that the board allowed, mm/s."""

    async def go(self, at: Mapping[str, float], mm_s: float) -> float:
        """Move axes together in a straight line to a place, mm, and wait until they stand; returns the speed along it
        that the board allowed, mm/s.
        """

    async def push(self, mm: float, mm_s: float) -> float:
        """Push filament, and wait until it stands; returns the speed that the board allowed, mm/s."""

    async def lift(self, motors: Mapping[str, float], mm_s: float) -> None:
        """Turn single motors together, mm by their roots (``axes.z.motors.left``), and wait until they stand."""

    def clear_at_the_end(self, mm: float) -> None:
        """Whatever ends the trial, but a halt: Z is raised to at least so much, mm, before the pin is stowed."""

    async def home(self, axis: str) -> tuple[str, float | None]:
        """Home an axis; returns why it did not find its end (empty: it did), and how far off its position was, mm."""

    def position(self, axis: str) -> float | None:
        """Where an axis stands, mm; None before it was homed."""

    def lifts_proven(self) -> bool:
        """Whether every lift of Z is known to go the way it is commanded, with the wiring that is live now."""

    def prove_lifts(self) -> None:
        """The builder saw every lift go the way it was commanded."""


class Listening(Protocol):
    """A stream that is open. Going through it gives its readings in order; a capture's when it is full."""

    kind: StreamKind
    gaps: list[tuple[int, int]]
    """Numbers of the first and the last reading of each gap that could not be closed."""
    recovered: int
    """Blocks that were lost on the line, and came when they were asked for again."""

    @property
    def rate_hz(self) -> float:
        """Readings a second as they really came, by the board's clock."""

    def times(self, index: int, count: int) -> NDArray[np.float64]:
        """When readings were taken, by the board's clock, s: the better known the longer it goes on."""

    def __aiter__(self) -> AsyncIterator[Chunk]:
        """The readings."""


class StreamAccess(Protocol):
    """Sensors that take hundreds of readings a second."""

    def kinds(self) -> Mapping[str, StreamKind]:
        """Those that the board has, by name."""

    def open(self, name: str, rate_hz: float, capture_s: float | None = None) -> AbstractAsyncContextManager[Listening]:
        """Listen to one, live, or to so many seconds that the board holds and hands over afterwards.

        Raises:
            TrialFailed: the board says why it cannot.
        """


class ProbeAccess(Protocol):
    """Switches, and the probe's pin."""

    def inputs(self) -> Mapping[str, InputState]:
        """Every input that the board reports, by name: ``endstops.NAME`` and ``probe``."""

    async def pin(self, deployed: bool) -> None:
        """Deploy or stow the probe's pin."""

    async def touch(self, floor_mm: float, mm_s: float) -> float | None:
        """Z comes down until the probe triggers, at most to a position; returns where that was, mm (None: it did
        not).
        """


class Guarding(Protocol):
    """The board's guards, for their drill."""

    @property
    def simulated(self) -> bool:
        """Whether the board says of itself that nothing real is behind it."""

    @property
    def heartbeat_window_s(self) -> float:
        """How long the board heats without a line from the host, by its own clock, s; 0: it never switches off by
        itself.
        """

    @property
    def language(self) -> str:
        """The dialect that the board speaks, empty: the protocol. A board with a dialect only answers: what happened in
        a silence is read after it.
        """

    @property
    def host_watches(self) -> tuple[str, ...]:
        """Guards that the board lacks, and the host keeps for it."""

    def tripped(self) -> tuple[bool, str, float]:
        """Whether a guard has tripped or the board was halted, the guard's name, and the board time of that, s."""

    async def release(self) -> None:
        """Leave the tripped state."""

    def fall_silent(self, seconds: float) -> None:
        """Send nothing for a while, by the link's clock: what a host does that has died."""


class Clock(Protocol):
    """The board's time."""

    @property
    def news_s(self) -> float:
        """How late the host may learn of something, by the board's clock, s."""

    def now_s(self) -> float:
        """The board's clock, s."""

    async def rest(self, seconds: float) -> None:
        """Let the board's time pass."""


class Controls(Protocol):
    """Live controls that are open: what was used, and the answer that closed them."""

    @property
    def answer(self) -> str | None:
        """The answer that closed them; None while they are open."""

    def used(self) -> tuple[str, ...]:
        """The controls used since this was asked last, in order."""

    def ask(self, question: Live) -> None:
        """Put another question in the place of the one that is open."""


class Builder(Protocol):
    """The builder at the machine."""

    async def ask(self, question: Question) -> str:
        """Ask; the answer is one of the question's."""

    async def measure(self, question: Measure) -> float:
        """Ask for a reading; it comes in the question's unit."""

    async def jog(self, question: Jog, speed_mm_s: float) -> Jogged:
        """Let axes be jogged until one of the answers is given; no move ends below the question's floor."""

    async def judge(self, question: Judge) -> tuple[tuple[str, ...], ...]:
        """Ask for a verdict on each place of a grid; by rows from the front, each from the left."""

    def live(self, question: Live) -> AbstractAsyncContextManager[Controls]:
        """Controls that stay open while the block goes on."""

    def by_hand(self, do: Question, undo: Question) -> AbstractAsyncContextManager[str]:
        """Ask for something that hands undo again; gives the answer. ``undo`` is asked at the end of the block; when
        something else ends it (a halt, a lost link, a cancellation), what is left to be undone is named, and in a
        simulated world done. Another answer than the first means that nothing was done.
        """


class Recording(Protocol):
    """The run's record."""

    def row(self, stream: str, row: tuple[float, ...], of: str = "") -> None:
        """Record a row of a declared stream, and let it be drawn. of: a word that distinguishes several of a kind."""

    def rows(self, stream: str, rows: Iterable[tuple[float, ...]], of: str = "") -> None:
        """Record many rows at once; they are not drawn one by one."""

    def flow(self, stream: str, times_s: NDArray[np.float64], values: NDArray[np.float64], of: str = "") -> None:
        """Record readings as they come (n times, n x columns values); some of them are drawn. of: as in a row."""

    def found(self, *findings: Finding, option: Option | None = None) -> None:
        """These are found already, and this can be proposed: both stay if what comes after is cut off, whatever does.
        A finding takes the place of an earlier one with its id, an option that of the one before. The result names
        them again.
        """

    def checkpoint(self, checkpoint: Checkpoint) -> None:
        """From here it could go on another time."""

    def knowingly(self, words: str) -> None:
        """The builder left this out knowingly: it is noted among the conditions of the run."""

    @property
    def going_on(self) -> Checkpoint | None:
        """Where an earlier run stopped that this one goes on from; None: it begins at the beginning."""

    def earlier(self, trial: str, **subject: str) -> TrialResult | None:
        """The last proven result of another trial on this machine, of one heater when asked for: what is looked up
        in it is what the findings rest on.
        """


class PrintAccess(Protocol):
    """Texts of prints."""

    async def plan(self, file: str, material: str) -> PrintPlan:
        """A text read whole, checked and timed for this machine as it is now.

        Raises:
            TrialFailed: it cannot be read, or is no text.
        """


class Bench(Protocol):
    """What a trial can do and see. One implementation drives a board over the link.

    ``machine`` is the machine as it is now: the live value of what the board holds, the file's of everything else.
    """

    @property
    def machine(self) -> MachineFile:
        """The machine as it is now; what is read of it is noted."""

    @property
    def settings(self) -> Settings:
        """The live settings."""

    @property
    def heat(self) -> Heat:
        """Sensors, heaters and fans."""

    @property
    def motion(self) -> MotionAccess:
        """Motors and axes."""

    @property
    def probe(self) -> ProbeAccess:
        """Switches, and the probe's pin."""

    @property
    def streams(self) -> StreamAccess:
        """Sensors that take hundreds of readings a second."""

    @property
    def prints(self) -> PrintAccess:
        """Texts of prints."""

    @property
    def guards(self) -> Guarding:
        """The board's guards."""

    @property
    def clock(self) -> Clock:
        """The board's time."""

    @property
    def builder(self) -> Builder:
        """The builder at the machine."""

    @property
    def record(self) -> Recording:
        """The run's record."""

    def report_fact(self, kind: str, subject: str = "") -> None:
        """The builder did this for the trial just now (a screw turned): it is entered as a fact, so that what rests on
        it elsewhere is known to be stale. The trial itself does not rest on it.
        """

    def aside(self) -> AbstractContextManager[None]:
        """What is read in this block only leads there: the findings do not rest on it."""

    def progress(self, progress: Progress) -> None:
        """Report where the trial is."""

    async def compute(self, function: Callable[..., T], *arguments: Any) -> T:
        """Run a long computation without holding up anything else."""
