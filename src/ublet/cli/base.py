"""What every command shares: exit codes, trouble turned into sentences, a progress bar."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from ublet.core.trouble import Trouble

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help="Brings a 3D printer's motion firmware to life: declare, prove, tune, save.",
)

GOOD, NO, USAGE, NO_LINK, HALTED, INTERRUPTED = 0, 1, 2, 3, 4, 130

ScenarioOption = Annotated[Path | None, typer.Option(help="Scenario: simulate this machine's board.")]
JsonOption = Annotated[bool, typer.Option("--json", help="One JSON object on standard output.")]


def stop(code: int, message: str) -> typer.Exit:
    """Say why on standard error; raise the result to end with a code."""
    if message:
        print(f"ublet: {message}", file=sys.stderr)
    return typer.Exit(code)


@contextmanager
def told() -> Iterator[None]:
    """Turn every expected trouble into a sentence and the contract's exit code."""
    try:
        yield
    except Trouble as error:
        raise stop(error.exit_code, str(error)) from error
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        raise stop(USAGE, f"{where}{error.strerror or error}") from error


@contextmanager
def progress() -> Iterator[Callable[[Any], None]]:
    """A progress bar on a terminal's standard error; nothing when piped."""
    if not sys.stderr.isatty():
        yield lambda progress: None
        return
    from rich.console import Console
    from rich.progress import Progress as Bar

    with Bar(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("starting", total=1.0)
        yield lambda p: bar.update(task, completed=p.share, description=f"{p.phase} {p.detail}"[:60])
