"""A machine as it was: its settings, what was proven of it and what had been reported, at any moment of its ledger."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

from ublet.core.catalogue import TRIALS
from ublet.core.facts import Fact
from ublet.core.machine.schema import SETTINGS, MachineFile
from ublet.core.run import Subject
from ublet.core.settings import Value, frozen
from ublet.core.trouble import Trouble
from ublet.ledger.book import Ledger
from ublet.ledger.entries import RunEntry
from ublet.session.document import Document
from ublet.session.presence import Presence
from ublet.session.record import local_time

LEDGER_TIME = r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?\+00:00"
"""A time as the ledger writes it, to the moment."""

NOW = "9999"
"""Later than every time of a ledger."""


class PastError(Trouble):
    """No such moment in this ledger; the message says what is allowed."""


@dataclass(frozen=True)
class Moment:
    """A moment of a ledger. at: nothing after it counts (:data:`NOW`: everything counts); words: how it is called.

    run: the moment is that run: the machine as it was when the run began, with what was kept of its proposals.
    """

    at: str
    words: str
    run: int | None = None


@dataclass(frozen=True)
class MachineState:
    """A machine at a moment. proven: the newest proven run of each trial and subject; facts: everything reported until
    then, newest first. elsewhere: it is another machine than the one it is compared with.
    """

    words: str
    settings: Mapping[str, Value]
    proven: Mapping[tuple[str, str], RunEntry] = field(default_factory=dict)
    facts: Sequence[Fact] = ()
    elsewhere: bool = False


def moment_of(ledger: Ledger, text: str) -> Moment:
    """What is typed for a moment: ``now``, a run's number (``12`` or ``run12``), a save's (``save3``, the first is
    1), a date with or without a time, by the builder's clock.

    Raises:
        PastError: none of these, or not in this ledger.
    """
    word = text.strip().lower()
    if word == "now":
        return Moment(NOW, "now")
    if match := re.fullmatch(r"(?:run)?[ :]?(\d+)", word):
        number = int(match[1])
        entry = ledger.run(number)
        if entry is None:
            raise PastError(f"{text}: the ledger has no run {number}; the newest is {ledger.run_count}.")
        return moment_of_run(entry)
    if match := re.fullmatch(r"save[ :]?(\d+)", word):
        saves, number = ledger.saves(), int(match[1])
        if not 1 <= number <= len(saves):
            known = f"save1 to save{len(saves)}" if saves else "none: nothing was saved yet"
            raise PastError(f"{text}: the ledger has no such save; it has {known}.")
        return Moment(saves[number - 1], f"save {number}")
    if re.fullmatch(LEDGER_TIME, text.strip()):
        return Moment(text.strip(), f"{local_time(text.strip())}")
    return Moment(_end_of(text), text.strip())


def moment_of_run(entry: RunEntry) -> Moment:
    """The moment of a run."""
    return Moment(entry.at, f"run {entry.id} ({entry.name})", entry.id)


def _end_of(text: str) -> str:
    """The end of a day, or of a minute, of the builder's clock, as the ledger writes times."""
    try:
        given = datetime.fromisoformat(text.strip())
    except ValueError as error:
        raise PastError(
            f"{text}: found no moment of this ledger; allowed: now, a run's number (12), a save's (save3), a date "
            "(2026-11-30, or with a time 2026-11-30T18:00), another machine's file."
        ) from error
    whole_day = len(text.strip()) <= len("2026-11-30")
    end = given + (timedelta(days=1) if whole_day else timedelta(minutes=1))
    return end.astimezone(UTC).isoformat(timespec="milliseconds")


def state_at(document: Document, ledger: Ledger, presence: Presence, moment: Moment) -> MachineState:
    """The machine at a moment of its ledger."""
    settings = settings_at(document, ledger, presence, moment)
    newest = moment.run if moment.run is not None else ledger.last_run_at(moment.at)
    proven = dict(proven_at(document.machine, ledger, newest, moment.at == NOW))
    facts = [fact for fact in ledger.facts() if fact.at <= moment.at]
    return MachineState(moment.words, settings, proven, facts)


def proven_at(
    machine: MachineFile, ledger: Ledger, newest: int, counting: bool = True
) -> Iterator[tuple[tuple[str, str], RunEntry]]:
    """For each trial and heater the newest run that came to an answer until a run's number, where that proved it.
    counting: without those that were set aside since.
    """
    for name, spec in TRIALS.items():
        for heater in spec.heaters(machine) or ("",):
            subject: Subject = {"heater": heater} if heater else {}
            entry = ledger.concluded(name, subject, newest, counting)
            if entry is not None and entry.result.outcome == "proven":
                yield (name, heater), entry


def settings_at(document: Document, ledger: Ledger, presence: Presence, moment: Moment) -> dict[str, Value]:
    """Settings in force then: by the changes of each until then, else by what its first change after it came from, else
    as it is now.

    What a board holds begins at what the last run before found on it, which every run notes.
    """
    settings: dict[str, Value] = {**document.values, **presence.settings()}
    if moment.at == NOW:
        return settings
    before = {path: change.after for path, change in ledger.newest_changes(moment.at).items()}
    later = {path: change.before for path, change in ledger.first_changes(moment.at, before).items()}
    settings |= {path: value for path, value in {**later, **before}.items() if SETTINGS.find(path) is not None}
    number = moment.run if moment.run is not None else ledger.last_run_at(moment.at)
    entry = ledger.run(number)
    if entry is not None and (live := ledger.opening(number).get("live")):
        since = ledger.newest_changes(moment.at, entry.at, "live")
        settings |= {path: frozen(value) for path, value in live.items()}
        settings |= {path: change.after for path, change in since.items() if path in live}
    if moment.run is not None:
        kept = [change for change in ledger.changes("keep", moment.run) if SETTINGS.find(change.setting) is not None]
        settings |= {change.setting: change.after for change in reversed(kept)}
    return {path: value for path, value in settings.items() if value is not None or path in document.values}


def other_machine(file: Path) -> MachineState:
    """Another machine's file as it is now, with what its ledger knows.

    Raises:
        DocumentError, LedgerError.
    """
    from ublet.session.session import beside_ledger

    with beside_ledger(file) as session:
        if session is None:
            return MachineState(file.name, Document(file).values, elsewhere=True)
        state = state_at(session.document, session.ledger, session.presence, Moment(NOW, file.name))
        return MachineState(file.name, state.settings, state.proven, state.facts, True)
