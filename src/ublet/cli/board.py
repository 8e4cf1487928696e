"""Commands about boards: the simulated one, the known kinds, writing an image; and the benchmark."""

from __future__ import annotations

import asyncio
import os
import signal
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, cast

import typer

from ublet.cli.base import (
    DECLARE,
    FIRMWARE,
    GOOD,
    INTERRUPTED,
    NO,
    RUN,
    USAGE,
    DialectOption,
    JsonOption,
    app,
    friendly_errors,
    print_json,
    progress,
    say,
    stop,
)

if TYPE_CHECKING:
    from ublet.session.layers import Settling


@app.command(rich_help_panel=FIRMWARE, short_help="Run the simulated board.")
def board(
    scenario: Annotated[Path, typer.Option(help="Scenario file.")],
    listen: Annotated[str, typer.Option(help="pty, pty:LINK or tcp:HOST:PORT.")] = "pty",
    speed: Annotated[float, typer.Option(min=0.1, max=100, help="Clock, times real time.")] = 1.0,
    seed: Annotated[int, typer.Option(min=0, help="Seed of all noise.")] = 1,
    store: Annotated[Path | None, typer.Option(help="File that keeps the board's stored settings.")] = None,
    dialect: DialectOption = "",
    until_stdin_closes: Annotated[bool, typer.Option(hidden=True)] = False,
    world: Annotated[Path | None, typer.Option(hidden=True)] = None,
) -> None:
    """The simulated board; prints one JSON line when it is ready."""
    import time

    from ublet.firmware.server import announce, serve
    from ublet.session.dialects import dialect_named
    from ublet.session.document import Document
    from ublet.simulated import SimulatedMachine
    from ublet.world.hands import serve_world
    from ublet.world.scenario import load_scenario

    with friendly_errors():
        truth = load_scenario(scenario)
        machine = Document(scenario.parent / truth.scenario.machine_file).machine
        language = dialect_named(dialect, scenario.parent) if dialect else None
        simulated = SimulatedMachine(truth, machine, time.monotonic, store, speed, seed, language)

        stored = simulated.board.layers.store
        for line in stored.refused:
            say(f"ublet: not taken from the store: {line}", err=True)
        if stored.refused:
            say(f"ublet: the rest is kept; the file as it was stands beside it as {stored.path}.refused", err=True)

        async def work() -> None:
            serving = asyncio.ensure_future(
                serve(
                    simulated.service, listen, speed, lambda url: say(announce(url, truth.scenario.board), flush=True)
                )
            )
            around = await serve_world(simulated.hands, world) if world else None
            asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, serving.cancel)
            if until_stdin_closes:
                asyncio.get_running_loop().add_reader(
                    sys.stdin.fileno(), lambda: os.read(sys.stdin.fileno(), 1) or serving.cancel()
                )
            try:
                await serving
            finally:
                if around is not None and world is not None:
                    around.close()
                    world.unlink(missing_ok=True)

        try:
            asyncio.run(work())
        except (KeyboardInterrupt, asyncio.CancelledError):
            raise typer.Exit(GOOD) from None


@app.command(rich_help_panel=FIRMWARE, short_help="Speed and accuracy, against limits.")
def bench(
    quick: Annotated[bool, typer.Option("--quick", help="Fewer repetitions.")] = False,
    part: Annotated[list[str] | None, typer.Option(help="Only this part; may be given several times.")] = None,
    as_json: JsonOption = False,
) -> None:
    """Measure speed and accuracy, beside plain references and limits, and list what fell short."""
    from ublet.benchmark.every_figure import measure, table_of

    with friendly_errors():
        figures = measure(quick, part or ())
    if as_json:
        print_json(figures, indent=1)
        return
    for line in table_of(figures):
        say(line)


@app.command(rich_help_panel=DECLARE, short_help="Known kinds of board.")
def boards(as_json: JsonOption = False) -> None:
    """The known kinds of board; put files of your own into `boards` beside a machine file, or into your data folder."""
    from ublet.core.machine.boards import KINDS
    from ublet.session.library import boards_for, own_boards

    with friendly_errors():
        known = boards_for(Path())
    for words in getattr(known, "broken", {}).values():
        say(f"ublet: left out: {words}", err=True)
    if as_json:
        print_json({"boards": [kind.model_dump() for kind in known.values()]})
        return
    for kind in known.values():
        counts = ", ".join(f"{len(kind.of_kind(k))} {k}" for k in KINDS if kind.of_kind(k))
        say(f"{kind.name:12} {kind.slot_bytes:>8,} bytes a slot   sockets: {counts}")
    say(f"your own are looked for in {own_boards()} and in boards/ beside a machine file")


@app.command(rich_help_panel=RUN, short_help="Write the image to a board, and verify it.")
def write(
    file: Path,
    port: Annotated[str, typer.Option(help="Serial port, or socket://HOST:PORT.")],
    settle: Annotated[str | None, typer.Option(help="Settle every shadow afterwards: file, stored or adopt.")] = None,
    dry: Annotated[bool, typer.Option("--dry-run", help="Only say what would change.")] = False,
    as_json: JsonOption = False,
) -> None:
    """Write the image of a machine file to a board: upload, verify, switch; then say what is shadowed, or settle it."""
    from ublet.core.typed import shown_value
    from ublet.session.headless import write_on_port
    from ublet.session.interrupts import Interrupted

    settling = cast("Settling | None", settle)
    if settle not in (None, "file", "stored", "adopt"):
        raise stop(USAGE, f"--settle {settle}: allowed: file, stored, adopt")
    with friendly_errors(), progress() as on_progress:
        try:
            report = asyncio.run(write_on_port(file, port, settling, dry, on_progress))
        except Interrupted as error:
            raise stop(
                INTERRUPTED, f"{error}; which image the board runs now is shown by ublet write --dry-run"
            ) from None
    if as_json:
        print_json(report)
    else:
        for change in report["changes"]:
            say(f"{change['path']:40} {shown_value(change['before'])} → {shown_value(change['after'])}")
        say(report["why"])
        for row in report["shadowed"]:
            stored, file_says = shown_value(row["stored"]), shown_value(row["file"])
            say(f"shadowed: {row['path']}: the board's store says {stored}, the file {file_says}")
    raise typer.Exit(NO if report["refused"] or (report["shadowed"] and not dry) else GOOD)


@app.command(rich_help_panel=RUN, short_help="Serial ports; --watch names the board's.")
def ports(
    watch: Annotated[
        bool, typer.Option("--watch", help="Report each port that appears or disappears, until interrupted.")
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """The serial ports of this computer; with --watch unplug the board and plug it in again: the one is named."""
    import time
    from dataclasses import asdict

    from ublet.link.ports import PortWatch, list_ports

    serial_ports = list_ports()
    if as_json:
        print_json({"ports": [asdict(port) for port in serial_ports]})
    else:
        for port in serial_ports:
            say(f"{port.device:24} {port.about}{f'   {port.trouble}' if port.trouble else ''}".rstrip())
        if not serial_ports:
            say("no serial port: is the board plugged in, and does its cable carry data?")
    if not watch:
        return
    say("watching: unplug the board, wait a moment, plug it in again (ctrl+c ends)", err=True)
    looking = PortWatch(serial_ports)
    try:
        while True:
            time.sleep(0.3)
            for line in looking.look(list_ports()):
                say(line, flush=True)
    except KeyboardInterrupt:
        raise typer.Exit(INTERRUPTED) from None
