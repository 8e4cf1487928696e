"""The command line: thin commands over the session."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from ublet import __version__
from ublet.core.trouble import Trouble

app = typer.Typer(add_completion=False, no_args_is_help=False, pretty_exceptions_enable=False, help=__doc__)

GOOD, NO, USAGE, NO_LINK, HALTED, INTERRUPTED = 0, 1, 2, 3, 4, 130

ScenarioOption = Annotated[Path | None, typer.Option(help="Scenario: simulate this machine's board.")]


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


def show_version(wanted: bool) -> None:
    """Print the version and end."""
    if wanted:
        print(f"ublet {__version__}")
        raise typer.Exit()


@app.callback(invoke_without_command=True)
def start(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", callback=show_version, help="Print the version.")] = False,
) -> None:
    """Open the last machine; with none yet, offer the demonstration."""
    if context.invoked_subcommand is not None:
        return
    from ublet.session.recent import last_machine

    recent = last_machine()
    if recent is not None:
        with told():
            _open(recent.file, recent.port)
        return
    message = (
        "No machine has been opened yet.\n"
        "  ublet demo       a made-up machine with a simulated board, to look around\n"
        "  ublet new DIR    a commented machine file of your own to start from"
    )
    print(message)
    if not sys.stdin.isatty() or not sys.stdout.isatty():
        raise typer.Exit(USAGE)
    if typer.confirm("Open the demonstration now?", default=True):
        demo()


def _open(file: Path, port: str | None) -> None:
    """The full-screen app on a machine file."""
    from ublet.tui.app import run_app

    run_app(file, port)


@app.command("open")
def open_(
    file: Path,
    port: Annotated[str | None, typer.Option(help="Serial port, or socket://HOST:PORT.")] = None,
) -> None:
    """Full-screen bench on a machine file."""
    with told():
        _open(file, port)


@app.command()
def demo(
    machine: Annotated[str, typer.Option(help="tern or wren.")] = "tern",
    speed: Annotated[float, typer.Option(min=0.1, max=60, help="The board's clock, times real time.")] = 8.0,
    dir: Annotated[Path | None, typer.Option(help="Folder for the machine's files.")] = None,
) -> None:
    """Full-screen bench on a made-up machine with its simulated board."""
    import platformdirs

    from ublet.session.demo import start as start_demo
    from ublet.tui.app import run_app

    folder = dir or platformdirs.user_data_path("ublet") / f"demo-{machine}"
    with told():
        running = start_demo(machine, folder, speed)
        try:
            run_app(running.machine, running.port, running)
        finally:
            running.close()


@app.command()
def presets() -> None:
    """The machine files that `new` can start from."""
    from ublet.session.library import DATA

    for path in sorted((DATA / "machines").glob("*.toml")):
        print(f"{path.stem:12} {path.read_text(encoding='utf-8').splitlines()[0].lstrip('# ')}")


@app.command()
def new(dir: Path, preset: Annotated[str, typer.Option("--from", help="A preset's name.")] = "tern-280") -> None:
    """A commented machine file to start from."""
    from ublet.session.library import DATA

    source = DATA / "machines" / f"{preset}.toml"
    known = ", ".join(sorted(path.stem for path in source.parent.glob("*.toml")))
    if preset not in known.split(", "):
        raise stop(USAGE, f"--from {preset}: no such preset; known: {known}")
    target = dir / "machine.toml"
    with told():
        if target.exists():
            raise stop(USAGE, f"{target} is there already; it was left as it is")
        dir.mkdir(parents=True, exist_ok=True)
        target.write_text(source.read_text(encoding="utf-8"), encoding="utf-8")
    print(f"{target}: edit it, then `ublet check {target}` and `ublet open {target} --port …`")


@app.command()
def check(file: Path, as_json: Annotated[bool, typer.Option("--json")] = False) -> None:
    """All errors and warnings of a machine file at once."""
    from dataclasses import asdict

    from ublet.core.machine.check import check_text
    from ublet.session.document import read_text
    from ublet.session.library import boards

    with told():
        checked = check_text(read_text(file), boards())
    if as_json:
        problems = [{"file": str(file), **asdict(problem)} for problem in checked.problems]
        print(json.dumps({"file": str(file), "good": not checked.errors, "problems": problems}, ensure_ascii=False))
    else:
        for problem in checked.problems:
            print(f"{problem.severity}: {problem.sentence(str(file))}")
        if not checked.problems:
            print(f"{file}: good")
    raise typer.Exit(NO if checked.errors else GOOD)


@app.command()
def board(
    scenario: Annotated[Path, typer.Option(help="Scenario file.")],
    listen: Annotated[str, typer.Option(help="pty, pty:LINK or tcp:HOST:PORT.")] = "pty",
    speed: Annotated[float, typer.Option(min=0.1, max=100, help="Clock, times real time.")] = 1.0,
    seed: Annotated[int, typer.Option(min=0, help="Seed of all noise.")] = 1,
    store: Annotated[Path | None, typer.Option(help="File that keeps the board's stored settings.")] = None,
    until_stdin_closes: Annotated[bool, typer.Option(hidden=True)] = False,
) -> None:
    """The simulated board; prints one JSON line when it is ready."""
    import time

    from ublet.session.document import Document
    from ublet.sim.board import SimBoard
    from ublet.sim.scenario import load_scenario
    from ublet.sim.server import announce, serve
    from ublet.sim.service import Service
    from ublet.sim.store import Store

    with told():
        truth = load_scenario(scenario)
        machine = Document(scenario.parent / truth.scenario.machine_file).machine
        kept = Store(store, truth.stored_settings())
        slots = store.with_suffix(".slots") if store else None
        service = Service(SimBoard(truth, machine, kept, time.monotonic, seed, slots), speed, seed)

        async def work() -> None:
            serving = asyncio.ensure_future(
                serve(service, listen, speed, lambda url: print(announce(url, truth.scenario.board), flush=True))
            )
            asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, serving.cancel)
            if until_stdin_closes:
                asyncio.get_running_loop().add_reader(
                    sys.stdin.fileno(), lambda: os.read(sys.stdin.fileno(), 1) or serving.cancel()
                )
            await serving

        try:
            asyncio.run(work())
        except (KeyboardInterrupt, asyncio.CancelledError):
            raise typer.Exit(GOOD) from None


@app.command()
def trials(as_json: Annotated[bool, typer.Option("--json")] = False) -> None:
    """What can be run, with parameters."""
    from ublet.core.catalogue import TRIALS

    listed = [
        {
            "trial": spec.name,
            "station": spec.station,
            "summary": spec.summary,
            "parameters": [
                {"name": p.path, "allowed": p.allowed(), "default": p.default, "unit": p.unit, "help": p.help}
                for p in spec.declared()
            ],
        }
        for spec in TRIALS.values()
    ]
    if as_json:
        print(json.dumps({"trials": listed}, ensure_ascii=False))
        return
    for spec in TRIALS.values():
        print(f"{spec.name}: {spec.summary}")
        for p in spec.declared():
            print(f"    {p.path} = {p.default}  ({p.allowed()})  {p.help}")


@app.command()
def run(
    trial: str,
    machine: Annotated[Path | None, typer.Option(help="Machine file.")] = None,
    port: Annotated[str | None, typer.Option(help="Port of the board.")] = None,
    scenario: ScenarioOption = None,
    settings: Annotated[list[str] | None, typer.Option("--set", metavar="KEY=VALUE")] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Write the proposal to the board and check it.")] = False,
    save: Annotated[bool, typer.Option("--save", help="Save what was kept and checked.")] = False,
    seed: Annotated[int, typer.Option(min=0)] = 1,
    as_json: Annotated[bool, typer.Option("--json")] = False,
) -> None:
    """Run a trial headless, on a board or on a scenario."""
    from ublet.session.headless import Done, run_on_port, run_on_scenario
    from ublet.session.orders import order_for

    if (scenario is None) == (port is None) or (port is not None and machine is None):
        raise stop(USAGE, "name either --scenario FILE, or --machine FILE with --port URL")
    with told(), _progress() as tell:
        order = order_for(trial, settings or [], keep, save)
        try:
            if scenario is not None:
                done: Done = run_on_scenario(order, scenario, machine, seed, tell)
            else:
                assert machine is not None and port is not None
                done = asyncio.run(run_on_port(order, machine, port, tell))
        except KeyboardInterrupt:
            raise stop(INTERRUPTED, "interrupted; heaters are off") from None
    if as_json:
        print(json.dumps(done.report, ensure_ascii=False))
    else:
        _print_report(done.report)
    if done.lost:
        raise typer.Exit(NO_LINK)
    raise typer.Exit({"proven": GOOD, "failed": NO, "halted": HALTED}[done.outcome])


@contextmanager
def _progress() -> Iterator[Callable[[Any], None]]:
    """A progress bar on a terminal's standard error; nothing when piped."""
    if not sys.stderr.isatty():
        yield lambda progress: None
        return
    from rich.console import Console
    from rich.progress import Progress as Bar

    with Bar(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("starting", total=1.0)
        yield lambda p: bar.update(task, completed=p.share, description=f"{p.phase} {p.detail}"[:60])


def _print_report(report: dict[str, Any]) -> None:
    from ublet.core.units import duration, show, with_uncertainty

    print(f"{report['trial']}: {report['outcome']}. {report['why']}")
    for finding in report["findings"]:
        value = with_uncertainty(finding["value"], finding["uncertainty"] or 0.0, finding["unit"])
        limit = f"   (limit {show(finding['limit'], finding['unit'])})" if finding["limit"] is not None else ""
        print(f"    {finding['name']:30} {value}{limit}")
    for change in report["proposals"]:
        before, after = show(change["before"] or 0.0), show(change["after"], change["unit"])
        print(f"  → {change['setting']}: {before} → {after}   {change['effect']}")
    print(f"  took {duration(report['duration_s'])} of the machine's time")
    if report.get("kept"):
        print("  kept: live on the board")
    if "verify" in report:
        _print_report(report["verify"])
    if "saved" in report:
        print(f"  saved: {report['saved']} settings to the board's store and the machine file")


@app.command()
def ledger(file: Path, as_json: Annotated[bool, typer.Option("--json")] = False) -> None:
    """The history of a machine."""
    from dataclasses import asdict

    from ublet.core.catalogue import TRIALS
    from ublet.ledger.book import Ledger
    from ublet.session.report import trial_json
    from ublet.session.session import ledger_path

    path = ledger_path(file)
    if not path.exists():
        raise stop(USAGE, f"{path} is not there: no trial has been run on this machine yet")
    with told():
        book = Ledger(path)
        entries, changes = book.trials(), book.changes()
        book.close()
    if as_json:
        listed = [
            {"id": e.id, "at": e.at, **trial_json(TRIALS[e.name], e.result, e.duration_s)}
            for e in entries
            if e.name in TRIALS
        ]
        print(json.dumps({"trials": listed, "changes": [asdict(c) for c in changes]}, ensure_ascii=False))
        return
    lines = [(e.at, f"{e.name}: {e.result.outcome}. {e.result.why}") for e in entries]
    lines += [(c.at, f"{c.kind} {c.setting} ({c.layer}): {c.before} → {c.after}") for c in changes]
    for at, text in sorted(lines, reverse=True):
        print(f"{at[:19].replace('T', ' ')}  {text}")


@app.command()
def figure(
    kind: str,
    file: Path,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="FILE.svg or FILE.pdf")] = None,
) -> None:
    """Draw a figure; KIND is heat: the newest heat record in a machine's ledger."""
    from ublet.ledger.book import Ledger
    from ublet.session.export import draw_heat_entry
    from ublet.session.session import ledger_path

    if kind != "heat":
        raise stop(USAGE, f"figure {kind}: allowed: heat")
    target = out or Path(f"{file.stem}-heat.svg")
    path = ledger_path(file)
    if not path.exists():
        raise stop(USAGE, f"{path} is not there: run hotend-control first")
    with told():
        book = Ledger(path)
        entry = next((e for e in book.trials() if book.series(e.id)), None)
        if entry is None:
            raise stop(NO, f"{path} has no heat record yet")
        try:
            draw_heat_entry(entry, book.series(entry.id), target)
        except ValueError as error:
            raise stop(USAGE, str(error)) from error
        book.close()
    print(target)


@app.command()
def bench(quick: Annotated[bool, typer.Option("--quick", help="Fewer repetitions.")] = False) -> None:
    """Measure speed and accuracy, side by side with plain references; prints JSON."""
    from ublet.benchmark import measure

    print(json.dumps(measure(quick), indent=1, ensure_ascii=False))
