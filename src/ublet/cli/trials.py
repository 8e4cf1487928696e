"""Commands about trials: list, run, figures."""

from __future__ import annotations

import asyncio
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from ublet.cli.base import (
    ANALYSE,
    GOOD,
    HALTED,
    INTERRUPTED,
    NO,
    NO_LINK,
    RUN,
    USAGE,
    DialectOption,
    JsonOption,
    ScenarioOption,
    WatchedOption,
    app,
    friendly_errors,
    print_json,
    progress,
    say,
    stop,
)

if TYPE_CHECKING:
    from ublet.session.session import Session


@app.command(rich_help_panel=RUN, short_help="Trials, with their parameters.")
def trials(as_json: JsonOption = False) -> None:
    """What can be run, with parameters."""
    from ublet.core.catalogue import TRIALS

    listed = [
        {
            "trial": spec.name,
            "station": spec.station,
            "summary": spec.summary,
            "streams": [
                {"name": stream.name, "columns": stream.columns, "units": stream.units, "rate_hz": stream.rate_hz}
                for stream in spec.streams
            ],
            "parameters": [
                {"name": p.path, "allowed": p.allowed(), "default": p.default, "unit": p.unit, "help": p.help}
                for p in spec.declared()
            ],
        }
        for spec in TRIALS.values()
    ]
    if as_json:
        print_json({"trials": listed})
        return
    for spec in TRIALS.values():
        say(f"{spec.name}: {spec.summary}")
        for p in spec.declared():
            say(f"    {p.path} = {p.default}  ({p.allowed()})  {p.help}")


def _names(begun: str) -> list[str]:
    """The trials that begin so, for the shell's completion."""
    from ublet.core.catalogue import TRIALS

    return [name for name in TRIALS if name.startswith(begun)]


@app.command(rich_help_panel=RUN, short_help="Run a trial headless, on a board or scenario.")
def run(
    trial: Annotated[str, typer.Argument(autocompletion=_names)],
    machine: Annotated[Path | None, typer.Option(help="Machine file.")] = None,
    port: Annotated[str | None, typer.Option(help="Port of the board.")] = None,
    scenario: ScenarioOption = None,
    settings: Annotated[list[str] | None, typer.Option("--set", metavar="KEY=VALUE")] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Write the proposal to the board and check it.")] = False,
    save: Annotated[bool, typer.Option("--save", help="Save what was kept and checked.")] = False,
    seed: Annotated[int, typer.Option(min=0)] = 1,
    answers: Annotated[Path | None, typer.Option(help="Answers to its questions, one a line (with --port).")] = None,
    same_machine: Annotated[
        bool,
        typer.Option("--same-machine", help="The board's machine has another name than the file’s: accept it."),
    ] = False,
    go_on: Annotated[bool, typer.Option("--go-on", help="Resume a run that was cut off.")] = False,
    dialect: DialectOption = "",
    watched: WatchedOption = False,
    as_json: JsonOption = False,
) -> None:
    """Run a trial headless, on a board or on a scenario."""
    from ublet.session.answers import AnswerFile, Answering, Nobody, TerminalBuilder, there_is_a_terminal
    from ublet.session.dialects import dialect_named
    from ublet.session.headless import Done, run_on_port, run_on_scenario
    from ublet.session.interrupts import Interrupted
    from ublet.session.orders import order_for

    if (scenario is None) == (port is None) or (port is not None and machine is None):
        raise stop(USAGE, "name either --scenario FILE, or --machine FILE with --port URL")
    with friendly_errors(), progress() as on_progress:
        order = replace(order_for(trial, settings or [], keep, save), go_on=go_on)
        language = dialect_named(dialect, (machine or scenario or Path()).parent) if dialect else None
        try:
            if scenario is not None:
                done: Done = run_on_scenario(order, scenario, machine, seed, on_progress, language)
            else:
                assert machine is not None and port is not None
                answering: Answering = AnswerFile(answers) if answers is not None else Nobody()
                if answers is None and there_is_a_terminal():
                    answering = TerminalBuilder(on_progress.aside)
                done = asyncio.run(
                    run_on_port(order, machine, port, on_progress, answering, same_machine, language, watched)
                )
        except Interrupted as error:
            raise stop(INTERRUPTED, str(error)) from None
        except KeyboardInterrupt:
            raise stop(INTERRUPTED, "interrupted; nothing real was heated or moved") from None
    if as_json:
        print_json(done.report)
    else:
        _print_report(done.report)
    if done.lost:
        raise typer.Exit(NO_LINK)
    raise typer.Exit({"proven": GOOD, "failed": NO, "halted": HALTED}[done.outcome])


@app.command(rich_help_panel=RUN, short_help="The whole route, headless, on a scenario.")
def commission(
    scenario: ScenarioOption = None,
    seed: Annotated[int, typer.Option(min=0)] = 1,
    machine: Annotated[
        Path | None, typer.Option(help="Where the machine file is left, with its ledger; it may be there already.")
    ] = None,
    report: Annotated[Path | None, typer.Option(metavar="OUT.pdf", help="Write the commissioning report.")] = None,
    until: Annotated[str, typer.Option(metavar="STATION", help="Stop before this station.")] = "",
    dialect: DialectOption = "",
    as_json: JsonOption = False,
) -> None:
    """The whole route, answered by the scenario's scripted builder: what was found beside the truth, what was mended,
    and the quality that the machine reached.
    """
    from ublet.core.route import ROUTE
    from ublet.session.commissioning import commission as walk
    from ublet.session.dialects import dialect_named
    from ublet.session.machine_report import report_of, write_report

    if scenario is None:
        raise stop(USAGE, "name --scenario FILE, or a shipped one: --scenario tern")
    if machine is not None and machine.exists() and machine.with_suffix(".ledger").exists():
        raise stop(USAGE, f"{machine.with_suffix('.ledger')} is there: name another --machine, or move it away")
    if report is not None and report.suffix.lower() not in (".pdf", ".svg", ".txt", ".json"):
        raise stop(USAGE, f"--report {report}: a report is written as .pdf, .svg, .txt or .json")

    if until and until not in (names := [station.name for station in ROUTE]):
        raise stop(USAGE, f"--until {until}: no such station; allowed: {', '.join(names)}")

    def writing(session: Session) -> None:
        if report is not None:
            write_report(report_of(session), report, "a4")

    with friendly_errors(), progress() as on_progress:
        try:
            language = dialect_named(dialect, scenario.parent) if dialect else None
            done = walk(scenario, seed, on_progress, machine, writing, until, language)
        except KeyboardInterrupt:
            raise stop(INTERRUPTED, "interrupted; nothing real was heated or moved") from None
    if as_json:
        print_json(done)
    else:
        _print_commissioned(done)
    raise typer.Exit(GOOD if done["outcome"] == "commissioned" else NO)


def _print_commissioned(done: dict[str, Any]) -> None:
    from ublet.core.typed import shown_value
    from ublet.core.units import duration, show, with_uncertainty

    say(f"{done['scenario']}: {done['outcome']}. {done['why']}")
    for row in done["stations"]:
        rounds = f", {row['rounds']} rounds" if row["rounds"] > 1 else ""
        say(f"{row['station']}, {row['trial']}: {row['outcome']}{rounds}, {duration(row['machine_s'])}")
        for finding in row["findings"]:
            if finding["truth"] is not None:
                value = with_uncertainty(finding["value"], finding["uncertainty"] or 0.0, finding["unit"])
                say(f"    {finding['id']:34} {value:24} true {show(finding['truth'], finding['unit'])}")
    say("mended")
    for change in done["mended"]:
        what = change.get("setting") or f"by hand: {change['hand']}"
        say(f"  {what}: {shown_value(change['before'], 4)} → {shown_value(change['after'], 4)}")
    say("the quality that it reached")
    for name, value in done["quality"].items():
        say(f"  {name:22} {'not known' if value is None else f'{value:.4g}'}")
    say(f"{duration(done['machine_s'])} of the machine's time, {done['wall_s']:.0f} s of computing")


def _print_report(report: dict[str, Any]) -> None:
    from ublet.core.typed import shown_value
    from ublet.core.units import duration, show, with_uncertainty

    say(f"{report['trial']}: {report['outcome']}. {report['why']}")
    for finding in report["findings"]:
        value = with_uncertainty(finding["value"], finding["uncertainty"] or 0.0, finding["unit"])
        limit = f"   (limit {show(finding['limit'], finding['unit'])})" if finding["limit"] is not None else ""
        say(f"    {finding['name']:30} {value}{limit}")
    for change in report["proposals"]:
        after = f"{shown_value(change['after'], 4)} {change['unit']}".strip()
        say(f"  → {change['setting']}: {shown_value(change['before'], 4)} → {after}   {change['effect']}")
    say(f"  took {duration(report['duration_s'])} of the machine's time")
    if report.get("kept"):
        say("  kept: live on the board")
    if "verify" in report:
        _print_report(report["verify"])
    if "saved" in report:
        say(f"  saved: {report['saved']} settings to the board's store and the machine file")


@app.command(rich_help_panel=ANALYSE, short_help="Draw a figure of a machine.")
def figure(
    kind: str,
    file: Path,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="FILE.svg or FILE.pdf")] = None,
) -> None:
    """Draw a figure of a machine; KIND is heat (the newest record in its ledger) or wiring."""
    from ublet.ledger.book import Ledger
    from ublet.session.document import Document
    from ublet.session.export import HEATED, draw_heat_entry, draw_wiring_of
    from ublet.session.session import ledger_path

    if kind not in ("heat", "wiring"):
        raise stop(USAGE, f"figure {kind}: allowed: heat, wiring")
    target = out or Path(f"{file.stem}-{kind}.svg")
    with friendly_errors():
        try:
            if kind == "wiring":
                document = Document(file)
                draw_wiring_of(document.machine.model_dump(), document.board, file.name, target)
            else:
                path = ledger_path(file)
                if not path.exists():
                    raise stop(USAGE, f"{path} is not there: run hotend-control first")
                book = Ledger(path)
                recorded = next(((e, s) for e in book.runs() if HEATED & set(s := book.streams(e.id))), None)
                if recorded is None:
                    raise stop(NO, f"{path} has no heat record yet")
                draw_heat_entry(*recorded, target)
                book.close()
        except ValueError as error:
            raise stop(USAGE, str(error)) from error
    say(str(target))
