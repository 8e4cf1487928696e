"""The command that writes patterns to print."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from ublet.cli.base import GOOD, USAGE, app, stop, told


@app.command()
def pattern(
    kind: str,
    machine: Annotated[Path | None, typer.Option(help="Machine file.")] = None,
    scenario: Annotated[Path | None, typer.Option(help="Scenario file: the machine file that goes with it.")] = None,
    out: Annotated[Path | None, typer.Option("--out", "-o", help="OUT.gcode, OUT.svg or OUT.pdf.")] = None,
) -> None:
    """Write a pattern as an ISO 6983 program, or draw it: KIND is square (a square with a purge line)."""
    from ublet.core.motion.iso6983 import iso6983
    from ublet.core.units import duration, show
    from ublet.session.document import Document
    from ublet.session.patterns import made, write
    from ublet.world.scenario import load_scenario

    if (machine is None) == (scenario is None):
        raise stop(USAGE, "give one of --machine FILE and --scenario FILE|NAME")
    with told():
        if machine is None:
            assert scenario is not None
            machine = scenario.parent / load_scenario(scenario).scenario.machine_file
        document = Document(machine)
        table = made(kind, document)
        if out is not None:
            write(table, document.machine, out)
        else:
            print(iso6983(table.program, document.machine.program.own()), end="")
    program = table.program
    pushed = show(program.filament_mm, "mm", 3)
    print(f"{program.name}: {program.note}; about {duration(table.seconds)}, {pushed} of filament", file=sys.stderr)
    for setting, count in table.capped.items():
        print(f"  slower than asked for in {count} segments: {setting}", file=sys.stderr)
    raise typer.Exit(GOOD)
