"""The command that writes patterns to print."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ublet.cli.base import (
    GOOD,
    NO,
    RUN,
    USAGE,
    ScenarioOption,
    app,
    friendly_errors,
    say,
    stop,
)


@app.command(rich_help_panel=RUN, short_help="Print patterns and print starts, as programs.")
def pattern(
    kind: str,
    machine: Annotated[Path | None, typer.Option(help="Machine file.")] = None,
    scenario: ScenarioOption = None,
    material: Annotated[str, typer.Option(help="print-start: of which material; the first one when left out.")] = "",
    out: Annotated[Path | None, typer.Option("--out", "-o", help="OUT.gcode, OUT.svg or OUT.pdf.")] = None,
) -> None:
    """Write a pattern as an ISO 6983 program, or draw it.

    KIND is square (a square with a purge line), first-layer (patches in the corners and the middle),
    first-layer-stripe, ringing-tower (bands of rising acceleration whose walls show how the axes ring), advance-lines
    (pressure advance rising from line to line), advance-tower (rising with height), retraction (pairs of posts) or
    cube; print-start and print-end write how a print begins and ends on this machine, each step with its
    reason, and look through the programs that the machine file names (exit code 1: something is missing).
    """
    from ublet.core.motion.iso6983 import iso6983
    from ublet.core.units import duration, show
    from ublet.session.document import Document
    from ublet.session.patterns import made, write
    from ublet.session.print_order import END, START
    from ublet.world.scenario import load_scenario

    if (machine is None) == (scenario is None):
        raise stop(USAGE, "give one of --machine FILE and --scenario FILE|NAME")
    with friendly_errors():
        if machine is None:
            assert scenario is not None
            machine = scenario.parent / load_scenario(scenario).scenario.machine_file
        if kind in (START, END):
            raise typer.Exit(_print_order(kind, machine, material, out))
        document = Document(machine)
        table = made(kind, document)
        if out is not None:
            write(table, document.machine, out)
        else:
            say(iso6983(table.program, document.machine.program.own()), end="")
    program = table.program
    pushed = show(program.filament_mm, "mm", 3)
    say(f"{program.name}: {program.note}; about {duration(table.seconds)}, {pushed} of filament", err=True)
    for setting, count in table.capped.items():
        say(f"  slower than asked for in {count} segments: {setting}", err=True)
    raise typer.Exit(GOOD)


def _print_order(kind: str, machine: Path, material: str, out: Path | None) -> int:
    """Write one of both, with what the builder's own program misses on standard error; returns the exit code."""
    from ublet.session.document import Document
    from ublet.session.patterns import PatternError
    from ublet.session.print_order import missing, steps_of, written
    from ublet.session.session import beside_ledger

    document = Document(machine)
    known = document.machine.materials
    if material and material not in known:
        raise PatternError(f"no material “{material}” in {machine}: known: {', '.join(known) or 'none'}")
    with beside_ledger(machine) as session:
        steps = steps_of(document, kind, session, material)
    text = written(document, kind, steps)
    if out is None:
        say(text, end="")
    elif out.suffix.lower() != ".gcode":
        raise PatternError(f"-o {out.name}: it is written as .gcode")
    else:
        try:
            out.write_text(text, encoding="utf-8")
        except OSError as error:
            raise PatternError(f"{out} cannot be written: {error.strerror or error}") from error
    name, lacks = missing(document, kind, steps)
    for line in lacks:
        say(f"  {name}: {line}", err=True)
    return NO if lacks else GOOD
