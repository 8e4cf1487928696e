"""The command that checks how far a board keeps to the line protocol."""

from __future__ import annotations

import asyncio
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer

from ublet.cli.base import (
    FIRMWARE,
    GOOD,
    NO,
    USAGE,
    DialectOption,
    JsonOption,
    app,
    friendly_errors,
    print_json,
    say,
    stop,
)
from ublet.cli.dialect import go_through

BAUD = 250_000


@app.command(rich_help_panel=FIRMWARE, short_help="Check a board against the protocol.")
def conform(
    port: Annotated[str, typer.Option(help="Serial port, or socket://HOST:PORT.")],
    baud: Annotated[int, typer.Option(help="Speed of the line.")] = BAUD,
    dialect: DialectOption = "",
    machine: Annotated[Path | None, typer.Option(help="With --dialect: the machine file of this board.")] = None,
    as_json: JsonOption = False,
) -> None:
    """Check a board against docs/protocol.md, clause by clause; for firmware authors.

    It warms a heater for a few seconds and turns a motor by up to 10 mm: a hand on the power switch. With --dialect the
    board is checked against that file instead: what it asks, refuses, moves, heats, halts, and does in a silence.
    """
    if dialect:
        if machine is None:
            raise stop(USAGE, "--dialect needs --machine FILE: a language speaks of a machine's parts")
        go_through(dialect, port, machine, True, True, baud, as_json)
    from ublet.core.trouble import NoLink
    from ublet.link.bare import Silent
    from ublet.link.conformance import ClauseVerdict, conform
    from ublet.link.transport import open_transport

    async def work() -> list[ClauseVerdict]:
        transport = await open_transport(port, baud)
        try:
            return await conform(transport)
        except Silent as error:
            raise NoLink(f"{port}: {error}: nothing there speaks the protocol") from error
        finally:
            transport.close()

    with friendly_errors():
        verdicts = asyncio.run(work())
    broken = [verdict for verdict in verdicts if verdict.holds is False]
    if as_json:
        print_json({"port": port, "conforms": not broken, "clauses": [asdict(verdict) for verdict in verdicts]})
    else:
        for verdict in verdicts:
            glyph = {True: "✓", False: "✗", None: "–"}[verdict.holds]
            say(f"{glyph} {verdict.clause:5} {verdict.words}")
            if verdict.why:
                say(f"        {'broken' if verdict.holds is False else 'not checked'}: {verdict.why}")
        kept = sum(1 for verdict in verdicts if verdict.holds)
        say(f"{kept} of {len(verdicts)} clauses kept")
    raise typer.Exit(NO if broken else GOOD)
