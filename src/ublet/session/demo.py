"""The demonstration: a made-up machine in a folder of its own, with its simulated board in a process."""

from __future__ import annotations

import contextlib
import fcntl
import json
import select
import shutil
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from ublet.session.library import DATA, DEMOS

START_S = 20.0


class DemoError(Exception):
    """The demonstration cannot start; the message says why and what to do."""


@dataclass
class Demo:
    """A demonstration's folder, machine file and port; ``close`` ends its board."""

    folder: Path
    machine: Path
    port: str
    speed: float
    scenario: Path
    board: subprocess.Popen[str]
    lock: IO[str]

    def restart_board(self) -> None:
        """Plug the board in again after its process has ended."""
        if self.board.poll() is not None:
            self.board = start_board(self.scenario, self.folder, self.speed)

    def close(self) -> None:
        """End the board's process."""
        self.board.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.board.wait(3)
        self.lock.close()


def prepare(kind: str, folder: Path) -> tuple[Path, Path]:
    """Machine file and scenario in the folder, copied there when they are not yet.

    Raises:
        DemoError: unknown machine, or the folder cannot be written.
    """
    if kind not in DEMOS:
        raise DemoError(f"--machine {kind}: found {kind!r}; allowed: {', '.join(DEMOS)}.")
    stem = DEMOS[kind]
    machine, scenario = folder / f"{stem}.toml", folder / "scenario" / f"{stem}.toml"
    try:
        for target, source in (
            (machine, DATA / "machines" / f"{stem}.toml"),
            (scenario, DATA / "scenarios" / f"{stem}.toml"),
            (folder / "machines" / f"{stem}.toml", DATA / "machines" / f"{stem}.toml"),
        ):
            target.parent.mkdir(parents=True, exist_ok=True)
            if not target.exists():
                shutil.copyfile(source, target)
    except OSError as error:
        raise DemoError(f"{folder} cannot be written ({error.strerror}): name another with --dir.") from error
    return machine, scenario


def start(kind: str, folder: Path, speed: float) -> Demo:
    """Start the board of a demonstration machine and say where it is.

    Raises:
        DemoError: as :func:`prepare`; already open elsewhere; or the board does not start.
    """
    machine, scenario = prepare(kind, folder)
    lock = (folder / "demo.lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        lock.close()
        raise DemoError(
            f"This demonstration is open in another window already ({folder}). "
            "Close that one, or start a second one with --dir."
        ) from error
    try:
        board = start_board(scenario, folder, speed)
    except DemoError:
        lock.close()
        raise
    return Demo(folder, machine, str(folder / "board.port"), speed, scenario, board, lock)


def start_board(scenario: Path, folder: Path, speed: float) -> subprocess.Popen[str]:
    """Start a simulated board as a process of its own and wait until it is ready.

    It ends by itself when this process does (its standard input closes then).

    Raises:
        DemoError: it does not start.
    """
    board = subprocess.Popen(
        [
            *(sys.executable, "-m", "ublet", "board", "--scenario", str(scenario)),
            *("--listen", f"pty:{folder / 'board.port'}", "--speed", f"{speed:g}"),
            *("--store", str(folder / "board-store.json"), "--until-stdin-closes"),
        ],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    assert board.stdout is not None and board.stderr is not None
    deadline = time.monotonic() + START_S
    while time.monotonic() < deadline:
        if select.select([board.stdout], [], [], 0.1)[0]:
            line = board.stdout.readline()
            with contextlib.suppress(ValueError):
                json.loads(line)
                return board
            break
    board.kill()
    told = board.stderr.read().strip()
    raise DemoError(f"The simulated board did not start: {told or 'no answer in 20 s'}")
