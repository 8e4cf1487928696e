"""The record for people: a run in lines; and facts reported for a machine whose board need not be there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from ublet.core.evidence import Dependency
from ublet.core.facts import Fact
from ublet.core.run import Finding, Subject
from ublet.core.typed import shown_after, shown_value
from ublet.core.units import duration, show, with_uncertainty
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Change, RunEntry
from ublet.link.transport import Transport
from ublet.session.connection import Connection
from ublet.session.document import Document
from ublet.session.presence import Presence
from ublet.session.saving import now
from ublet.session.session import ledger_path
from ublet.session.stale import NEXT, Supposed, stale_runs

if TYPE_CHECKING:
    from ublet.session.comparing import Comparison
    from ublet.session.restoring import Restoration

Affected = tuple[str, str, Subject, str]
"""Station, trial, subject and reason of something that a fact makes stale."""


def local_time(at: str) -> str:
    """A time of the ledger (UTC) as the builder's clock shows it, to the minute."""
    return datetime.fromisoformat(at).astimezone().strftime("%Y-%m-%d %H:%M")


DONE = {"edit": "edited", "keep": "kept", "drop": "dropped", "save": "saved", "restore": "restored", "copy": "copied"}
"""How a change is called that was made."""


def change_words(ledger: Ledger | None, change: Change) -> str:
    """A change in words: what was done, when, and what proposed it; without a ledger only by the run's number."""
    words = f"{DONE.get(change.kind, change.kind)} {local_time(change.at)}"
    if change.run is None:
        return words
    entry = ledger.run(change.run) if ledger is not None else None
    return f"{words}, found by run {change.run}{f' ({entry.name})' if entry is not None else ''}"


@dataclass(frozen=True)
class RecordLine:
    """A line about a run; head: it begins a part."""

    words: str
    head: bool = False


def run_lines(ledger: Ledger, entry: RunEntry) -> Iterator[RecordLine]:
    """A run in full: how it ended, what it found and proposed, what it rests on, what it asked and recorded."""
    outcome = "running" if entry.running else entry.result.outcome
    about = f" of {', '.join(entry.subject.values())}" if entry.subject else ""
    yield RecordLine(f"run {entry.id}: {entry.name}{about}, begun {local_time(entry.at)}: {outcome}", True)
    yield RecordLine(entry.result.why)
    if entry.duration_s:
        yield RecordLine(f"took {duration(entry.duration_s)} of the machine's time")
    if entry.goes_on_from is not None:
        yield RecordLine(f"went on from run {entry.goes_on_from}")
    yield from _part("parameters", [f"{key} = {shown_value(value)}" for key, value in entry.parameters.items()])
    lines = [
        f"{finding.name:<34} {with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit)}"
        + (f"   (limit {show(finding.limit, finding.unit)})" if finding.limit is not None else "")
        for finding in entry.result.findings
    ]
    yield from _part("found", lines)
    yield from _part("proposed", _proposed(entry))
    changes = [
        f"{local_time(c.at)} {c.kind} {c.setting} ({c.layer}): {shown_value(c.before)} → {shown_value(c.after)}"
        for c in ledger.changes(run=entry.id)
    ]
    yield from _part("what became of it", changes)
    yield from _part("rests on", rest_lines(entry.rests))
    asked = [
        f"{question.at_s:8.1f} s   {question.text} → {question.answer or 'not answered'}"
        for question in ledger.questions(entry.id)
    ]
    yield from _part("asked", asked)
    phases = [f"{phase.at_s:8.1f} s   {phase.words}" for phase in ledger.phases(entry.id)]
    yield from _part("phases", phases)
    streams = [
        f"{title}: {len(one.rows)} rows of {', '.join(one.columns)}" for title, one in ledger.streams(entry.id).items()
    ]
    yield from _part("recorded", streams or ["nothing"])
    checkpoint = ledger.checkpoint(entry.id)
    if checkpoint is not None:
        yield from _part("can go on from", [checkpoint.words])


def _part(head: str, lines: list[str]) -> Iterator[RecordLine]:
    if lines:
        yield RecordLine(head, True)
        yield from (RecordLine(line) for line in lines)


def _proposed(entry: RunEntry) -> list[str]:
    """What a run proposed; an effect that several settings have together is said once."""
    lines, said = [], ""
    for p in entry.result.proposals:
        change = f"{p.setting}: {shown_value(p.before, 4)} → {shown_after(p.before, p.after, 4)} {p.unit}".rstrip()
        lines.append(change if p.effect == said else f"{change}   {p.effect}")
        said = p.effect
    return lines


def rest_lines(rests: Sequence[Dependency]) -> list[str]:
    """What a run rests on, with the values then: the settings of a part, and the findings of a trial, on a line."""
    lines: dict[str, list[str]] = {}
    never_reported: list[str] = []
    for rest in rests:
        name = rest.path.replace(".", " ")
        if rest.kind == "fact" and rest.value in (0, ""):
            never_reported.append(name)
        elif rest.kind == "fact":
            value = f"reported, no. {rest.value}" if isinstance(rest.value, int) else shown_value(rest.value)
            lines.setdefault("facts", []).append(f"{name} ({value})")
        elif rest.kind == "parts":
            lines.setdefault(f"the parts in {rest.path}", []).append(shown_value(rest.value) or "none")
        else:
            root, mark, key = rest.path.rpartition("/" if rest.kind == "finding" else ".")
            lines.setdefault(f"{root}{mark}", []).append(f"{key} {shown_value(rest.value)}")
    texts = [f"{root.rstrip('./')}: {', '.join(line)}" for root, line in lines.items()]
    return [*texts, f"nothing was reported of: {', '.join(never_reported)}"] if never_reported else texts


def comparison_lines(comparison: Comparison) -> Iterator[RecordLine]:
    """Two states side by side in lines: by station the settings and findings that differ, then facts between them."""
    yield RecordLine(f"A: {comparison.a.words}   B: {comparison.b.words}", True)
    for station in comparison.stations:
        settings = [pair for pair in comparison.settings if pair.station == station]
        findings = [pair for pair in comparison.findings if pair.station == station and pair.significant]
        if not settings and not findings:
            continue
        yield RecordLine(station or "not by a trial", True)
        for pair in settings:
            change = f"{shown_value(pair.a, 4)} → {shown_after(pair.a, pair.b, 4)} {pair.unit}".rstrip()
            yield RecordLine(f"{pair.path}: {change}   {pair.layer}{f', {pair.reason}' if pair.reason else ''}")
        for both in findings:
            yield RecordLine(f"{both.shown.name}: {finding_words(both.a)} → {finding_words(both.b)}")
    quiet = sum(1 for both in comparison.findings if not both.significant)
    if quiet:
        yield RecordLine(f"{quiet} findings differ by no more than they err, or stand on one side only", True)
    yield from _part("reported between them", [f"{local_time(fact.at)} {fact.words}" for fact in comparison.facts])
    if not comparison.settings and not comparison.findings and not comparison.facts:
        yield RecordLine("Nothing differs.")


def finding_words(finding: Finding | None) -> str:
    """A finding with its uncertainty; a dash where there is none."""
    return with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit) if finding is not None else "—"


def restoration_lines(planned: Restoration) -> Iterator[RecordLine]:
    """What going back would do, in lines."""
    if not planned.values:
        yield RecordLine(f"Nothing to restore: all of it is as it was at {planned.moment.words}.", True)
    else:
        yield RecordLine(f"settings as they were at {planned.moment.words}", True)
    for p in planned.option.proposals:
        yield RecordLine(
            f"{p.setting}: {shown_value(p.before, 4)} → {shown_after(p.before, p.after, 4)} {p.unit}".rstrip()
        )
    yield from _part("left out: this machine has no place for them any more", list(planned.gone))
    yield from _part("not given then: they stay as they are", list(planned.not_given))
    stale = [f"{run.station}, {run.trial}{about_words(run.subject)}: {'; '.join(run.reasons)}" for run in planned.stale]
    yield from _part("becomes stale by it", stale)
    again = [
        f"{one.entry.station}: run {one.entry.id} ({one.entry.name}) of {local_time(one.entry.at)}"
        for one in planned.again
    ]
    yield from _part("proven again by it", again)


def about_words(subject: Subject) -> str:
    """What a run was about, behind its name; empty: nothing in particular."""
    return f" ({', '.join(subject.values())})" if subject else ""


def affected_by(fact: Fact, document: Document, ledger: Ledger, presence: Presence) -> list[Affected]:
    """What a fact would make stale that holds now: by station, in the order of the route. Nothing is entered."""
    what_if = Supposed(facts=(replace(fact, id=fact.id or NEXT),))
    stale = stale_runs(document.machine, ledger, presence, what_if)
    return [(run.station, run.trial, run.subject, "; ".join(run.reasons)) for run in stale]


async def _no_board() -> Transport:
    raise AssertionError("an offline record never links")


class Offline:
    """A machine file with its ledger, without a board."""

    def __init__(self, file: Path) -> None:
        self.document = Document(file)
        self.ledger = Ledger(ledger_path(file), threaded=False)
        connection = Connection(_no_board)
        self.presence = Presence(self.ledger, connection, lambda: self.document, {}, {})

    def made_stale(self, fact: Fact) -> list[Affected]:
        """What it would make stale."""
        return affected_by(fact, self.document, self.ledger, self.presence)

    def report_fact(self, fact: Fact) -> Fact:
        """Enter it."""
        return self.ledger.report_fact(replace(fact, at=now()))

    def close(self) -> None:
        """Let the ledger go."""
        self.ledger.close()
