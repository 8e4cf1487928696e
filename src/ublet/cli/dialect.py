"""Commands about line languages: the known ones, a file checked, a file tried at a board, the raw dialogue."""

from __future__ import annotations

import asyncio
import sys
from pathlib import Path
from typing import Annotated

import typer

from ublet.cli.base import (
    FIRMWARE,
    GOOD,
    INTERRUPTED,
    NO,
    DialectOption,
    JsonOption,
    app,
    friendly_errors,
    print_json,
    say,
)

BAUD = 115_200
QUIET_S = 0.5
"""A reply to a line of a script is waited for until the board has said nothing for this long, s."""

dialect_app = typer.Typer(help="A line language of a board, described in a file.", no_args_is_help=True)
app.add_typer(dialect_app, name="dialect", rich_help_panel=FIRMWARE, short_help="Check a dialect file, or try it.")

PortOption = Annotated[str, typer.Option(help="Serial port, or socket://HOST:PORT.")]
OwnBaudOption = Annotated[int | None, typer.Option(help="Speed of the line; left out: the machine file's.")]
BaudOption = Annotated[int, typer.Option(help="Speed of the line.")]


@app.command(rich_help_panel=FIRMWARE, short_help="Known line languages of boards.")
def dialects(as_json: JsonOption = False) -> None:
    """The known line languages: shipped ones, those in your data folder, those in `dialects` beside a machine file."""
    from ublet.session.dialects import FOLDER, dialects_for
    from ublet.session.library import own_folder

    with friendly_errors():
        known = dialects_for(Path())
    if as_json:
        rows = [
            {
                "name": name,
                "path": str(one.path),
                "about": one.language.file.about if one.language is not None else "",
                "can": sorted(one.language.can()) if one.language is not None else [],
                "problems": [problem.sentence(str(one.path)) for problem in one.problems],
            }
            for name, one in known.items()
        ]
        print_json({"dialects": rows})
        return
    for name, one in known.items():
        say(f"{name:12} {one.language.file.about if one.language is not None else 'cannot be used: see dialect check'}")
    say(f"your own are looked for in {own_folder() / FOLDER} and in {FOLDER}/ beside a machine file")


@dialect_app.command("check", short_help="Every error of a dialect file.")
def check(file: Path, as_json: JsonOption = False) -> None:
    """All errors of a dialect file at once, and what a board with this language cannot do; exit code 1 with errors."""
    from dataclasses import asdict

    from ublet.session.dialects import looked_at

    with friendly_errors():
        one = looked_at(file)
    language = one.language
    if as_json:
        print_json(
            {
                "file": str(file),
                "errors": [asdict(problem) for problem in one.problems],
                "can": sorted(language.can()) if language is not None else [],
                "lacking": language.missing() if language is not None else {},
            }
        )
    elif language is None:
        say(one.sentences)
    else:
        say(f"{file}: {language.file.name}, {language.file.about}: no errors")
        for capability, missing in language.missing().items():
            say(f"  no {capability}: not described: {', '.join(missing)}")
    raise typer.Exit(NO if language is None else GOOD)


@dialect_app.command("try", short_help="Go through a dialect at a board.")
def try_(
    file: Annotated[str, typer.Argument(help="A dialect file, or a known one's name.")],
    port: PortOption,
    machine: Annotated[
        Path | None, typer.Option(help="Machine file: its heaters, axes and settings are tried.")
    ] = None,
    moves: Annotated[bool, typer.Option("--moves", help="Move each axis by 1 mm and back.")] = False,
    heats: Annotated[bool, typer.Option("--heats", help="Warm a heater to 50 °C, then say nothing.")] = False,
    baud: OwnBaudOption = None,
    as_json: JsonOption = False,
) -> None:
    """Go through a dialect like a newcomer: first what only asks; with --moves and --heats what moves or warms a
    little. What was sent, what came, what was understood, what is missing, and which trials that takes away.
    """
    go_through(file, port, machine, moves, heats, baud, as_json)


def go_through(
    file: str, port: str, machine: Path | None, moves: bool, heats: bool, baud: int | None, as_json: bool
) -> None:
    """Go through a dialect at a board, and end the command; `conform --dialect` is the same with everything. baud: as
    the machine file says where it is left out.
    """
    from ublet.core.dialect.parts import MachineParts, parts_of
    from ublet.link.transport import open_transport
    from ublet.session.dialect_try import DialectTrial, TriedLine, try_dialect, words_for
    from ublet.session.dialects import dialect_named
    from ublet.session.document import Document

    def show(line: TriedLine) -> None:
        if not as_json:
            say(f"{'✓' if line.good else '✗'} {line.step}")
            for came in line.came:
                say(f"      < {came}")
            say(f"      {line.understood}", flush=True)

    async def work() -> DialectTrial:
        speed = baud or (declared.board.baud if declared is not None else BAUD)
        transport = await open_transport(port, speed)
        try:
            return await try_dialect(language, transport, parts, moves, heats, show)
        finally:
            transport.close()

    with friendly_errors():
        declared = Document(machine).machine if machine is not None else None
        language = dialect_named(file, machine.parent if machine is not None else Path())
        parts = parts_of(declared) if declared is not None else MachineParts({}, (), (), (), {})
        trial = asyncio.run(work())
    if as_json:
        print_json(trial.as_json(declared))
    else:
        for capability, missing in trial.lacking().items():
            say(f"– this board {words_for(capability)}: not described: {', '.join(missing)}")
        if lost := trial.taken_away(declared):
            say(f"– trials that this takes away: {', '.join(lost)}")
        if trial.lost:
            say(f"✗ {trial.lost}")
        say(f"{sum(line.good for line in trial.lines)} of {len(trial.lines)} as {language.file.name} says")
    raise typer.Exit(GOOD if trial.good else NO)


@app.command(rich_help_panel=FIRMWARE, short_help="The raw dialogue with a board.")
def talk(
    port: PortOption,
    dialect: DialectOption = "",
    baud: BaudOption = BAUD,
    transcript: Annotated[Path | None, typer.Option(help="Write what was said to a file.")] = None,
) -> None:
    """Lines to a board and back, as they are, with a history (arrow keys). With a dialect each line is numbered and
    summed as it says, and what came is shown as it was understood. An empty line only listens; ctrl+d ends.
    """
    from ublet.session.dialects import dialect_named
    from ublet.session.talking import RawTalk, talk_lines

    async def work() -> None:
        async with RawTalk(port, baud, language, transcript, say) as raw:
            await talk_lines(raw, sys.stdin, QUIET_S)

    with friendly_errors():
        language = dialect_named(dialect, Path()) if dialect else None
        try:
            asyncio.run(work())
        except KeyboardInterrupt:
            raise typer.Exit(INTERRUPTED) from None
