"""Trials run on an open machine: recorded from before anything moves, and gone on with where they were cut off."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import shutil
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from ublet.core.capabilities import lacking_words
from ublet.core.evidence import Rest
from ublet.core.facts import FACTS, Fact
from ublet.core.machine.compare import same
from ublet.core.motion.homing_trials import HOME
from ublet.core.run import Checkpoint, TrialResult
from ublet.core.settings import Part, frozen
from ublet.core.trial import TrialSpec
from ublet.ledger.entries import Opening, RunEntry
from ublet.ledger.errors import LedgerError
from ublet.ledger.recording import Recorded
from ublet.session.bench.bench import LinkBench
from ublet.session.bench.lift_proof import LiftProof
from ublet.session.bench.watcher import Watcher
from ublet.session.runner import Ran
from ublet.session.saving import now
from ublet.session.vetting import vetted

if TYPE_CHECKING:
    from ublet.session.session import Session

ROOM_FOR_A_RUN = 20_000_000
"""Free space that a trial's record may need, bytes."""

WRITTEN_S = 3.0
"""So long the end of a run is waited for until it is in the file, s."""

CLOSED = "Cut off: the program was closed. What it had recorded is kept."


@dataclass(frozen=True)
class Entered:
    """A trial that was run and entered in the ledger (number None: it was not begun); note: why it is not in the file
    yet, and only in memory.
    """

    ran: Ran
    number: int | None
    note: str = ""


@dataclass(frozen=True)
class Resumable:
    """A run that stopped at a checkpoint and can be gone on with."""

    run: int
    checkpoint: Checkpoint
    rests: tuple[Rest, ...]


class Trials:
    """Runs trials on a session's board."""

    def __init__(self, session: Session, threaded: bool) -> None:
        self._session = session
        self._threaded = threaded
        self._lifts = LiftProof(session.connection, self.proven)

    async def run(self, spec: TrialSpec, parameters: Part, watcher: Watcher, go_on: bool = False) -> Entered:
        """Run a trial and enter it in the ledger, whatever its outcome."""
        session = self._session
        if (refused := session.runner.refusal()) is not None:
            return Entered(refused, None)
        if (short := self._no_room()) is not None:
            return Entered(Ran(TrialResult("halted", short), 0.0), None)
        if lacking := lacking_words(spec.uses(session.document.machine), session.connection.can):
            return Entered(Ran(TrialResult("failed", f"Not started: {lacking}."), 0.0), None)
        await session.settled()
        await session.connection.first_readings()
        before = self.resumable(spec, parameters) if go_on else None
        if go_on and before is None:
            why = "Not started: there is no run of it that stopped half way in the state that everything is in now."
            return Entered(Ran(TrialResult("halted", why), 0.0), None)
        try:
            recorded = session.ledger.open_run(self._opening(spec, parameters, before))
        except LedgerError as error:
            return Entered(Ran(TrialResult("halted", f"Not started: {error}"), 0.0), None)
        bench = self._bench(spec, watcher, recorded, before)
        try:
            ran = await session.runner.run(spec, parameters, bench)
        except asyncio.CancelledError:
            recorded.end(TrialResult("halted", CLOSED), 0.0, bench.rests, whole=False)
            raise
        ran = replace(ran, result=vetted(ran.result, session.document))
        entry = recorded.end(ran.result, ran.duration_s, bench.rests, ran.whole)
        ran = replace(ran, result=entry.result)  # with what it had found before it was cut off
        return Entered(ran, recorded.number, await self._written(recorded))

    async def _written(self, recorded: Recorded) -> str:
        """Wait a moment until a run is in the file; returns why it is not yet (empty: it is)."""
        ledger = self._session.ledger
        if self._threaded:
            return await asyncio.to_thread(ledger.entered, recorded, WRITTEN_S)
        return ledger.entered(recorded)

    async def home(self, watcher: Watcher) -> Ran:
        """Home every axis once, guarded as a trial is; nothing is entered in the ledger."""
        return await self._session.runner.run(HOME, Part(), self._bench(HOME, watcher, None, None))

    def resumable(self, spec: TrialSpec, parameters: Part) -> Resumable | None:
        """The newest run of a trial with these parameters, if it stopped half way at a checkpoint and nothing has
        changed since it began: no setting of the board, no fact, and nothing else that it rests on.
        """
        session, values = self._session, parameters.model_dump()
        entry = session.ledger.latest(spec.name, subject=spec.subject(values))
        if entry is None or entry.running or entry.result.outcome == "proven" or dict(entry.parameters) != values:
            return None
        checkpoint = session.ledger.checkpoint(entry.id)
        if checkpoint is None:
            return None  # it came to its end, or had not come far enough
        began = session.ledger.opening(entry.id)
        live = {path: frozen(value) for path, value in began.get("live", {}).items()}
        layers = session.connection.layers
        if set(live) != set(layers) or any(not same(live[path], each.live) for path, each in layers.items()):
            return None
        if [fact["id"] for fact in began.get("facts", [])] != [fact.id for fact in session.ledger.facts_in_force()]:
            return None
        if session.presence.reasons(entry.rests):
            return None  # something else moved that it rests on: a part, a place, a value of the machine file
        return Resumable(entry.id, checkpoint, entry.rests)

    def _opening(self, spec: TrialSpec, parameters: Part, before: Resumable | None) -> Opening:
        session, values = self._session, parameters.model_dump()
        about = session.connection.about
        return Opening(
            now(),
            spec.name,
            spec.station,
            values,
            spec.subject(values),
            hashlib.sha256(session.document.text.encode()).hexdigest(),
            about.board if about is not None else "",
            {path: each.live for path, each in session.connection.layers.items()},
            tuple(session.ledger.facts_in_force()),
            session.connection.first_c,
            session.soaking.held_s(),
            before.run if before is not None else None,
        )

    def _bench(
        self, spec: TrialSpec, watcher: Watcher, recorded: Recorded | None, before: Resumable | None
    ) -> LinkBench:
        session = self._session
        return LinkBench(
            spec,
            session.document.machine,
            session.document.values,
            session.connection,
            watcher,
            self.proven,
            session.ledger.fact,
            self._threaded,
            session.loans,
            session.document.board.steps_per_s,
            self._lifts,
            recorded,
            before.checkpoint if before is not None else None,
            before.rests if before is not None else (),
            self._tell,
        )

    def _tell(self, kind: str, subject: str) -> None:
        """The builder did something at the machine for a trial: it is a fact like those that are told by hand."""
        self._session.ledger.tell(Fact(kind, subject, FACTS[kind].said, now()))

    def proven(self, trial: str, subject: dict[str, str]) -> RunEntry | None:
        """The last proven run of a trial, of one subject when asked for."""
        return self._session.ledger.latest(trial, "proven", subject or None)

    def _no_room(self) -> str | None:
        """Why a trial is not begun for lack of room for its record; None: there is enough."""
        folder = self._session.document.path.resolve().parent
        with contextlib.suppress(OSError):
            free = shutil.disk_usage(folder).free
            if free < ROOM_FOR_A_RUN:
                return (
                    f"Not started: only {free / 1e6:.1f} MB are free in {folder}, and the record of a trial needs up "
                    f"to {ROOM_FOR_A_RUN / 1e6:.0f}: make room first."
                )
        return None
