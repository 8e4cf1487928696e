"""Trials: what a calibration returns, and the bench that it talks to."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Callable, Coroutine, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Declaration, Part, Value, declarations

Outcome = Literal["proven", "failed", "halted"]
T = TypeVar("T")


@dataclass(frozen=True)
class Finding:
    """A measured or predicted value with its standard uncertainty (None: not known) and its limit."""

    name: str
    value: float
    uncertainty: float | None = None
    unit: str = ""
    limit: float | None = None

    def __post_init__(self) -> None:
        for number in (self.value, self.uncertainty, self.limit):
            if number is not None and not math.isfinite(number):
                raise ValueError(f"the finding “{self.name}” is no finite number ({number})")

    @property
    def within(self) -> bool:
        """Whether the value keeps its limit (by magnitude); True without one."""
        return self.limit is None or abs(self.value) <= self.limit


@dataclass(frozen=True)
class Proposal:
    """A setting that a trial proposes to change."""

    setting: str
    before: Value
    after: Value
    unit: str
    effect: str

    def __post_init__(self) -> None:
        if isinstance(self.after, float) and not math.isfinite(self.after):
            raise ValueError(f"the proposal for {self.setting} is no finite number ({self.after})")


@dataclass(frozen=True)
class Option:
    """One of several sets of proposals to choose from, with the figures predicted for it.

    figures maps a finding's name to its value; None where the prediction does not tell.
    """

    name: str
    note: str
    proposals: tuple[Proposal, ...]
    figures: Mapping[str, float | None]


@dataclass(frozen=True)
class Series:
    """Raw data of a trial: rows (n x m) under m column names with units in them."""

    columns: tuple[str, ...]
    rows: NDArray[np.float64]

    def column(self, name: str) -> NDArray[np.float64]:
        """One column (n)."""
        return np.asarray(self.rows[:, self.columns.index(name)])


@dataclass(frozen=True)
class TrialResult:
    """What a trial found. ``conditions`` is the state it holds for; ``recommended`` names an option."""

    outcome: Outcome
    why: str
    conditions: Mapping[str, Value] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    options: tuple[Option, ...] = ()
    recommended: str = ""
    series: Mapping[str, Series] = field(default_factory=dict)

    @property
    def choice(self) -> Option | None:
        """The recommended option."""
        return next((option for option in self.options if option.name == self.recommended), None)

    @property
    def proposals(self) -> tuple[Proposal, ...]:
        """The proposals of the recommended option."""
        return self.choice.proposals if self.choice else ()

    def finding(self, name: str) -> Finding | None:
        """The finding of that name."""
        return next((item for item in self.findings if item.name == name), None)


class TrialFailed(Exception):
    """A trial cannot give an answer; the message is a sentence that says why and what to do.

    ``outcome`` is "halted" when a halt or a guard ended it.
    """

    def __init__(self, why: str, outcome: Outcome = "failed") -> None:
        super().__init__(why)
        self.outcome: Outcome = outcome


@dataclass(frozen=True)
class HeatSample:
    """One sample of a heater by the board's clock; target_c is None while it is off."""

    time_s: float
    celsius: float
    duty: float
    fan: float
    target_c: float | None = None


@dataclass(frozen=True)
class Question:
    """A question to the builder, with the answers that are allowed; the first one is usual.

    cue says the same for a scripted builder: what to do or to look at, for example ``("press", "x")``.
    unit: the answer is a number that is typed, in this unit, instead of one of the answers. jog: axes that may be moved
    meanwhile, by answers such as ``x+0.5`` or ``y120`` besides the others.
    """

    text: str
    answers: tuple[str, ...] = ()
    cue: tuple[str, ...] = ()
    unit: str = ""
    jog: tuple[str, ...] = ()


@dataclass(frozen=True)
class InputState:
    """A digital input: whether it reads as triggered, and how often its level changed since power-on."""

    triggered: bool
    edges: int


@dataclass(frozen=True)
class Progress:
    """Where a trial is: a phase in words, share done 0..1, and seconds left (None: not known yet)."""

    phase: str
    share: float
    left_s: float | None = None
    detail: str = ""


class Bench(Protocol):
    """What a trial can do and see. One implementation drives a board over the link."""

    machine: MachineFile

    @property
    def simulated(self) -> bool:
        """Whether the board says of itself that nothing real is behind it."""

    @property
    def heartbeat_window_s(self) -> float:
        """How long the board heats without hearing from the host, by its own clock, s."""

    @property
    def first_c(self) -> float | None:
        """The coolest sensor when the link was made, °C: the room, or above it; None before."""

    @property
    def news_s(self) -> float:
        """How late the host may learn of something, by the board's clock, s."""

    def time_s(self) -> float:
        """The board's clock, s."""

    def tripped(self) -> tuple[bool, str, float]:
        """Whether a guard has tripped or the board was halted, the guard's name, and the board time of that, s."""

    async def release(self) -> None:
        """Leave the tripped state."""

    def fall_silent(self, seconds: float) -> None:
        """Send nothing for a while, by the link's clock: what a host does that has died."""

    def setting(self, path: str) -> Value:
        """The live value of a setting on the board; LookupError when the board has none."""

    def celsius(self, sensor: str) -> float | None:
        """The latest reading of a sensor; None when it is open or shorted."""

    def earlier(self, trial: str, heater: str | None = None) -> TrialResult | None:
        """The last proven result of another trial on this machine, of one heater when asked for."""

    async def target(self, heater: str, celsius: float | None) -> None:
        """Hold a temperature with the live gains; None switches off."""

    async def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Switch between two duties around a temperature; the board does the switching."""

    async def fan(self, name: str, duty: float) -> None:
        """Run a fan at a duty 0..1."""

    async def pin(self, deployed: bool) -> None:
        """Deploy or stow the probe's pin."""

    async def turn_motor(self, motor: str, mm: float, speed_mm_s: float) -> None:
        """Turn one motor by itself, and wait until it stands."""

    async def move_axis(self, axis: str, mm: float, speed_mm_s: float) -> float:
        """Move an axis by so much, and wait until it stands; returns the speed that the board allowed, mm/s."""

    async def home(self, axis: str) -> tuple[str, float | None]:
        """Home an axis; returns why it did not find its end (empty: it did), and how far off its position was, mm."""

    def position(self, axis: str) -> float | None:
        """Where an axis stands, mm; None before it was homed."""

    def inputs(self) -> Mapping[str, InputState]:
        """Every input that the board reports, by name: ``endstops.NAME`` and ``probe``."""

    async def rest(self, seconds: float) -> None:
        """Let the board's time pass."""

    def samples(self, heater: str) -> AsyncIterator[HeatSample]:
        """Samples of a heater from now on, 10 a second by the board's clock."""

    def borrowed(self, values: Mapping[str, Value]) -> AbstractAsyncContextManager[None]:
        """Other live settings for a while: whatever happens, they are put back at the end."""

    async def ask(self, question: Question) -> str:
        """Ask the builder."""

    def by_hand(self, do: Question, undo: Question) -> AbstractAsyncContextManager[str]:
        """Ask for something that hands undo again; gives the answer. ``undo`` is asked at the end of the block; when
        something else ends it (a halt, a lost link, a cancellation), what is left to be undone is named, and in a
        simulated world done. Another answer than the first means that nothing was done.
        """

    async def measure(self, question: Question) -> float:
        """Ask the builder for a reading, in the question's unit."""

    def progress(self, progress: Progress) -> None:
        """Report where the trial is."""

    def show(self, series: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        """Record a row of raw data and let it be drawn."""

    async def compute(self, function: Callable[..., T], *arguments: Any) -> T:
        """Run a long computation without holding up anything else."""


@dataclass(frozen=True)
class Need:
    """Something that a trial needs, and whether it is there; words say what is, or what is missing.

    blocking: without it the trial cannot start; otherwise the trial sees to it by itself.
    """

    words: str
    met: bool
    blocking: bool = True


@dataclass(frozen=True)
class TrialSpec:
    """A trial that can be run: its name, station, parameters and recipe.

    needs tells, from the latest readings by sensor, what is there and what is missing;
    announce says before the start what will move or heat; verify names the trial that checks a keep;
    trips: guards trip in it on purpose, and do not end it.
    heaters: the heaters of a machine that it is done for, one after the other; none where it is for the whole machine.
    mends: it fails with proposals that put right what it found, and is run again after they were kept.
    asks: whether it puts questions to the builder, for these parameters, whatever it finds.
    depends gives the setting paths that its findings hold for, out of those that the board has.
    """

    name: str
    station: str
    summary: str
    parameters: type[Part]
    run: Callable[[Bench, Any], Coroutine[Any, Any, TrialResult]]
    announce: Callable[[MachineFile, Any], str]
    depends: Callable[[Any, Mapping[str, Any]], tuple[str, ...]]
    needs: Callable[[MachineFile, Any, Callable[[str], float | None]], tuple[Need, ...]]
    verify: str | None = None
    mends: bool = False
    trips: bool = False
    asks: Callable[[Any], bool] = lambda aim: False
    heaters: Callable[[MachineFile], tuple[str, ...]] = lambda machine: ()

    def declared(self) -> tuple[Declaration, ...]:
        """The parameters as declarations."""
        return tuple(declarations(self.parameters))
