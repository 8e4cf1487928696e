"""The demonstration: a made-up machine, or a variant of one, in a folder of its own, with its simulated board."""

from __future__ import annotations

import contextlib
import fcntl
import subprocess
import sys
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import tomlkit

from ublet.core.trouble import Trouble
from ublet.session.hands import DemoHands
from ublet.session.library import DATA, DEMOS, machine_path, scenario_path


def variants() -> tuple[str, ...]:
    """Those that ship with the package."""
    return tuple(sorted(path.stem for path in (DATA / "variants").glob("*.toml")))


def variant(name: str) -> tuple[str, str, str]:
    """File stem, machine file and scenario of a variant, as texts; comments of what it is a variant of stay."""
    changes = tomllib.loads((DATA / "variants" / f"{name}.toml").read_text(encoding="utf-8"))
    stem = str(changes["of"])
    texts = {
        "machine": machine_path(stem).read_text(encoding="utf-8"),
        "scenario": scenario_path(stem).read_text(encoding="utf-8"),
    }
    made = {
        kind: _with(text, changes.get(kind, {}), [path for path in changes["without"] if path.startswith(f"{kind}.")])
        for kind, text in texts.items()
    }
    return stem, made["machine"], made["scenario"]


def _with(text: str, changes: Mapping[str, Any], without: Sequence[str]) -> str:
    document = tomlkit.parse(text)
    for path in without:
        *tables, key = path.split(".")[1:]
        here: Any = document
        for table in tables:
            here = here[table]
        del here[key]
    _put(document, changes)
    return tomlkit.dumps(document)


def _put(here: Any, changes: Mapping[str, Any]) -> None:
    for key, value in changes.items():
        if isinstance(value, Mapping):
            _put(here.setdefault(key, tomlkit.table()), value)
        else:
            here[key] = value


class DemoError(Trouble):
    """The demonstration cannot start; the message says why and what to do."""


@dataclass
class Demo:
    """A demonstration's folder, machine file and port; ``close`` ends its board."""

    folder: Path
    machine: Path
    port: str
    speed: float
    scenario: Path
    board: subprocess.Popen[bytes]
    lock: IO[str]
    hands: DemoHands

    def ended(self) -> str | None:
        """Why the board's process has ended, when it has."""
        if self.board.poll() is None:
            return None
        log_lines = (self.folder / "board.log").read_text(encoding="utf-8", errors="replace").strip().splitlines()
        return log_lines[-1] if log_lines and self.board.returncode > 0 else "its process was stopped"

    def restart_board(self) -> None:
        """Plug the board in again after its process has ended."""
        if self.board.poll() is not None:
            self.board = start_board(self.scenario, self.folder, self.speed)

    def close(self) -> None:
        """End the board's process."""
        self.board.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.board.wait(3)
        self.hands.close()
        self.lock.close()


def prepare(kind: str, folder: Path) -> tuple[Path, Path]:
    """Machine file and scenario in the folder, copied there when they are not yet.

    Raises:
        DemoError: unknown machine, or the folder cannot be written.
    """
    allowed = (*DEMOS, *variants())
    if kind not in allowed:
        raise DemoError(f"--machine {kind}: found {kind!r}; allowed: {', '.join(allowed)}.")
    stem, declared, truth = _texts(kind)
    machine, scenario = folder / f"{stem}.toml", folder / "scenario" / f"{stem}.toml"
    try:
        for target, text in (
            (machine, declared),
            (scenario, truth),
            (folder / "machines" / f"{stem}.toml", declared),
        ):
            target.parent.mkdir(parents=True, exist_ok=True)
            if not target.exists():
                target.write_text(text, encoding="utf-8")
    except OSError as error:
        raise DemoError(f"{folder} cannot be written ({error.strerror}): name another with --dir.") from error
    return machine, scenario


def _texts(kind: str) -> tuple[str, str, str]:
    """File stem, machine file and scenario of a demonstration."""
    if kind not in DEMOS:
        return variant(kind)
    stem = DEMOS[kind]
    paths = machine_path(stem), scenario_path(stem)
    return stem, *(path.read_text(encoding="utf-8") for path in paths)  # type: ignore[return-value]


def start(kind: str, folder: Path, speed: float) -> Demo:
    """Start the board of a demonstration machine and say where it is.

    Raises:
        DemoError: as :func:`prepare`, or already open elsewhere.
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
    board = start_board(scenario, folder, speed)
    return Demo(
        folder, machine, str(folder / "board.port"), speed, scenario, board, lock, DemoHands(world_path(folder))
    )


def start_board(scenario: Path, folder: Path, speed: float) -> subprocess.Popen[bytes]:
    """Start a simulated board as a process of its own; the link finds it when it is ready.

    It ends by itself when this process does (its standard input closes then). What it has to say
    goes to ``board.log``.
    """
    port = folder / "board.port"
    port.unlink(missing_ok=True)  # a link left by a crash may point at somebody else's terminal
    with (folder / "board.log").open("wb") as log:
        return subprocess.Popen(
            [
                *(sys.executable, "-m", "ublet", "board", "--scenario", str(scenario)),
                *("--listen", f"pty:{port}", "--speed", f"{speed:g}"),
                *("--store", str(folder / "board-store.json"), "--until-stdin-closes"),
                *("--world", str(world_path(folder))),
            ],
            stdin=subprocess.PIPE,
            stdout=log,
            stderr=log,
        )


def world_path(folder: Path) -> Path:
    """Where the world around a demonstration's board is reached; such a path must be short, so not in its folder."""
    import hashlib
    import tempfile

    name = hashlib.sha256(str(folder.resolve()).encode()).hexdigest()[:16]
    return Path(tempfile.gettempdir()) / f"ublet-{name}.world"
