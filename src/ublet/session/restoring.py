"""Going back: settings as of a moment, proposed like any other change; what becomes stale by it, and what is proven
again because everything that it rests on is as it was then.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ublet.core.machine.compare import same
from ublet.core.machine.schema import SETTINGS
from ublet.core.route import ROUTE
from ublet.core.run import Option, Proposal
from ublet.core.settings import Value, thawed
from ublet.core.trouble import Trouble
from ublet.firmware.clock import run_virtually
from ublet.ledger.book import SET_ASIDE, Ledger
from ublet.ledger.entries import Change, RunEntry
from ublet.link.baud import PortOpener
from ublet.session.document import Document
from ublet.session.draft import Draft
from ublet.session.headless import on_scenario
from ublet.session.interrupts import until_interrupted
from ublet.session.past import Moment, proven_at, settings_at
from ublet.session.presence import Presence
from ublet.session.saving import now
from ublet.session.session import Session, ledger_path
from ublet.session.source import Source
from ublet.session.stale import StaleRun, Supposed, stale_runs

LOOKED_AT = 20
"""As many of the newest runs of a trial are looked at for one that holds again."""

RESTORE = "restore"
"""The name of the option, and of the kind of its changes."""


class RestoreError(Trouble):
    """It cannot be restored; the message says what is allowed."""


@dataclass(frozen=True)
class ProvenAgain:
    """A run that holds again once the settings are as they were; newer: those that are set aside for it."""

    entry: RunEntry
    newer: tuple[int, ...]


@dataclass(frozen=True)
class Restoration:
    """What going back would do. option: the settings as proposals; gone: settings of then that this machine has no
    place for any more; not_given: those that had no value then, and stay as they are; stale: what would no longer hold;
    again: what would be proven again.
    """

    moment: Moment
    option: Option
    gone: tuple[str, ...]
    not_given: tuple[str, ...]
    stale: tuple[StaleRun, ...]
    again: tuple[ProvenAgain, ...]

    @property
    def values(self) -> dict[str, Value]:
        """The settings by their paths."""
        return {proposal.setting: proposal.after for proposal in self.option.proposals}

    def as_json(self) -> dict[str, Any]:
        """What is restored, what becomes stale by it, and what is proven again."""
        return {
            "as_of": self.moment.words,
            "settings": [
                {"setting": p.setting, "before": thawed(p.before), "after": thawed(p.after), "unit": p.unit}
                for p in self.option.proposals
            ],
            "gone": list(self.gone),
            "not_given": list(self.not_given),
            "stale": [
                {"station": run.station, "trial": run.trial, "subject": dict(run.subject), "reasons": list(run.reasons)}
                for run in self.stale
            ],
            "proven_again": [
                {"station": one.entry.station, "trial": one.entry.name, "run": one.entry.id} for one in self.again
            ],
        }


def restoration(source: Source, moment: Moment, wanted: Collection[str] = (), in_file: bool = False) -> Restoration:
    """What going back to a moment would do: for everything, or only for stations and settings that are named.
    in_file: only the machine file is to change, and what it says already is left out.

    Raises:
        RestoreError: something that is named is neither.
    """
    then = settings_at(source.document, source.ledger, source.presence, moment)
    now = _now(source)
    paths = _chosen(source, wanted, [*then, *now])
    proposals, gone, not_given = [], [], []
    for path in paths:
        before, after = now.get(path), then.get(path)
        if same(before, after) or (in_file and same(source.document.value(path), after)):
            continue
        declared = SETTINGS.find(path)
        if path not in source.document.values and not _fits(source, path):
            gone.append(path)
            continue
        if after is None:  # it had no value then: what came since stays, it is no value to go back to
            not_given.append(path)
            continue
        effect = f"as it was at {moment.words}"
        proposals.append(Proposal(path, before, after, declared.unit if declared else "", effect))
    option = Option(RESTORE, f"settings as of {moment.words}", tuple(proposals), {})
    what_if = Supposed({proposal.setting: proposal.after for proposal in proposals})
    machine, ledger, presence = source.document.machine, source.ledger, source.presence
    stale = stale_runs(machine, ledger, presence, what_if) if proposals else []
    again = holding_again(source, what_if) if proposals else []
    names = {(one.entry.name, tuple(one.entry.subject.items())) for one in again}
    left = tuple(run for run in stale if (run.trial, tuple(run.subject.items())) not in names)
    return Restoration(moment, option, tuple(gone), tuple(not_given), left, tuple(again))


def _now(source: Source) -> Mapping[str, Value]:
    return {**source.document.values, **source.presence.settings()}


def _fits(source: Source, path: str) -> bool:
    """Whether the machine file has the table that a setting stands in."""
    table = path.rpartition(".")[0]
    return SETTINGS.find(path) is not None and any(known.startswith(f"{table}.") for known in source.document.values)


def _chosen(source: Source, wanted: Collection[str], known: Sequence[str]) -> list[str]:
    """The settings that are meant: all, or those of stations and those that are named."""
    every = list(dict.fromkeys(known))
    if not wanted:
        return every
    stations = {station.name: station for station in ROUTE}
    chosen: list[str] = []
    for name in wanted:
        if name in stations:
            proposed = proposed_at(source.ledger, stations[name].trials)
            chosen += [path for path in every if path in proposed]
        elif name in every:
            chosen.append(name)
        else:
            raise RestoreError(
                f"“{name}” is no station and no setting of this machine: `ublet trials` lists stations, `ublet "
                "compare` "
                "settings that differ."
            )
    return list(dict.fromkeys(chosen))


def proposed_at(ledger: Ledger, trials: Collection[str]) -> set[str]:
    """The settings that the newest runs of these trials proposed."""
    return {
        proposal.setting
        for trial in trials
        for entry in ledger.runs(trial, most=LOOKED_AT)
        for option in entry.result.options
        for proposal in option.proposals
    }


def holding_again(source: Source, what_if: Supposed) -> list[ProvenAgain]:
    """Runs that hold under other settings and do not count now: stale ones, older ones, those that were set aside."""
    again = []
    ledger, presence = source.ledger, source.presence
    for (name, _), newest in proven_at(source.document.machine, ledger, ledger.run_count):
        if not _reasons(presence, newest, what_if):
            if presence.reasons(newest.rests):
                again.append(ProvenAgain(newest, ()))
            continue
        others = [entry for entry in ledger.runs(name, "proven", newest.subject, LOOKED_AT) if entry.id != newest.id]
        holds = next((entry for entry in others if not _reasons(presence, entry, what_if)), None)
        if holds is not None:
            newer = [entry.id for entry in (newest, *others) if entry.id > holds.id]
            again.append(ProvenAgain(holds, tuple(newer)))
    return again


def _reasons(presence: Presence, entry: RunEntry, what_if: Supposed) -> tuple[str, ...]:
    return presence.reasons(entry.rests, what_if.facts, what_if.settings)


def set_aside(ledger: Ledger, restored: Restoration) -> None:
    """Note that older runs count again: the newer ones are set aside, and not taken out.

    Raises:
        LedgerError: it cannot be written.
    """
    for one in restored.again:
        ledger.mark(one.entry.id, SET_ASIDE, "")
        for number in one.newer:
            ledger.mark(number, SET_ASIDE, f"restored to {restored.moment.words}")


async def restore(session: Session, planned: Restoration) -> int:
    """Keep and save what is planned on an open machine, and let the runs count again that hold then; returns how many
    settings were saved.

    Raises:
        SaveFailed, LinkLost, BoardRefused, LedgerError: what stands where is said.
    """
    await session.keep(planned.option, planned.moment.run)
    saved = await session.save(set(planned.values))
    set_aside(session.ledger, planned)
    return saved


def restore_file(file: Path, planned: Restoration) -> None:
    """Write what is planned to a machine file; its board is not asked.

    Raises:
        DocumentError: the file would not be valid, nothing was written. LedgerError.
    """
    document = Document(file)
    draft = Draft(document)
    draft.set_all(planned.values)
    changes = [Change(now(), RESTORE, None, one.path, "file", one.before, one.after) for one in draft.changes()]
    draft.write()
    ledger = Ledger(ledger_path(file), threaded=False)
    try:
        ledger.add_changes(changes)
        set_aside(ledger, planned)
    finally:
        ledger.close()


async def restore_on_port(file: Path, planned: Restoration, port: str) -> None:
    """Keep, save and read back on the board at a port.

    Raises:
        DocumentError, LedgerError, PortError, LinkLost, BoardRefused, SaveFailed. NotOurs: another machine's board.
    """
    baud = Document(file).machine.board.baud
    session = Session(file, PortOpener(port, lambda: baud))

    async def work() -> None:
        await session.connection.connect()
        session.must_be_ours()
        await session.settle()
        await restore(session, planned)

    await until_interrupted(work(), session.close)


def restore_on_scenario(scenario: Path, file: Path, planned: Restoration) -> None:
    """Keep, save and read back on the simulated board of a scenario, in this process.

    Raises:
        ScenarioError, DocumentError, LedgerError, SaveFailed.
    """

    async def work() -> None:
        async with on_scenario(scenario, file, 1, lambda progress: None) as (session, _):
            await session.connection.first_readings()
            await restore(session, planned)

    run_virtually(work())
