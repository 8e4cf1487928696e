"""Commands that open the full-screen app."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from ublet import __version__
from ublet.cli.base import (
    OPEN,
    USAGE,
    DialectOption,
    JsonOption,
    WatchedOption,
    app,
    friendly_errors,
    print_json,
    say,
)


def show_version(wanted: bool) -> None:
    """Print the version and end."""
    if wanted:
        say(f"ublet {__version__}")
        raise typer.Exit()


@app.callback(invoke_without_command=True)
def start(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", callback=show_version, help="Print the version.")] = False,
    verbose: Annotated[bool, typer.Option("--verbose", "-v", help="Log what happens to standard error.")] = False,
) -> None:
    """Open the last machine, or choose among several; with none yet, offer the demonstration."""
    if context.invoked_subcommand is not None:
        if verbose:
            from ublet.session.logbook import log_to

            log_to(sys.stderr)
        return
    from ublet.session.places import last_machine, recent_machines

    if len(recent_machines()) > 1 and sys.stdin.isatty() and sys.stdout.isatty():
        from ublet.tui.machines import MachinesApp

        chosen = MachinesApp().run()
        if chosen is not None:
            with friendly_errors():
                _open(*chosen)
        return
    recent = last_machine()
    if recent is not None:
        with friendly_errors():
            _open(recent.file, recent.port)
        return
    message = (
        "No machine has been opened yet.\n"
        "  ublet demo       a made-up machine with a simulated board, to look around\n"
        "  ublet new DIR    a commented machine file of your own to start from"
    )
    say(message)
    if not sys.stdin.isatty() or not sys.stdout.isatty():
        raise typer.Exit(USAGE)
    if typer.confirm("Open the demonstration now?", default=True):
        demo()


def _open(file: Path, port: str | None, dialect: str = "", watched: bool = False) -> None:
    """The full-screen app on a machine file."""
    from ublet.tui.app import run_app

    run_app(file, port, None, dialect, watched)


@app.command("open", rich_help_panel=OPEN, short_help="Full-screen bench on a machine file.")
def open_(
    file: Path,
    port: Annotated[str | None, typer.Option(help="Serial port, or socket://HOST:PORT.")] = None,
    dialect: DialectOption = "",
    watched: WatchedOption = False,
) -> None:
    """Full-screen bench on a machine file."""
    with friendly_errors():
        _open(file, port, dialect, watched)


@app.command(rich_help_panel=OPEN, short_help="Machines that you opened: state, what is next.")
def machines(
    forget_one: Annotated[
        Path | None, typer.Option("--forget", metavar="FILE", help="Take a machine off the list; its files stay.")
    ] = None,
    as_json: JsonOption = False,
) -> None:
    """The machines that were opened on this computer, the last one first."""
    from ublet.session.machines import known_machines
    from ublet.session.places import forget
    from ublet.session.record import local_time

    if forget_one is not None:
        forget(forget_one)
    known = known_machines()
    if as_json:
        print_json({"machines": [one.as_json() for one in known]})
        return
    for one in known:
        state = one.trouble or f"{one.proven} of {one.needed} proven, {one.stale} stale, next: {one.next}"
        say(f"{one.name:<20} {state}")
        moved = f"   (was {one.moved_from})" if one.moved_from else ""
        say(f"    {one.file}   {local_time(one.at) if one.at else ''}{moved}")
    if not known:
        say("none yet: ublet demo, or ublet new DIR")


READY = {"tern": "tern-ready"}
"""Demonstrations whose planted faults are left out in another file."""


@app.command(rich_help_panel=OPEN, short_help="Full-screen bench on a made-up machine.")
def demo(
    machine: Annotated[str, typer.Option(help="tern, wren, or tern-coil: Tern with a coil for a probe.")] = "tern",
    speed: Annotated[float, typer.Option(min=0.1, max=60, help="The board's clock, times real time.")] = 8.0,
    dir: Annotated[Path | None, typer.Option(help="Folder for the machine's files.")] = None,
    ready: Annotated[bool, typer.Option("--ready", help="Wired, declared and heated well already.")] = False,
) -> None:
    """Full-screen bench on a made-up machine with its simulated board."""
    import platformdirs

    from ublet.session.demo import start as start_demo
    from ublet.tui.app import run_app

    machine = READY.get(machine, machine) if ready else machine
    folder = dir or platformdirs.user_data_path("ublet") / f"demo-{machine}{'-ready' if ready else ''}"
    with friendly_errors():
        if ready:
            from ublet.session.demo import prepare
            from ublet.session.ready import make_ready

            file, scenario = prepare(machine, folder)
            make_ready(
                file, scenario, folder / "board-store.json", lambda words: say(f"making it ready, {words}", True)
            )
        running = start_demo(machine, folder, speed)
        try:
            run_app(running.machine, running.port, running)
        finally:
            running.close()
