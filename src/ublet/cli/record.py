"""Commands about the record: the ledger and its runs, and facts that the builder reports."""

from __future__ import annotations

import asyncio
import csv
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from ublet.cli.base import (
    NO,
    RECORD,
    USAGE,
    JsonOption,
    ScenarioOption,
    app,
    friendly_errors,
    print_json,
    say,
    stop,
)
from ublet.core.printable import printable

if TYPE_CHECKING:
    from ublet.ledger.book import Ledger
    from ublet.ledger.entries import RunEntry


@app.command(rich_help_panel=RECORD, short_help="History of a machine, or one run.")
def ledger(
    file: Path,
    run: Annotated[str | None, typer.Argument(help="Number of a run, to show all of it.")] = None,
    stream: Annotated[str | None, typer.Option("--csv", metavar="STREAM", help="What it recorded, as CSV.")] = None,
    as_json: JsonOption = False,
) -> None:
    """The history of a machine, or one run with what it recorded."""
    if stream is not None and run is None:
        raise stop(USAGE, "--csv STREAM belongs to a run: name its number")
    if run is not None and not run.isdigit():
        raise stop(USAGE, f"run “{run}” is no number of a run: `ublet ledger {file}` lists them")
    with friendly_errors():
        book = _book(file)
        try:
            if run is None:
                _history(book, as_json)
            else:
                _one(book, file, int(run), stream, as_json)
        finally:
            book.close()


def _book(file: Path) -> Ledger:
    from ublet.ledger.book import Ledger
    from ublet.session.session import ledger_path

    path = ledger_path(file)
    if not path.exists():
        raise stop(USAGE, f"{path} is not there: no trial has been run on this machine yet")
    return Ledger(path, threaded=False)


def _history(book: Ledger, as_json: bool) -> None:
    from dataclasses import asdict

    from ublet.core.typed import shown_after, shown_value
    from ublet.session.record import local_time
    from ublet.session.report import entry_json

    entries, changes, facts = book.runs(), book.changes(), book.facts()
    saves = {at: number for number, at in enumerate(book.saves(), start=1)}
    notes = book.notes()
    if as_json:
        print_json(
            {
                "trials": [entry_json(entry) for entry in entries],
                "changes": [asdict(change) for change in changes],
                "facts": [asdict(fact) for fact in facts],
                "saves": [{"save": number, "at": at} for at, number in saves.items()],
                "notes": [{"of": kind, "number": number, "text": text} for (kind, number), text in notes.items()],
            }
        )
        return
    lines = [(e.at, f"run {e.id:<5} {_headline(e)}{_noted(notes.get(('run', e.id)))}") for e in entries]
    lines += [
        (
            c.at,
            f"{f'save{saves[c.at]}' if c.kind == 'save' else c.kind:<9} {c.setting} ({c.layer}): "
            f"{shown_value(c.before)} → {shown_after(c.before, c.after)}{_proposed(c.run)}"
            f"{_noted(notes.get(('change', c.id)))}",
        )
        for c in changes
    ]
    lines += [(fact.at, f"fact      {fact.words}{_noted(notes.get(('fact', fact.id)))}") for fact in facts]
    for at, text in sorted(lines, key=lambda line: line[0], reverse=True):
        say(f"{local_time(at)}  {text}")


def _noted(note: str | None) -> str:
    """What the builder noted at an entry."""
    return f"   “{note}”" if note else ""


def _proposed(run: int | None) -> str:
    return f"   by run {run}" if run is not None else ""


def _headline(entry: RunEntry) -> str:
    from ublet.session.record import about_words

    about = about_words(entry.subject)
    outcome = "running" if entry.running else entry.result.outcome
    return f"{entry.name}{about}: {outcome}. {entry.result.why}"


def _one(book: Ledger, file: Path, number: int, stream: str | None, as_json: bool) -> None:
    entry = book.run(number)
    if entry is None:
        newest = book.runs(most=1)
        known = f"1 to {newest[0].id}" if newest else "none yet"
        raise stop(USAGE, f"run {number} is not in the ledger of {file}; known: {known}")
    streams = book.streams(number)
    if stream is not None:
        if stream not in streams:
            named = ", ".join(streams) or "none"
            raise stop(USAGE, f"run {number} recorded no stream “{stream}”; it recorded: {named}")
        from ublet.session.export import as_swept

        comment, series = as_swept(streams, stream)
        sys.stdout.write(printable(comment, lines=True))
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow([printable(name) for name in series.columns])
        writer.writerows([f"{value:.10g}" for value in row] for row in series.rows.tolist())
        return
    if as_json:
        print_json(_whole(book, entry))
        return
    _say_run(book, entry)


def _whole(book: Ledger, entry: RunEntry) -> dict[str, Any]:
    from dataclasses import asdict

    from ublet.session.report import entry_json

    streams = book.streams(entry.id)
    return {
        **entry_json(entry),
        "station": entry.station,
        "parameters": dict(entry.parameters),
        "goes_on_from": entry.goes_on_from,
        "rests": [asdict(rest) for rest in entry.rests],
        "streams": {
            title: {"columns": one.columns, "units": one.units, "rows": len(one.rows)} for title, one in streams.items()
        },
        "questions": [asdict(asked) for asked in book.questions(entry.id)],
        "phases": [asdict(phase) for phase in book.phases(entry.id)],
        "changes": [asdict(change) for change in book.changes(run=entry.id)],
        "began_with": book.opening(entry.id),
    }


def _say_run(book: Ledger, entry: RunEntry) -> None:
    from ublet.session.record import run_lines

    for line in run_lines(book, entry):
        say(f"{'' if line.head else '    '}{line.words}")


@app.command(rich_help_panel=RECORD, short_help="What no longer holds, and what to do again.")
def stale(
    file: Path,
    what_if: Annotated[
        list[str] | None,
        typer.Option("--if", metavar="SETTING=VALUE|FACT", help="As if this were so; nothing is entered."),
    ] = None,
    as_json: JsonOption = False,
) -> None:
    """What no longer holds and why; what to do again, in order. With --if: what would not hold then."""
    from ublet.core.units import duration
    from ublet.session.record import Offline, about_words
    from ublet.session.stale import NOTHING_SUPPOSED, Supposed, stale_runs, supposed, to_redo

    with friendly_errors():
        offline = Offline(file)
        try:
            machine = offline.document.machine
            wanted = [supposed(machine, text) for text in what_if or ()]
            settings = {path: value for one in wanted for path, value in one.settings.items()}
            facts = tuple(fact for one in wanted for fact in one.facts)
            taken = Supposed(settings, facts) if wanted else NOTHING_SUPPOSED
            gone = stale_runs(machine, offline.ledger, offline.presence, taken)
            redo = to_redo(machine, offline.ledger, offline.presence, gone)
        finally:
            offline.close()
    if as_json:
        named = [
            {"station": run.station, "finding": finding, "reasons": list(run.reasons)}
            for run in gone
            for finding in run.findings or (run.trial,)
        ]
        again = [
            {"station": r.station, "trial": r.trial, "machine_s": round(r.machine_s, 1), "sure": r.sure} for r in redo
        ]
        print_json({"stale": named, "redo": again})
        return
    if not gone:
        say("Everything that was proven holds." if not wanted else "Nothing that was proven rests on it.")
        return
    for run in gone:
        about = about_words(run.subject)
        say(f"{run.station}, {run.trial}{about}: {'; '.join(run.reasons)}")
    say("to do again, in this order:")
    for step in redo:
        about = about_words(step.subject)
        only = "" if step.sure else "   only if one before it gives another value"
        say(f"  {step.station}: {step.trial}{about}, {duration(step.machine_s)}{only}")
    say(f"  about {duration(sum(step.machine_s for step in redo if step.sure))} at the machine for what is sure")


@app.command(rich_help_panel=RECORD, short_help="Two states of a machine, side by side.")
def compare(
    file: Path,
    a: Annotated[str, typer.Argument(help="now, a run (12), a save (save3), a date, another machine file.")],
    b: Annotated[str, typer.Argument(help="The other state.")] = "now",
    as_json: JsonOption = False,
) -> None:
    """Two states of a machine: settings that differ, findings that differ by more than they err, facts between them."""
    from ublet.session.comparing import compared, state_named
    from ublet.session.record import Offline, comparison_lines

    with friendly_errors():
        offline = Offline(file)
        try:
            comparison = compared(offline.ledger, state_named(offline, a), state_named(offline, b))
        finally:
            offline.close()
    if as_json:
        print_json(comparison.as_json())
        return
    for line in comparison_lines(comparison):
        say(f"{'' if line.head else '    '}{line.words}")


@app.command(rich_help_panel=RECORD, short_help="Go back to settings as they were.")
def restore(
    file: Path,
    entry: Annotated[str, typer.Argument(help="A run (12), a save (save3), a date.")],
    wanted: Annotated[
        list[str] | None, typer.Argument(metavar="[STATION|SETTING ...]", help="Only these; default: everything.")
    ] = None,
    port: Annotated[str | None, typer.Option(help="Port of the board: kept, saved and read back there, too.")] = None,
    scenario: ScenarioOption = None,
    yes: Annotated[bool, typer.Option("--yes", help="Answer the question with yes.")] = False,
    as_json: JsonOption = False,
) -> None:
    """Go back to settings as they were at a moment. What becomes stale by it is shown, then it asks. Without --port
    only the machine file changes; the station “write to board” shows what the board still holds.
    """
    from ublet.session.past import moment_of
    from ublet.session.record import Offline, restoration_lines
    from ublet.session.restoring import restoration, restore_file, restore_on_port, restore_on_scenario

    with friendly_errors():
        offline = Offline(file)
        try:
            planned = restoration(offline, moment_of(offline.ledger, entry), wanted or (), not (port or scenario))
        finally:
            offline.close()
        for line in restoration_lines(planned):
            say(f"{'' if line.head else '    '}{line.words}", err=as_json)
        if planned.values:
            if not yes and not sys.stdin.isatty():
                raise stop(USAGE, "nothing was written: answer on a terminal, or give --yes")
            if not yes and not typer.confirm("Restore these settings?", default=False, err=as_json):
                raise stop(NO, "nothing was written")
            if port is not None:
                asyncio.run(restore_on_port(file, planned, port))
            elif scenario is not None:
                restore_on_scenario(scenario, file, planned)
            else:
                restore_file(file, planned)
            where = (
                "on the board and in the machine file"
                if port or scenario
                else f"in {file.name}; its board still holds its own until it is written"
            )
            say(f"{len(planned.values)} settings restored {where}", err=as_json)
    if as_json:
        print_json(planned.as_json())


PaperOption = Annotated[str, typer.Option(help="a4 or letter.")]


@app.command(rich_help_panel=RECORD, short_help="The machine's report: PDF, SVG, text, JSON.")
def report(
    file: Path,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="FILE.pdf, .svg, .txt or .json")] = None,
    paper: PaperOption = "a4",
) -> None:
    """The commissioning report: state of every station, findings drawn, what is open and stale, what differs from the
    file that it began as. It names no paths, ports or people.
    """
    from ublet.session.machine_report import report_of, write_report
    from ublet.session.session import beside_ledger

    target = out or Path(f"{file.stem}-report.pdf")
    with friendly_errors(), beside_ledger(file) as session:
        if session is None:
            raise stop(USAGE, f"{file} has no ledger yet: nothing was done on this machine")
        written = write_report(report_of(session), target, paper)
    say("\n".join(str(path) for path in written))


@app.command(rich_help_panel=RECORD, short_help="Enter what happened at the machine.")
def fact(
    file: Path,
    name: Annotated[str | None, typer.Argument(help="What it is about: nozzle, surface, belt.x ...")] = None,
    value: Annotated[str | None, typer.Argument(help="What happened, in words; default: the usual value.")] = None,
    as_json: JsonOption = False,
) -> None:
    """Enter what happened at the machine (nozzle changed, belt tightened, ...); lists what it makes stale."""
    from dataclasses import asdict

    from ublet.core.facts import fact_from, paths
    from ublet.session.record import Offline, about_words, local_time

    with friendly_errors():
        offline = Offline(file)
        try:
            machine = offline.document.machine
            if name is None:
                in_force = offline.ledger.facts_in_force()
                if as_json:
                    known = {path: kind.words for path, kind in paths(machine).items()}
                    print_json({"facts": [asdict(fact) for fact in in_force], "known": known})
                    return
                for current_fact in in_force:
                    say(f"{local_time(current_fact.at)}  {current_fact.words}")
                say("known facts: " + ", ".join(paths(machine)))
                return
            wanted = fact_from(machine, name, value)
            affected = offline.made_stale(wanted)
            entered = offline.report_fact(wanted)
        finally:
            offline.close()
    if as_json:
        stale = [{"station": s, "trial": t, "subject": dict(about), "reason": why} for s, t, about, why in affected]
        print_json({"fact": asdict(entered), "stale": stale})
        return
    say(f"noted: {entered.words}")
    for station, trial, about, _ in affected:
        named = about_words(about)
        say(f"  stale now: {station}: {trial}{named}")
    if not affected:
        say("  nothing that was found rests on it")
