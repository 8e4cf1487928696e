"""The bench over a link, composed of its facets."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from functools import partial
from typing import Any, TypeVar

from ublet.core.evidence import Dependency
from ublet.core.machine.schema import MachineFile
from ublet.core.questions import Question
from ublet.core.run import Checkpoint, Progress
from ublet.core.settings import Part, Value
from ublet.core.trial import TrialSpec
from ublet.core.words import several
from ublet.ledger.recording import Recorded
from ublet.session.bench.board import LinkClock, LinkGuards, LinkPrints, LinkSettings
from ublet.session.bench.builder import LinkBuilder, hot_now
from ublet.session.bench.heat import LinkHeat
from ublet.session.bench.lift_proof import LiftProof
from ublet.session.bench.motion import LinkMotion, LinkProbe
from ublet.session.bench.record import Earlier, LinkRecord
from ublet.session.bench.resting import FactOf, Resting
from ublet.session.bench.streams import LinkStreams
from ublet.session.bench.watcher import Watcher
from ublet.session.connection import Connection
from ublet.session.loans import Loans

T = TypeVar("T")


class LinkBench:
    """A :class:`ublet.core.bench.Bench` over a connection.

    ``threaded`` runs long computations beside the event loop; a virtual clock must not wait for threads and runs them
    in place. ``loans``: what is borrowed from the board. ``kept``: what was kept and no board holds. ``steps_per_s``:
    the most that the board makes on one motor. ``recorded``: the open run; None for what is not entered in the
    ledger. ``rested``: what the run rests on that this one goes on from. ``report_fact``: enters a fact.
    """

    def __init__(
        self,
        spec: TrialSpec,
        machine: MachineFile,
        written: Mapping[str, Value],
        connection: Connection,
        watcher: Watcher,
        earlier: Earlier,
        fact_of: FactOf,
        threaded: bool,
        loans: Loans,
        kept: Mapping[str, Value],
        steps_per_s: float,
        lifts: LiftProof,
        recorded: Recorded | None = None,
        going_on: Checkpoint | None = None,
        rested: tuple[Dependency, ...] = (),
        report_fact: Callable[[str, str], None] = lambda kind, subject: None,
        held: Callable[[], Mapping[str, float]] = dict,
    ) -> None:
        self._resting = Resting(machine, {**written, **kept}, connection, loans, kept, fact_of)
        self._resting.trace.take(rested)
        self._spec = spec
        self._watcher = watcher
        self._threaded = threaded
        self._recorded = recorded
        self._report_fact = report_fact
        self.machine = self._resting.machine
        self.settings = LinkSettings(connection, self._resting, loans)
        self.heat = LinkHeat(connection, self._resting, held)
        self.motion = LinkMotion(connection, self._resting, steps_per_s, lifts)
        self.probe = LinkProbe(connection, self._resting)
        self.streams = LinkStreams(connection)
        self.guards = LinkGuards(connection)
        self.prints = LinkPrints(connection, self._resting, steps_per_s, self.compute)
        self.clock = LinkClock(connection)
        self.builder = LinkBuilder(watcher, self.motion, self.clock, recorded, partial(hot_now, machine, connection))
        self.record = LinkRecord(spec, watcher, recorded, self._resting.trace, earlier, going_on)

    @property
    def rests(self) -> tuple[Dependency, ...]:
        """What the run rests on so far."""
        return self._resting.trace.rests

    def note_facts(self, parameters: Part) -> None:
        """Note the facts that the trial declares: before it begins, and those that it changed again at its end."""
        for kind, subject in self._spec.facts(self.machine, parameters):
            self._resting.fact(kind, subject)

    def report_fact(self, kind: str, subject: str = "") -> None:
        """The builder did this for the trial."""
        self._report_fact(kind, subject)
        self._resting.reported(kind, subject)

    def aside(self) -> AbstractContextManager[None]:
        """What is read in this block is not rested on."""
        return self._resting.trace.aside()

    def progress(self, progress: Progress) -> None:
        """Pass on where the trial is."""
        self._watcher.progress(progress)
        if self._recorded is not None:
            self._recorded.phase(self.clock.now_s(), progress)

    async def compute(self, function: Callable[..., T], *arguments: Any) -> T:
        """Run a long computation."""
        if self._threaded:
            return await asyncio.to_thread(function, *arguments)
        return function(*arguments)

    @property
    def left_out(self) -> str:
        """What the builder left out knowingly, in words; empty: nothing."""
        return several(self.record.left_out)

    # what the runner sees to

    @property
    def owed(self) -> list[Question]:
        """What hands still have to undo."""
        return self.builder.owed

    async def undo(self, question: Question) -> bool:
        """Let it be undone without asking, where the watcher can."""
        return await self._watcher.undo(question)

    async def stow(self) -> None:
        """Raise Z as the trial asked for, and stow the probe's pin if it was left down."""
        await self.motion.clear()
        await self.probe.stow()
