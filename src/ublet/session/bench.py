"""The bench of a linked board: what trials talk to."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import asynccontextmanager
from typing import Any, Protocol, TypeVar

from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.core.trial import HeatSample, InputState, Progress, Question, TrialFailed, TrialResult
from ublet.core.units import parse
from ublet.link.frames import Message
from ublet.link.replies import AxisStatus, Sample
from ublet.session.connection import Connection
from ublet.session.jogging import to_the_end

T = TypeVar("T")

NEWS_S = 0.25
"""A state comes ten times a second, and takes its way, s."""

UNREAD_SAMPLES = 30
"""A sensor may miss so many samples in a row; while heating the board's guard is quicker."""


class Watcher(Protocol):
    """Whoever looks on while a trial runs, and answers its questions."""

    async def answer(self, question: Question) -> str:
        """Answer for the builder."""

    async def undo(self, question: Question) -> bool:
        """What a trial that was cut off left to be done by hand: do it where nobody need be asked; whether it was."""

    def progress(self, progress: Progress) -> None:
        """The trial is here now."""

    def row(self, series: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        """A row of raw data came."""


class LinkBench:
    """A :class:`ublet.core.trial.Bench` over a connection.

    ``threaded`` runs long computations beside the event loop; a virtual clock must not wait for
    threads and runs them in place. ``lent`` notes what borrowed settings must be put back to, for whoever comes after a
    lost link.
    """

    def __init__(
        self,
        machine: MachineFile,
        connection: Connection,
        watcher: Watcher,
        earlier: Callable[[str, str | None], TrialResult | None],
        threaded: bool,
        lent: dict[str, Value],
    ) -> None:
        self.machine = machine
        self._lent = lent
        self.owed: list[Question] = []
        self._pin_down = False
        self._connection = connection
        self._watcher = watcher
        self._earlier = earlier
        self._threaded = threaded

    @property
    def simulated(self) -> bool:
        """Whether the board says of itself that it is a simulated one."""
        return self._connection.about is not None and self._connection.about.simulated

    @property
    def heartbeat_window_s(self) -> float:
        """How long the board heats without hearing from us, by its own clock."""
        about = self._connection.about
        return about.heartbeat_window_s * about.clock if about is not None else 0.0

    @property
    def first_c(self) -> float | None:
        """The coolest sensor when the link was made."""
        return self._connection.first_c

    @property
    def news_s(self) -> float:
        """How late we may learn of something: longer by an accelerated board's clock."""
        about = self._connection.about
        return NEWS_S * about.clock if about is not None else NEWS_S

    def time_s(self) -> float:
        """The board's clock."""
        return self._connection.board_time

    def tripped(self) -> tuple[bool, str, float]:
        """Whether it tripped; the time is that of the first sample in which nothing was driven any more."""
        state = self._connection.state
        if state.mode == "ready" or self._connection.about is None:
            return False, "", 0.0
        channels = self._connection.about.channels
        targets = [2 + at for at, name in enumerate(channels) if name.endswith(".target_c")]
        when = self._connection.board_time
        for sample in reversed(self._connection.samples):
            if any(sample[at] is not None for at in targets):
                break
            when = sample[1] or 0.0
        return True, state.guard or state.mode, when

    async def release(self) -> None:
        """Leave the tripped state."""
        await self._connection.call("release")

    def fall_silent(self, seconds: float) -> None:
        """Send no heartbeat for a while."""
        about = self._connection.about
        self._connection.fall_silent(seconds / about.clock if about is not None else seconds)

    def setting(self, path: str) -> Value:
        """The live value on the board; None when it has no such setting."""
        layers = self._connection.layers.get(path)
        return layers.live if layers else None

    def celsius(self, sensor: str) -> float | None:
        """The latest reading of a sensor."""
        return self._connection.channel(f"sensors.{sensor}")

    def earlier(self, trial: str, heater: str | None = None) -> TrialResult | None:
        """The last proven result of another trial."""
        return self._earlier(trial, heater)

    async def target(self, heater: str, celsius: float | None) -> None:
        """Hold a temperature, or switch off."""
        await self._connection.call("heat.target", heater=heater, celsius=celsius)

    async def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Let the board switch between two duties."""
        await self._connection.call(
            "heat.relay", heater=heater, centre_c=centre_c, hysteresis_c=hysteresis_c, high=high, low=low
        )

    async def fan(self, name: str, duty: float) -> None:
        """Run a fan."""
        await self._connection.call("fan.set", fan=name, duty=duty)

    async def pin(self, deployed: bool) -> None:
        """Deploy or stow the probe's pin."""
        self._pin_down = self._pin_down or deployed
        await self._connection.call("probe.pin", deployed=deployed)
        self._pin_down = deployed

    async def stow(self) -> None:
        """Stow the pin if the trial left it down."""
        if self._pin_down and self._connection.linked and self._connection.state.mode == "ready":
            await self.pin(False)

    async def turn_motor(self, motor: str, mm: float, speed_mm_s: float) -> None:
        """Turn one motor by itself, and wait until it stands."""
        await self._to_the_end("motor.turn", motor=motor, mm=mm, speed_mm_s=speed_mm_s)

    async def move_axis(self, axis: str, mm: float, speed_mm_s: float) -> float:
        """Move an axis by so much, and wait until it stands; returns the speed that the board allowed."""
        told = await self._to_the_end("axis.move", axis=axis, mm=mm, speed_mm_s=speed_mm_s)
        return float(told.get("speed_mm_s", speed_mm_s))

    async def home(self, axis: str) -> tuple[str, float | None]:
        """Home an axis and wait for its end."""
        await self._to_the_end("axis.home", axis=axis)
        told = (await self._connection.asked(dict[str, AxisStatus], "axis.status")).get(axis)
        if told is None:
            raise TrialFailed(f"The board says nothing of the axis {axis.upper()}: write the machine file to it first.")
        return told.why, told.shift_mm

    def position(self, axis: str) -> float | None:
        """Where an axis stands."""
        return self._connection.channel(f"axes.{axis}.mm")

    async def _to_the_end(self, method: str, **params: object) -> Message:
        if self._connection.linked and self._connection.channel("motion.moves") is None:
            raise TrialFailed("The board does not report its moves: write the machine file to it first.")
        return await to_the_end(self._connection, method, **params)

    def inputs(self) -> Mapping[str, InputState]:
        """The latest state of every input."""
        return inputs_of(self._connection)

    async def rest(self, seconds: float) -> None:
        """Wait until the board's clock has gone on by so much."""
        end = self._connection.board_time + seconds
        while self._connection.board_time < end:
            if not self._connection.linked:
                raise TrialFailed(self._connection.why)
            await asyncio.sleep(0.02)

    async def samples(self, heater: str) -> AsyncIterator[HeatSample]:
        """Samples of a heater, each once."""
        about = self._connection.about
        if about is None:
            raise TrialFailed(self._connection.why)
        sensor = self.machine.heaters[heater].sensor
        fan = next((name for name, part in self.machine.fans.items() if part.role == "part"), None)
        names = [f"sensors.{sensor}", f"heaters.{heater}.duty", f"heaters.{heater}.target_c"]
        names += [f"fans.{fan}"] if fan else []
        missing = [name for name in names if name not in about.channels]
        if missing:
            raise TrialFailed(f"The board does not report {', '.join(missing)}: its image is of another machine file.")
        at = [2 + about.channels.index(name) for name in names]
        queue: asyncio.Queue[list[Sample]] = asyncio.Queue()
        unread = 0
        self._connection.sampled.append(queue.put_nowait)
        try:
            while True:
                for sample in await queue.get():
                    celsius = sample[at[0]]
                    unread = unread + 1 if celsius is None else 0
                    if unread > UNREAD_SAMPLES:
                        raise TrialFailed(
                            f"The {sensor} sensor stopped reading: check its plug and cable, then try again."
                        )
                    if celsius is None:
                        continue
                    wind = sample[at[3]] if fan else 0.0
                    yield HeatSample(sample[1] or 0.0, celsius, sample[at[1]] or 0.0, wind or 0.0, sample[at[2]])
        finally:
            self._connection.sampled.remove(queue.put_nowait)

    @asynccontextmanager
    async def borrowed(self, values: Mapping[str, Value]) -> AsyncIterator[None]:
        """Other live settings for a while."""
        former = {path: self.setting(path) for path in values}
        ours = [path for path in values if path not in self._lent]
        self._lent.update({path: former[path] for path in ours})
        try:
            await self._connection.write_live(values)
            yield
        finally:
            await self._connection.write_live(former)
            for path in ours:
                self._lent.pop(path, None)

    async def ask(self, question: Question) -> str:
        """Ask the builder."""
        return await self._watcher.answer(question)

    @asynccontextmanager
    async def by_hand(self, do: Question, undo: Question) -> AsyncIterator[str]:
        """Something that hands do and undo; what cuts it off leaves it among ``owed``."""
        self.owed.append(undo)
        answer = await self.ask(do)
        if answer != do.answers[0]:
            self.owed.remove(undo)
        yield answer
        if undo in self.owed:
            await self.ask(undo)
            self.owed.remove(undo)

    async def undo(self, question: Question) -> bool:
        """Let it be undone without asking, where the watcher can."""
        return await self._watcher.undo(question)

    async def measure(self, question: Question) -> float:
        """Ask the builder for a reading."""
        return parse(await self._watcher.answer(question), question.unit)

    def progress(self, progress: Progress) -> None:
        """Pass on where the trial is."""
        self._watcher.progress(progress)

    def show(self, series: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        """Pass on a row of raw data."""
        self._watcher.row(series, columns, row)

    async def compute(self, function: Callable[..., T], *arguments: Any) -> T:
        """Run a long computation."""
        if self._threaded:
            return await asyncio.to_thread(function, *arguments)
        return function(*arguments)


def inputs_of(connection: Connection) -> dict[str, InputState]:
    """The latest state of every input that the board reports."""
    about = connection.about
    if about is None or not connection.samples:
        return {}
    latest = connection.samples[-1]
    values = dict(zip(about.channels, latest[2:], strict=False))
    names = [name.removeprefix("inputs.") for name in values if name.startswith("inputs.")]
    return {name: InputState(bool(values[f"inputs.{name}"]), int(values[f"edges.{name}"] or 0)) for name in names}
