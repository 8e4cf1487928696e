"""What ships with the package: boards, machine files, scenarios."""

from __future__ import annotations

import contextlib
import tomllib
from collections import ChainMap
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path

from ublet.core.machine.boards import BoardKind, Boards
from ublet.core.machine.check import parse_toml, validate
from ublet.core.machine.lines import key_lines
from ublet.core.trouble import Trouble

DATA = Path(__file__).resolve().parents[1] / "data"
DEMOS = {"tern": "tern-280", "wren": "wren-180"}
"""Demonstration machines: short name and file stem."""


class BoardFileError(Trouble):
    """A board file cannot be used; the message holds a sentence for each problem."""


class _Shipped(Mapping[str, BoardKind]):
    """The boards that ship with the package; each is read when it is first asked for."""

    def __init__(self) -> None:
        self._files = {path.stem: path for path in sorted((DATA / "boards").glob("*.toml"))}
        self._read: dict[str, BoardKind] = {}

    def __getitem__(self, name: str) -> BoardKind:
        if name not in self._read:
            text = self._files[name].read_text(encoding="utf-8")
            self._read[name] = BoardKind.model_validate(tomllib.loads(text))
        return self._read[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._files)

    def __len__(self) -> int:
        return len(self._files)


@cache
def boards() -> Boards:
    """The kinds of board that ship with the package, by name, which is also their file's."""
    return _Shipped()


def boards_for(folder: Path) -> Boards:
    """The shipped boards, those in your data folder (``ublet/boards``), and those in ``boards`` beside a machine file.

    Raises:
        BoardFileError: a board file has errors.
    """
    own: dict[str, BoardKind] = {}
    for place in (own_boards(), folder / "boards"):
        for path in sorted(place.glob("*.toml")) if place.is_dir() else ():
            try:
                changed = path.stat().st_mtime_ns
            except OSError as error:
                raise BoardFileError(
                    f"{path} cannot be read ({error.strerror or error}): mend or remove it."
                ) from error
            kind = _read_board(str(path), changed)
            own[kind.name] = kind
    return ChainMap(own, boards()) if own else boards()  # type: ignore[arg-type]


def own_boards() -> Path:
    """Where boards of your own are looked for, whichever machine is open."""
    return _own("boards")


def _own(kind: str) -> Path:
    import os

    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(base) / "ublet" / kind


@dataclass(frozen=True)
class Mount:
    """A probe's mount that can be taken over: its file, what it is called, and the words of its first comment."""

    path: Path
    name: str
    words: str


def mounts_for(folder: Path) -> tuple[Mount, ...]:
    """The shipped mounts of probes, those in your data folder (``ublet/mounts``), and those in ``mounts`` beside a
    machine file; each is a file with a table [probe.part]. One that cannot be read is left out.
    """
    found: dict[str, Mount] = {}
    for place in (DATA / "mounts", _own("mounts"), folder / "mounts"):
        for path in sorted(place.glob("*.toml")) if place.is_dir() else ():
            with contextlib.suppress(OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, KeyError, TypeError):
                text = path.read_text(encoding="utf-8")
                part = tomllib.loads(text)["probe"]["part"]
                words = text.splitlines()[0].lstrip("# ") if text.startswith("#") else ""
                where = f"X {float(part['offset_x_mm']):+g}, Y {float(part['offset_y_mm']):+g} mm"
                found[path.stem] = Mount(path, str(part["name"]), f"{where}. {words}".strip())
    return tuple(found.values())


@lru_cache(maxsize=64)
def _read_board(file: str, changed_ns: int) -> BoardKind:
    try:
        text = Path(file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else f"not UTF-8 text at byte {error.start}"
        raise BoardFileError(f"{file} cannot be read: {why}.") from error
    tree, broken = parse_toml(text)
    kind, problems = (None, [broken]) if broken else validate(BoardKind, tree, key_lines(text))
    if not isinstance(kind, BoardKind):
        raise BoardFileError("\n".join(problem.sentence(file) for problem in problems))
    return kind


def machine_path(stem: str) -> Path:
    """A shipped machine file."""
    return DATA / "machines" / f"{stem}.toml"


def scenario_path(stem: str) -> Path:
    """A shipped scenario."""
    return DATA / "scenarios" / f"{stem}.toml"
