"""The command that exports what other programs must know of a machine."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ublet.cli.base import GOOD, RUN, USAGE, JsonOption, app, friendly_errors, print_json, say, stop

KINDS = ("print-settings",)


@app.command(rich_help_panel=RUN, short_help="What the program that makes prints must know.")
def export(
    kind: str,
    file: Path,
    out: Annotated[Path | None, typer.Option("--out", "-o", help="Write it there instead of printing it.")] = None,
    as_json: JsonOption = False,
) -> None:
    """Export what another program must know of a machine.

    KIND is print-settings: nozzle, filament, limits, temperatures, retraction, how a print begins and
    ends, with what is not proven yet marked.
    """
    from ublet.session.document import Document
    from ublet.session.print_settings import settings_json, settings_text
    from ublet.session.session import beside_ledger

    if kind not in KINDS:
        raise stop(USAGE, f"no export “{kind}”: allowed: {', '.join(KINDS)}")
    with friendly_errors():
        document = Document(file)
        with beside_ledger(file) as session:
            if as_json:
                print_json(settings_json(document, session))
                raise typer.Exit(GOOD)
            text = settings_text(document, session)
        if out is None:
            say(text, end="")
        else:
            out.write_text(text, encoding="utf-8")
            say(f"{out} written", err=True)
    raise typer.Exit(GOOD)
