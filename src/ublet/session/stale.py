"""What no longer holds and why, what would not if a setting or a fact changed, and what to do again, in order."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from ublet.core.catalogue import TRIALS
from ublet.core.facts import Fact, fact_from, paths
from ublet.core.machine.schema import SETTINGS, MachineFile
from ublet.core.route import ROUTE
from ublet.core.run import Subject
from ublet.core.settings import Value
from ublet.core.trial import TrialSpec
from ublet.core.trouble import Trouble
from ublet.core.typed import typed_value
from ublet.ledger.book import Ledger
from ublet.ledger.entries import RunEntry
from ublet.session.presence import Presence
from ublet.session.source import Source

NEXT = 1 << 40
"""Stands for the number of a fact that is only supposed."""

LOOKED_AT = 20
"""Number of runs of a trial that are searched for what it proposes."""


class StaleError(Trouble):
    """What is supposed is no setting and no fact of a machine; the message says what is allowed."""


@dataclass(frozen=True)
class Supposed:
    """What is taken as if it had happened: values of settings, and facts."""

    settings: Mapping[str, Value] = field(default_factory=dict)
    facts: tuple[Fact, ...] = ()


NOTHING_SUPPOSED = Supposed()


@dataclass(frozen=True)
class StaleRun:
    """A run whose findings do not hold: where it was done, about what, its findings by id, and why."""

    station: str
    trial: str
    subject: Subject
    findings: tuple[str, ...]
    reasons: tuple[str, ...]


@dataclass(frozen=True)
class Redo:
    """A trial to do again. machine_s: how long it took at the machine last, s; sure: else only if an earlier one of the
    list gives another value than before. because: why it is stale, else the trial whose new value decides that.
    """

    station: str
    trial: str
    subject: Subject
    machine_s: float
    sure: bool
    because: str = ""


def supposed(machine: MachineFile, text: str) -> Supposed:
    """What is typed as ``SETTING=VALUE``, ``FACT`` or ``FACT=WORDS``.

    Raises:
        StaleError, FactError: it is none of them on this machine, or no value of that setting.
    """
    name, equals, value = (part.strip() for part in text.partition("="))
    if name in paths(machine) or not equals:
        return Supposed(facts=(replace(fact_from(machine, name, value or None), id=NEXT),))
    declared = SETTINGS.find(name)
    if declared is None:
        raise StaleError(f"--if {text}: found no setting and no fact “{name}”; `ublet fact FILE` lists the facts")
    try:
        return Supposed({name: typed_value(declared, value)})
    except ValueError as error:
        raise StaleError(f"--if {text}: {error}") from error


def stale_runs(
    machine: MachineFile, ledger: Ledger, presence: Presence, what_if: Supposed = NOTHING_SUPPOSED
) -> list[StaleRun]:
    """Runs that were proven and do not hold, in the order of the route. what_if: only those that it makes stale."""
    stale = []
    for spec, subject, entry in _proven(machine, ledger):
        check = _newer_check(ledger, spec, subject, entry)
        if check is not None and not presence.reasons(check.rests, what_if.facts, what_if.settings):
            continue  # what was tuned is checked, and the check holds
        now = presence.reasons(entry.rests)
        reasons = now
        if what_if != NOTHING_SUPPOSED:
            reasons = () if now else presence.reasons(entry.rests, what_if.facts, what_if.settings)
        if reasons:
            ids = tuple(finding.id for finding in entry.result.findings)
            stale.append(StaleRun(spec.station, spec.name, subject, ids, reasons))
    return stale


def to_redo(machine: MachineFile, ledger: Ledger, presence: Presence, stale: Sequence[StaleRun]) -> list[Redo]:
    """What to do again, in the order of the route: what is stale, and after it, as not sure, what rests on a value that
    these may move; those, in turn, to the end of the chain.
    """
    begun = {(run.trial, _key(run.subject)): "; ".join(run.reasons) for run in stale}
    proven = {(spec.name, _key(subject)): (spec, subject, entry) for spec, subject, entry in _proven(machine, ledger)}
    reached, moving = dict(begun), list(begun)
    while moving:
        trial, _ = moving.pop()
        moved, results = _proposes(ledger, trial), f"{trial}/"
        for key, (_, _, entry) in proven.items():
            if key in reached:
                continue
            if any(
                (rest.kind == "setting" and rest.path in moved)
                or (rest.kind == "finding" and rest.path.startswith(results))
                for rest in entry.rests
            ):
                reached[key] = trial.replace("-", " ")
                moving.append(key)
    return [
        Redo(spec.station, spec.name, subject, entry.duration_s, key in begun, reached[key])
        for key, (spec, subject, entry) in proven.items()
        if key in reached
    ]


def redo_for(source: Source, what_if: Supposed = NOTHING_SUPPOSED) -> tuple[Redo, ...]:
    """What to do again on a machine now, or if something were so."""
    machine, ledger, presence = source.document.machine, source.ledger, source.presence
    return tuple(to_redo(machine, ledger, presence, stale_runs(machine, ledger, presence, what_if)))


def _proven(machine: MachineFile, ledger: Ledger) -> Iterable[tuple[TrialSpec, Subject, RunEntry]]:
    """Every trial that came to an answer last and proved it, with what it was about, in the order of the route."""
    for station in ROUTE:
        for name in station.trials:
            spec = TRIALS[name]
            for heater in spec.heaters(machine) or (None,):
                subject: Subject = {"heater": heater} if heater is not None else {}
                entry = ledger.concluded(name, subject)
                if entry is not None and entry.result.outcome == "proven":
                    yield spec, subject, entry


def _newer_check(ledger: Ledger, spec: TrialSpec, subject: Subject, entry: RunEntry) -> RunEntry | None:
    """The check of a trial, where that came after it and was proven."""
    if spec.verify is None or spec.verify == spec.name:
        return None
    check = ledger.concluded(spec.verify, subject)
    return check if check is not None and check.id > entry.id and check.result.outcome == "proven" else None


def _proposes(ledger: Ledger, trial: str) -> set[str]:
    """The settings that runs of a trial proposed."""
    entries = ledger.runs(trial, most=LOOKED_AT)
    return {proposal.setting for entry in entries for option in entry.result.options for proposal in option.proposals}


def _key(subject: Subject) -> tuple[tuple[str, str], ...]:
    return tuple(sorted(subject.items()))
