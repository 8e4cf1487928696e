"""Motors, axes, switches and the probe's pin of the linked board."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager

from ublet.core.bench import InputState, Running
from ublet.core.motion.program import Lift, Program, Timetable
from ublet.core.remedies import WRITE
from ublet.core.remedy import GoTo
from ublet.core.run import TrialFailed
from ublet.session.bench.lift_proof import LiftProof
from ublet.session.bench.resting import Resting
from ublet.session.connection import Connection
from ublet.session.jogging import go, one_segment, push, to_the_end, touch
from ublet.session.programs import ProgramRun, park_of, planned

PARKS_S = 60.0
"""A program that was ended has parked within this, s."""

CLEAR_MM_S, UNKNOWN_LIFT_MM, NO_MM = 5.0, 5.0, 0.01
"""At the end Z is raised so fast; by so much at the most where nobody knows how high it stands; less is nothing."""


class LinkMotion:
    """A :class:`ublet.core.bench.Motion` over a connection. steps_per_s: the most that the board makes on one motor."""

    def __init__(self, connection: Connection, resting: Resting, steps_per_s: float, lifts: LiftProof) -> None:
        self._connection = connection
        self._resting = resting
        self._lifts = lifts
        self._steps_per_s = steps_per_s
        self._clear_mm = 0.0

    def lifts_proven(self) -> bool:
        """Whether every lift is known to go the right way."""
        return self._lifts.holds()

    def prove_lifts(self) -> None:
        """They were seen to."""
        self._lifts.note()

    def timetable(self, program: Program) -> Timetable:
        """The program as the board will run it from where it stands."""
        try:
            return planned(self._connection, program, self._steps_per_s)
        except KeyError as missing:
            raise TrialFailed(
                f"{str(missing.args[0]).upper()} does not know where it stands: home it first.",
                GoTo("homing", "every axis finds its end"),
            ) from missing

    @asynccontextmanager
    async def run(self, table: Timetable) -> AsyncIterator[Running]:
        """Run a program beside the block."""
        for axis in table.program.axes:
            self._resting.way(axis)
            self._resting.length(axis)
        if table.program.pushes:
            self._resting.filament()
        run = ProgramRun(self._connection, table, park_of(self._connection) if table.program.pushes else None)
        going = asyncio.get_running_loop().create_task(run.run())
        try:
            yield run
        finally:
            if not going.done() and self._connection.linked:
                await run.stop()
            await going

    async def turn(self, motor: str, mm: float, speed_mm_s: float) -> None:
        """Turn one motor by itself, and wait until it stands."""
        self._resting.motor(motor if motor.startswith("extruder.") else f"axes.{motor}")
        await to_the_end(self._connection, await self._connection.controller.turn(motor, mm, speed_mm_s))

    async def move(self, axis: str, mm: float, speed_mm_s: float) -> float:
        """Move an axis by so much, and wait until it stands; returns the speed that the board allowed."""
        self._resting.way(axis)
        reply = await self._connection.controller.move(axis, mm, speed_mm_s)
        await to_the_end(self._connection, reply)
        return reply.speed_mm_s

    async def go(self, at: Mapping[str, float], mm_s: float) -> float:
        """Move axes together to a place, and wait until they stand; returns the speed that the board allowed."""
        for axis in at:
            self._resting.way(axis)
            self._resting.length(axis)
        return await go(self._connection, at, mm_s)

    async def push(self, mm: float, mm_s: float) -> float:
        """Push filament, and wait until it stands; returns the speed that the board allowed."""
        self._resting.filament()
        return await push(self._connection, mm, mm_s)

    async def lift(self, motors: Mapping[str, float], mm_s: float) -> None:
        """Turn single motors together, and wait until they stand."""
        for root in motors:
            self._resting.motor(root)
        await one_segment(self._connection, Lift(motors, mm_s))

    def clear_at_the_end(self, mm: float) -> None:
        """Whatever ends the trial, Z is raised to at least so much."""
        self._clear_mm = max(self._clear_mm, mm)

    async def clear(self) -> None:
        """Raise Z as was asked for at the end. One that does not know where it stands goes up by so much."""
        connection = self._connection
        if not self._clear_mm or not connection.linked or connection.state.mode != "ready":
            return
        await self._standing()
        here = connection.channel("axes.z.mm")
        by = self._clear_mm - here if here is not None else min(self._clear_mm, UNKNOWN_LIFT_MM)
        if by > NO_MM:
            await to_the_end(connection, await connection.controller.move("z", by, CLEAR_MM_S))

    async def _standing(self) -> None:
        """Wait until a program that was ended has parked."""
        until = self._connection.board_time + PARKS_S
        while self._connection.channel("motion.moving") and self._connection.linked:
            if self._connection.board_time > until:
                return
            await self._connection.next_samples()

    async def home(self, axis: str) -> tuple[str, float | None]:
        """Home an axis and wait for its end."""
        self._resting.end(axis)
        await to_the_end(self._connection, await self._connection.controller.home(axis))
        status = (await self._connection.controller.axes()).get(axis)
        if status is None:
            raise TrialFailed(
                f"The board says nothing of the axis {axis.upper()}: write the machine file to it first.", WRITE
            )
        return status.why, status.shift_mm

    def position(self, axis: str) -> float | None:
        """Where an axis stands."""
        self._resting.length(axis)
        return self._connection.channel(f"axes.{axis}.mm")


class LinkProbe:
    """A :class:`ublet.core.bench.Probe` over a connection."""

    def __init__(self, connection: Connection, resting: Resting) -> None:
        self._connection = connection
        self._resting = resting
        self._pin_down = False

    def inputs(self) -> Mapping[str, InputState]:
        """The latest state of every input."""
        levels = inputs_of(self._connection)
        for name in levels:
            self._resting.switch(name)
        return levels

    async def pin(self, deployed: bool) -> None:
        """Deploy or stow the probe's pin."""
        self._resting.switch("probe")
        self._pin_down = self._pin_down or deployed
        await self._connection.controller.pin(deployed)
        self._pin_down = deployed

    async def touch(self, floor_mm: float, mm_s: float) -> float | None:
        """Z comes down until the probe triggers; where that was, mm."""
        self._resting.touch()
        return await touch(self._connection, floor_mm, mm_s)

    async def stow(self) -> None:
        """Stow the pin if the trial left it down."""
        if self._pin_down and self._connection.linked and self._connection.state.mode == "ready":
            await self.pin(False)


def inputs_of(connection: Connection) -> dict[str, InputState]:
    """The latest state of every input that the board reports."""
    about = connection.about
    if about is None or not connection.samples:
        return {}
    latest = connection.samples[-1]
    values = dict(zip(about.channels, latest[2:], strict=False))
    names = [name.removeprefix("inputs.") for name in values if name.startswith("inputs.")]
    return {name: InputState(bool(values[f"inputs.{name}"]), int(values[f"edges.{name}"] or 0)) for name in names}
