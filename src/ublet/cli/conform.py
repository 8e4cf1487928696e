"""The command that checks how far a board keeps to the line protocol."""

from __future__ import annotations

import asyncio
from dataclasses import asdict
from typing import Annotated

import typer

from ublet.cli.base import (
    FIRMWARE,
    GOOD,
    NO,
    JsonOption,
    app,
    friendly_errors,
    print_json,
    say,
)

BAUD = 250_000


@app.command(rich_help_panel=FIRMWARE, short_help="Check a board against the protocol.")
def conform(
    port: Annotated[str, typer.Option(help="Serial port, or socket://HOST:PORT.")],
    baud: Annotated[int, typer.Option(help="Speed of the line.")] = BAUD,
    as_json: JsonOption = False,
) -> None:
    """Check a board against docs/protocol.md, clause by clause; for firmware authors.

    It warms a heater for a few seconds and turns a motor by up to 10 mm: a hand on the power switch.
    """
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
