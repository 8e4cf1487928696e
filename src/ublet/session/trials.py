"""Trials run on an open machine: recorded from before anything moves, gone on with, and their proposals vetted."""

from __future__ import annotations

import asyncio
import contextlib
import copy
import hashlib
import logging
import shutil
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ublet.core.capabilities import lacking_words
from ublet.core.evidence import Dependency
from ublet.core.facts import FACTS, Fact
from ublet.core.machine.check import check_tree, parse_toml
from ublet.core.machine.compare import same
from ublet.core.machine.lines import key_lines
from ublet.core.machine.problem import KeyLines
from ublet.core.motion.homing_trials import HOME
from ublet.core.remedies import WRITE
from ublet.core.remedy import ByHand, StartAgain
from ublet.core.run import Checkpoint, Option, TrialResult
from ublet.core.settings import Part, Value, frozen, thawed
from ublet.core.trial import TrialSpec
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Opening, RunEntry
from ublet.ledger.errors import LedgerError
from ublet.ledger.recording import Recorded
from ublet.session.bench.bench import LinkBench
from ublet.session.bench.lift_proof import LiftProof
from ublet.session.bench.watcher import Watcher
from ublet.session.connection import Connection
from ublet.session.document import Document
from ublet.session.loans import Loans
from ublet.session.presence import Presence
from ublet.session.runner import Ran, Runner
from ublet.session.saving import now
from ublet.session.soaking import SoakWatch

STARTED_WITHOUT = "started_without"
"""The condition of a run that was started though something that it stands on did not hold."""

LEFT_OUT = "left_out"
"""The condition of a run in which the builder knowingly skipped something."""


def vetted(result: TrialResult, document: Document) -> TrialResult:
    """The same result without the options that the machine file could not take; what was taken out is said."""
    reasons = _contradictions(result.options, document)
    if not reasons:
        return result
    complaint = " ".join(
        f"What it would propose ({name}) contradicts the machine file and is left out: {reason}"
        for name, reason in reasons.items()
    )
    return replace(
        result,
        why=f"{result.why} {complaint}",
        options=tuple(option for option in result.options if option.name not in reasons),
        recommended="" if result.recommended in reasons else result.recommended,
    )


def _contradictions(options: tuple[Option, ...], document: Document) -> dict[str, str]:
    """The first error that a good machine file would get by keeping and saving an option, for those that have one.

    Warnings may be what a trial found out: steps far from their geometry say that a part is not the declared one.
    """
    reasons: dict[str, str] = {}
    read: tuple[dict[str, Any], KeyLines] | None = None
    for option in options:
        wanted = {p.setting: p.after for p in option.proposals if p.after is not None}
        values = {path: after for path, after in wanted.items() if document.value(path) != after}
        if not values:
            continue
        if read is None:
            read = parse_toml(document.text)[0], key_lines(document.text)
        after = check_tree(_with(read[0], values), read[1], document.boards)
        if after.errors:
            reasons[option.name] = after.errors[0].sentence(document.path.name)
    return reasons


def _with(tree: dict[str, Any], values: Mapping[str, Value]) -> dict[str, Any]:
    """What a file would say with some settings changed; tables are made where they are missing."""
    changed = copy.deepcopy(tree)
    for path, value in values.items():
        *parts, key = path.split(".")
        table = changed
        for part in parts:
            table = table.setdefault(part, {})
        before = table.get(key)
        whole = isinstance(before, int) and isinstance(value, float) and value.is_integer()
        table[key] = int(value) if whole and isinstance(value, float) else thawed(value)
    return changed


ROOM_FOR_A_RUN = 20_000_000
"""Free space that a trial's record may need, bytes."""

WRITTEN_S = 3.0
"""Longest wait until the end of a run is in the file, s."""

log = logging.getLogger(__name__)

CLOSED = "Cut off: the program was closed. What it had recorded is kept."


@dataclass(frozen=True)
class EnteredRun:
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
    rests: tuple[Dependency, ...]


class Trials:
    """Runs trials on the board of an open machine.

    settled: waits until what an earlier link left has been settled. threaded: long computations and the wait for the
    ledger's file go beside the event loop; a virtual clock must not wait for threads.
    """

    def __init__(
        self,
        document: Document,
        connection: Connection,
        ledger: Ledger,
        runner: Runner,
        presence: Presence,
        loans: Loans,
        kept: Mapping[str, Value],
        soaking: SoakWatch,
        settled: Callable[[], Awaitable[None]],
        threaded: bool,
    ) -> None:
        self._document, self._connection, self._ledger, self._runner = document, connection, ledger, runner
        self._presence, self._loans, self._kept = presence, loans, kept
        self._soaking, self._settled = soaking, settled
        self._threaded = threaded
        self._lifts = LiftProof(connection, self.proven)

    async def run(
        self, spec: TrialSpec, parameters: Part, watcher: Watcher, go_on: bool = False, knowingly: str = ""
    ) -> EnteredRun:
        """Run a trial and enter it in the ledger, whatever its outcome."""
        if (refused := self._runner.refusal()) is not None:
            return EnteredRun(refused, None)
        if (short := self._no_room()) is not None:
            make_room = ByHand("make room on the disk")
            return EnteredRun(Ran(TrialResult("halted", short, remedies=(make_room,)), 0.0), None)
        if lacking := lacking_words(spec.uses(self._document.machine), self._connection.can):
            return EnteredRun(Ran(TrialResult("failed", f"Not started: {lacking}.", remedies=(WRITE,)), 0.0), None)
        await self._settled()
        await self._connection.first_readings()
        before = self.resumable(spec, parameters) if go_on else None
        if go_on and before is None:
            why = "Not started: there is no run of it that stopped half way in the state that everything is in now."
            return EnteredRun(Ran(TrialResult("halted", why, remedies=(StartAgain("from its beginning"),)), 0.0), None)
        try:
            recorded = self._ledger.open_run(self._opening(spec, parameters, before, knowingly))
        except LedgerError as error:
            later = StartAgain("when the ledger can be written")
            return EnteredRun(Ran(TrialResult("halted", f"Not started: {error}", remedies=(later,)), 0.0), None)
        bench = self._bench(spec, watcher, recorded, before)
        bench.note_facts(parameters)
        log.info("run %s: %s begins", recorded.number, spec.name)
        try:
            ran = await self._runner.run(spec, parameters, bench)
        except asyncio.CancelledError:
            closed = TrialResult("halted", CLOSED, remedies=(StartAgain(),))
            recorded.end(closed, 0.0, bench.rests, whole=False)
            raise
        bench.note_facts(parameters)
        ran = replace(ran, result=vetted(ran.result, self._document))
        if notes := {key: words for key, words in ((STARTED_WITHOUT, knowingly), (LEFT_OUT, bench.left_out)) if words}:
            noted = {**ran.result.conditions, **notes}
            ran = replace(ran, result=replace(ran.result, conditions=noted))
        entry = recorded.end(ran.result, ran.duration_s, bench.rests, ran.whole)
        ran = replace(ran, result=entry.result)  # with what it had found before it was cut off
        log.info("run %s: %s %s: %s", recorded.number, spec.name, ran.result.outcome, ran.result.why)
        return EnteredRun(ran, recorded.number, await self._written(recorded))

    async def _written(self, recorded: Recorded) -> str:
        """Wait a moment until a run is in the file; returns why it is not yet (empty: it is)."""
        if self._threaded:
            return await asyncio.to_thread(self._ledger.entered, recorded, WRITTEN_S)
        return self._ledger.entered(recorded)

    async def home(self, watcher: Watcher) -> Ran:
        """Home every axis once, guarded as a trial is; nothing is entered in the ledger."""
        return await self._runner.run(HOME, Part(), self._bench(HOME, watcher, None, None))

    def resumable(self, spec: TrialSpec, parameters: Part) -> Resumable | None:
        """The newest run of a trial with these parameters, if it stopped half way at a checkpoint and nothing has
        changed since it began: no setting of the board, no fact, and nothing else that it rests on.
        """
        values = parameters.model_dump()
        entry = self._ledger.latest(spec.name, subject=spec.subject(values))
        if entry is None or entry.running or entry.result.outcome == "proven" or dict(entry.parameters) != values:
            return None
        checkpoint = self._ledger.checkpoint(entry.id)
        if checkpoint is None:
            return None  # it came to its end, or had not come far enough
        began = self._ledger.opening(entry.id)
        live = {path: frozen(value) for path, value in began.get("live", {}).items()}
        layers = self._connection.layers
        if set(live) != set(layers) or any(not same(live[path], layer.live) for path, layer in layers.items()):
            return None
        if [fact["id"] for fact in began.get("facts", [])] != [fact.id for fact in self._ledger.facts_in_force()]:
            return None
        if self._presence.reasons(entry.rests):
            return None  # something else moved that it rests on: a part, a place, a value of the machine file
        return Resumable(entry.id, checkpoint, entry.rests)

    def _opening(self, spec: TrialSpec, parameters: Part, before: Resumable | None, knowingly: str) -> Opening:
        values = parameters.model_dump()
        about = self._connection.about
        return Opening(
            now(),
            spec.name,
            spec.station,
            values,
            spec.subject(values),
            hashlib.sha256(self._document.text.encode()).hexdigest(),
            about.board if about is not None else "",
            {path: layer.live for path, layer in self._connection.layers.items()},
            tuple(self._ledger.facts_in_force()),
            self._connection.first_c,
            self._soaking.held_s(),
            before.run if before is not None else None,
            knowingly,
        )

    def _bench(
        self, spec: TrialSpec, watcher: Watcher, recorded: Recorded | None, before: Resumable | None
    ) -> LinkBench:
        return LinkBench(
            spec,
            self._document.machine,
            self._document.values,
            self._connection,
            watcher,
            self.proven,
            self._ledger.fact,
            self._threaded,
            self._loans,
            self._kept,
            self._document.board.steps_per_s,
            self._lifts,
            recorded,
            before.checkpoint if before is not None else None,
            before.rests if before is not None else (),
            self._report_fact,
            self._soaking.held_s,
        )

    def _report_fact(self, kind: str, subject: str) -> None:
        """The builder did something at the machine for a trial: it is a fact like those that are reported by hand."""
        self._ledger.report_fact(Fact(kind, subject, FACTS[kind].said, now()))

    def proven(self, trial: str, subject: dict[str, str]) -> RunEntry | None:
        """The last proven run of a trial, of one subject when asked for."""
        return self._ledger.latest(trial, "proven", subject or None)

    def _no_room(self) -> str | None:
        """Why a trial is not begun for lack of room for its record; None: there is enough."""
        folder = self._document.path.resolve().parent
        with contextlib.suppress(OSError):
            free = shutil.disk_usage(folder).free
            if free < ROOM_FOR_A_RUN:
                return (
                    f"Not started: only {free / 1e6:.1f} MB are free in {folder}, and the record of a trial needs up "
                    f"to {ROOM_FOR_A_RUN / 1e6:.0f}: make room first."
                )
        return None
