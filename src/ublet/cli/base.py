"""What every command shares: exit codes, trouble turned into sentences, a progress bar."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from ublet.core.printable import printable, printable_json
from ublet.core.trouble import Trouble

OPEN, DECLARE, RUN = "Open", "Declare a machine", "Run at a machine"
ANALYSE, RECORD, FIRMWARE = "Analyse recorded data", "Look back", "For firmware authors"
"""The panels of the help, by the job."""

PANELS = (OPEN, DECLARE, RUN, ANALYSE, RECORD, FIRMWARE)


class ByJob(TyperGroup):
    """Commands in the order of the panels they belong to."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Their names."""
        panel = {name: getattr(command, "rich_help_panel", "") for name, command in self.commands.items()}
        return sorted(self.commands, key=lambda name: PANELS.index(panel[name]))


app = typer.Typer(
    cls=ByJob,
    add_completion=True,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help="Brings a 3D printer's motion firmware to life: declare, prove, tune, save.",
)

GOOD, NO, USAGE, NO_LINK, HALTED, INTERRUPTED = 0, 1, 2, 3, 4, 130


def known_scenario(given: Path | None) -> Path | None:
    """A scenario's file; a name that is no file is that of a shipped one (heron-330, or heron)."""
    if given is None or given.exists():
        return given
    from ublet.session.library import scenario_named

    return scenario_named(str(given)) or given


ScenarioOption = Annotated[
    Path | None,
    typer.Option(help="Scenario, a file or a shipped one's name: simulate its board.", callback=known_scenario),
]
DialectOption = Annotated[
    str, typer.Option(metavar="FILE", help="Line language of the board: a dialect file, or a known one's name.")
]
WatchedOption = Annotated[bool, typer.Option("--watched", help="I stay at a board that does not switch off by itself.")]
JsonOption = Annotated[bool, typer.Option("--json", help="One JSON object on standard output.")]


def say(text: str, err: bool = False, end: str = "\n", flush: bool = False) -> None:
    """Print, on standard output or error: the one way that a command writes for people. What a file, a board or an
    argument brought along to steer the terminal with is shown by its code.
    """
    print(printable(text, lines=True), end=end, flush=flush, file=sys.stderr if err else sys.stdout)


def stop(code: int, message: str) -> typer.Exit:
    """Say why on standard error; raise the result to end with a code."""
    if message:
        say(f"ublet: {message}", err=True)
    return typer.Exit(code)


@contextmanager
def friendly_errors() -> Iterator[None]:
    """Turn every expected trouble into a sentence and the contract's exit code."""
    try:
        yield
    except Trouble as error:
        raise stop(error.exit_code, str(error)) from error
    except BrokenPipeError:
        raise
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        raise stop(USAGE, f"{where}{error.strerror or error}") from error


class ProgressLine:
    """Where progress goes: a bar on a terminal's standard error, nowhere when piped."""

    def __init__(self) -> None:
        self._bar: Any = None
        self._task: Any = None
        if sys.stderr.isatty():
            from rich.console import Console
            from rich.progress import Progress as Bar

            self._bar = Bar(console=Console(stderr=True), transient=True)
            self._task = self._bar.add_task("starting", total=1.0)

    def __call__(self, progress: Any) -> None:
        """Show where a trial is."""
        if self._bar is not None:
            from rich.markup import escape

            words = escape(printable(f"{progress.phase} {progress.detail}"[:60]))
            self._bar.update(self._task, completed=progress.fraction, description=words)

    @contextmanager
    def shown(self) -> Iterator[ProgressLine]:
        """The bar stands while the block runs."""
        if self._bar is None:
            yield self
            return
        with self._bar:
            yield self

    @contextmanager
    def aside(self) -> Iterator[None]:
        """The bar rests while something else is written."""
        if self._bar is not None:
            self._bar.stop()
        try:
            yield
        finally:
            if self._bar is not None:
                self._bar.start()


def progress() -> AbstractContextManager[ProgressLine]:
    """A progress bar on a terminal's standard error; nothing when piped."""
    return ProgressLine().shown()


def print_json(report: Any, indent: int | None = None) -> None:
    """One JSON object on standard output: what is no finite number is null there, since JSON has none."""
    plain = "utf" not in (sys.stdout.encoding or "").lower()
    text = json.dumps(finite(report), ensure_ascii=plain, allow_nan=False, indent=indent)
    print(printable_json(text))


def finite(value: Any) -> Any:
    """The same with null for every number that is not finite."""
    if isinstance(value, dict):
        return {key: finite(element) for key, element in value.items()}
    if isinstance(value, (list, tuple)):
        return [finite(element) for element in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value
