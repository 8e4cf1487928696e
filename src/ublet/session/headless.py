"""Headless runs: a trial on a real port, or on a simulated board inside this process on a virtual clock."""

from __future__ import annotations

import asyncio
import contextlib
import shutil
import tempfile
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import AsyncExitStack, asynccontextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from ublet.core.dialect.language import Language
from ublet.core.questions import Question
from ublet.core.run import Progress
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.firmware.clock import keep_time, run_virtually
from ublet.firmware.service import SLOWEST_STATE_S, STATE_PERIOD_S, Service
from ublet.ledger.errors import NotEntered
from ublet.link.baud import PortOpener
from ublet.link.controller import UploadProgress
from ublet.link.transport import MemoryTransport, Transport, memory_pair
from ublet.session.answers import Answering, Nobody
from ublet.session.chain import chain, unmet_words
from ublet.session.document import Document
from ublet.session.interrupts import until_interrupted
from ublet.session.layers import Settling
from ublet.session.logbook import log_changes
from ublet.session.orders import Order, OrderError
from ublet.session.report import run_json
from ublet.session.saving import LinkGone, SaveFailed
from ublet.session.session import Session
from ublet.simulated import SimulatedMachine
from ublet.world.builder import ScriptedBuilder
from ublet.world.level_truth import truth_at_end
from ublet.world.scenario import load_scenario
from ublet.world.truth import truth_of

ANSWERS_AFTER_S = 0.5
"""The scripted builder answers after this, s, where a board is read by asking."""


@dataclass(frozen=True)
class Done:
    """The trial's JSON and the outcome that decides the exit code; lost when the link went."""

    report: dict[str, Any]
    outcome: str
    lost: bool


TruthOf = Callable[[TrialSpec, Part], dict[str, float]]
"""The truth behind a trial's findings, by their ids, as things are when it has ended."""


class Looking:
    """Looks on at a headless run: passes progress on, and has questions answered. truth, simulated: only in a
    scenario. answers_after_s: how long an answer takes.
    """

    def __init__(
        self,
        answering: Answering,
        on_progress: Callable[[Progress], None],
        truth: TruthOf | None = None,
        simulated: SimulatedMachine | None = None,
        answers_after_s: float = 0.0,
    ) -> None:
        self.simulated = simulated
        self._answers_after_s = answers_after_s
        self._answering = answering
        self._on_progress = on_progress
        self._truth = truth

    def truth(self, spec: TrialSpec, parameters: Part) -> dict[str, float]:
        """What is known of the truth behind a trial that has just ended, whether it found it or not."""
        return self._truth(spec, parameters) if self._truth is not None else {}

    def with_truth(self, report: dict[str, Any], spec: TrialSpec, parameters: Part) -> dict[str, Any]:
        """A report with the truth of every finding that has one."""
        return with_truth(report, self._truth(spec, parameters)) if self._truth is not None else report

    async def answer(self, question: Question) -> str:
        if self._answers_after_s:
            await asyncio.sleep(self._answers_after_s)
        return await self._answering.answer(question)

    async def undo(self, question: Question) -> bool:
        return await self._answering.undo(question)

    def progress(self, progress: Progress) -> None:
        self._on_progress(progress)

    def row(self, stream: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        """Nobody draws here; the ledger keeps the record."""


async def execute(order: Order, session: Session, watcher: Looking) -> Done:
    """Run, and as asked keep, verify and save; a failed check is not saved."""
    missing = unmet_words(chain(session, order.spec, order.parameters))
    entered = await session.run(order.spec, order.parameters, watcher, order.go_on, missing)
    ran = entered.ran
    report = watcher.with_truth(run_json(session, order.spec, entered), order.spec, order.parameters)
    outcome, lost = ran.result.outcome, ran.lost
    best = ran.result.choice
    if entered.note:
        report["note"] = entered.note
    if order.keep and (outcome == "proven" or order.spec.mends) and best is not None and best.proposals:
        with contextlib.suppress(NotEntered):  # it is live; the ledger has it later
            await session.keep(best, entered.number)
        report["kept"] = True
        if order.verify is not None and order.verify_parameters is not None:
            again = await session.run(order.verify, order.verify_parameters, watcher)
            checked = again.ran
            verified = run_json(session, order.verify, again)
            report["verify"] = watcher.with_truth(verified, order.verify, order.verify_parameters)
            outcome, lost = checked.result.outcome, checked.lost
            if order.spec.mends and outcome == "proven":
                report["why"] = f"{report['why']} After the mend: {checked.result.why}"
            elif outcome != "proven":
                report["why"] = f"{report['why']}; but the check says: {checked.result.why}"
            report["outcome"] = outcome
    if order.save and outcome == "proven":
        ours = {p.setting for p in best.proposals} if report.get("kept") and best is not None else set()
        try:
            report["saved"] = await session.save(ours)
        except SaveFailed as error:
            report["saved"], report["why"], report["outcome"] = 0, str(error), "failed"
            outcome, lost = "failed", isinstance(error, LinkGone)
    return Done(report, outcome, lost)


async def run_on_port(
    order: Order,
    machine: Path,
    port: str,
    on_progress: Callable[[Progress], None],
    answering: Answering,
    same: bool = False,
    language: Language | None = None,
    watched: bool = False,
) -> Done:
    """Run on a board at a port. ``same``: the builder says that a board under another name is this machine's;
    ``watched``: that somebody stays at a board that does not switch off by itself.

    Raises:
        DocumentError, LedgerError, PortError, LinkLost, BoardRefused. OrderError: it asks, and nobody can answer.
        NotOurs: it is another machine's board. Interrupted: by a signal; it says what is known of the heaters.
    """
    if isinstance(answering, Nobody) and (asking := order.asks()):
        raise OrderError(
            f"{asking.name} asks the builder at the machine: run it on a terminal, or give --answers FILE. Nothing was "
            "moved or heated."
        )
    baud = Document(machine).machine.board.baud

    session = Session(machine, PortOpener(port, lambda: baud), language=language)
    log_changes(session.connection)

    async def work() -> Done:
        session.silence.watched = watched
        await session.connection.connect()
        if same:
            session.say_same_machine()
        session.must_be_ours()
        await session.settle()
        return await execute(order, session, Looking(answering, on_progress))

    return await until_interrupted(work(), session.close)


def with_truth(report: dict[str, Any], truths: Mapping[str, float]) -> dict[str, Any]:
    """A report with the truths of its findings."""
    ids = {finding["id"] for finding in report["findings"]}
    report["truth"] = {id: value for id, value in truths.items() if id in ids}
    return report


def run_on_scenario(
    order: Order,
    scenario_file: Path,
    machine: Path | None,
    seed: int,
    on_progress: Callable[[Progress], None],
    language: Language | None = None,
) -> Done:
    """Run on a simulated board inside this process, on a virtual clock; deterministic for a seed.

    Without a machine file a copy of the scenario's own is used in a temporary folder.

    Raises:
        ScenarioError, DocumentError, LedgerError.
    """
    scenario = load_scenario(scenario_file)
    source = scenario_file.parent / scenario.scenario.machine_file
    with tempfile.TemporaryDirectory(prefix="ublet-") as folder:
        if machine is None:
            machine = Path(folder) / source.name
            shutil.copyfile(Document(source).path, machine)
        return run_virtually(_ordered(order, scenario_file, machine, seed, on_progress, language))


async def _ordered(
    order: Order,
    scenario: Path,
    machine: Path,
    seed: int,
    on_progress: Callable[[Progress], None],
    language: Language | None,
) -> Done:
    async with on_scenario(scenario, machine, seed, on_progress, language=language) as (session, watcher):
        return await execute(order, session, watcher)


@asynccontextmanager
async def on_scenario(
    scenario_file: Path,
    machine: Path,
    seed: int,
    on_progress: Callable[[Progress], None],
    store: Path | None = None,
    language: Language | None = None,
) -> AsyncIterator[tuple[Session, Looking]]:
    """A session on a machine file, linked to the simulated board of a scenario; and the scripted builder who answers.
    store: where the board keeps what it stores; language: the dialect that both ends speak.

    Raises:
        ScenarioError, DocumentError, LedgerError.
    """
    loop = asyncio.get_running_loop()
    scenario = load_scenario(scenario_file)
    declared = Document(scenario_file.parent / scenario.scenario.machine_file).machine
    simulated = SimulatedMachine(scenario, declared, loop.time, store, seed=seed, language=language)
    service = simulated.service

    async def opener() -> Transport:
        ours, theirs = memory_pair()
        _attach(service, theirs)
        return ours

    async with AsyncExitStack() as stack:
        # in a dialect the host asks for what the protocol's states bring: the clock goes in small steps
        period_s = SLOWEST_STATE_S if language is None else STATE_PERIOD_S
        clock = loop.create_task(keep_time(service, 1.0, period_s))
        stack.callback(clock.cancel)
        session = Session(machine, opener, threaded=False, language=language)
        log_changes(session.connection)
        stack.push_async_callback(session.close)
        await session.connection.connect()

        # motors stand still before the next line comes, as they do while a person answers
        answers_after_s = 0.0 if language is None else ANSWERS_AFTER_S

        def truth(spec: TrialSpec, parameters: Part) -> dict[str, float]:
            aim = parameters.model_dump()
            known = truth_of(scenario.with_stored(simulated.board.layers.live), declared, spec.name, aim)
            return {**known, **truth_at_end(simulated.world, declared, spec.name, aim)}

        yield (
            session,
            Looking(ScriptedBuilder(scenario, simulated.hands, seed), on_progress, truth, simulated, answers_after_s),
        )


def _attach(service: Service, end: MemoryTransport) -> None:
    end.received = service.received
    service.send = end.write


async def write_on_port(
    machine: Path, port: str, settling: Settling | None, dry: bool, on_progress: Callable[[Progress], None]
) -> dict[str, Any]:
    """Write a machine's image to a board at a port, and settle every shadow in one way when asked.

    Raises:
        DocumentError, LedgerError, PortError, LinkLost, ImageError, PictureError, WriteRefused, SaveFailed.
    """
    baud = Document(machine).machine.board.baud

    session = Session(machine, PortOpener(port, lambda: baud))
    phase = ["uploading"]

    def progress(upload: UploadProgress) -> None:
        words = f"{upload.done:,} of {upload.total:,} bytes"
        on_progress(Progress(phase[0], upload.done / upload.total, upload.left_s, words))

    async def work() -> dict[str, Any]:
        await session.connection.connect()
        session.connection.keep()
        await session.settle()
        planned = session.plan_write()
        report: dict[str, Any] = {
            "changes": [asdict(change) for change in planned.changes],
            "digest": planned.image.digest,
            "bytes": len(planned.image.data),
            "refused": planned.refused if "image" in session.connection.can else None,
            "written": False,
        }
        if "image" not in session.connection.can:
            report["why"] = "this board takes no image over its line: settings that differ are written by --settle file"
        elif dry or planned.refused:
            report["why"] = f"refused: {planned.refused}" if planned.refused else "nothing was sent"
        elif planned.same_as_running:
            report["why"] = "the board runs this image already"
        else:
            running = await session.write_image(planned, progress, lambda words: phase.__setitem__(0, words))
            report["written"] = True
            report["why"] = f"the board runs {running.digest[:8]} from slot {running.slot}, checked by its digest"
        if settling is not None and not dry and not report["refused"]:
            count, backup = await session.settle_shadows({row.path: settling for row in session.shadowed()})
            report["settled"], report["backup"] = count, str(backup) if backup else None
        report["shadowed"] = [
            {"path": row.path, "file": row.file, "stored": row.stored, "live": row.live} for row in session.shadowed()
        ]
        return report

    return await until_interrupted(work(), session.close)
