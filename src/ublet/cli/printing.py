"""The command that prints a text of one's own, or only reads, checks and times it."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Annotated, Any

import typer

from ublet.cli.base import (
    GOOD,
    HALTED,
    INTERRUPTED,
    NO,
    NO_LINK,
    RUN,
    USAGE,
    JsonOption,
    ScenarioOption,
    app,
    friendly_errors,
    print_json,
    progress,
    say,
    stop,
)


@app.command("print", rich_help_panel=RUN, short_help="Print a text of ISO 6983, or check it (--dry).")
def print_text(
    file: Path,
    machine: Annotated[Path | None, typer.Option(help="Machine file.")] = None,
    port: Annotated[str | None, typer.Option(help="Port of the board.")] = None,
    scenario: ScenarioOption = None,
    material: Annotated[str, typer.Option(help="Material that is loaded; left out: the first.")] = "",
    dry: Annotated[bool, typer.Option("--dry", help="Read, check and time it; nothing moves.")] = False,
    out: Annotated[Path | None, typer.Option("--out", "-o", help="Draw its first layer: OUT.svg or OUT.pdf.")] = None,
    layer: Annotated[int, typer.Option(min=1, help="Which layer -o draws.")] = 1,
    seed: Annotated[int, typer.Option(min=0)] = 1,
    answers: Annotated[Path | None, typer.Option(help="Answers to its questions, one a line (with --port).")] = None,
    as_json: JsonOption = False,
) -> None:
    """Read a text of ISO 6983 whole, check it and time it for a machine; then print it, unless --dry.

    Named by line is what lies outside the limits, is pushed faster than the material melts or colder than
    it may be, or cannot be read (exit code 1). Words that the standard does not have are counted and left
    out, unless the table program.words of the machine file says what they do.
    """
    if scenario is None and machine is None:
        raise stop(USAGE, "name either --scenario FILE, or --machine FILE (with --port URL to print)")
    if not dry and scenario is None and port is None:
        raise stop(USAGE, "to print it name the board with --port URL; to check it only, add --dry")
    with friendly_errors(), progress() as on_progress:
        if dry:
            raise typer.Exit(_check(file, scenario, machine, material, out, layer, as_json, on_progress))
        report = _printed(file, scenario, machine, port, material, seed, answers, on_progress)
    if as_json:
        print_json(report.report)
    else:
        say(f"{report.report['outcome']}. {report.report['why']}")
    if report.lost:
        raise typer.Exit(NO_LINK)
    raise typer.Exit({"proven": GOOD, "failed": NO, "halted": HALTED}[report.outcome])


def _check(
    file: Path,
    scenario: Path | None,
    machine: Path | None,
    material: str,
    out: Path | None,
    layer: int,
    as_json: bool,
    on_progress: Any,
) -> int:
    from ublet.core.run import Progress
    from ublet.session.document import Document
    from ublet.session.printing import draw_layer, plan_for_file, print_report, print_words
    from ublet.world.scenario import load_scenario

    if machine is None:
        assert scenario is not None
        machine = scenario.parent / load_scenario(scenario).scenario.machine_file
    document = Document(machine)

    def read(fraction: float) -> None:
        on_progress(Progress("reading", fraction, None, file.name))

    plan = plan_for_file(file, document.machine, document.board.steps_per_s, material, read)
    if out is not None:
        draw_layer(plan, layer, document.machine, out)
    if as_json:
        print_json(print_report(plan))
    else:
        for line in print_words(plan):
            say(line)
    return GOOD if plan.fits else NO


def _printed(
    file: Path,
    scenario: Path | None,
    machine: Path | None,
    port: str | None,
    material: str,
    seed: int,
    answers: Path | None,
    on_progress: Any,
) -> Any:
    from dataclasses import replace

    from ublet.core.extrude.own_print_trials import OwnPrintParameters
    from ublet.session.answers import AnswerFile, Answering, Nobody, TerminalBuilder, there_is_a_terminal
    from ublet.session.headless import run_on_port, run_on_scenario
    from ublet.session.interrupts import Interrupted
    from ublet.session.orders import order_for

    parameters = OwnPrintParameters(file=str(file.resolve()), material=material)
    order = replace(order_for("own-print", [], False, False), parameters=parameters)
    try:
        if scenario is not None:
            return run_on_scenario(order, scenario, machine, seed, on_progress)
        assert machine is not None and port is not None
        answering: Answering = AnswerFile(answers) if answers is not None else Nobody()
        if answers is None and there_is_a_terminal():
            answering = TerminalBuilder(on_progress.aside)
        return asyncio.run(run_on_port(order, machine, port, on_progress, answering))
    except Interrupted as error:
        raise stop(INTERRUPTED, str(error)) from None
    except KeyboardInterrupt:
        raise stop(INTERRUPTED, "interrupted; nothing real was heated or moved") from None
