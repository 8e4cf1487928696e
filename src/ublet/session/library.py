"""What ships with the package: boards, machine files, scenarios."""

from __future__ import annotations

import tomllib
from functools import cache, lru_cache
from importlib import resources
from pathlib import Path

from ublet.core.machine.boards import BoardKind, Boards
from ublet.core.machine.check import parse_toml, validate
from ublet.core.machine.lines import key_lines
from ublet.core.trouble import Trouble

DATA = Path(str(resources.files("ublet") / "data"))
DEMOS = {"tern": "tern-280", "wren": "wren-180"}
"""Demonstration machines: short name and file stem."""


class BoardFileError(Trouble):
    """A board file cannot be used; the message holds a sentence for each problem."""


@cache
def boards() -> Boards:
    """The kinds of board that ship with the package, by name."""
    kinds = [
        BoardKind.model_validate(tomllib.loads(path.read_text(encoding="utf-8")))
        for path in sorted((DATA / "boards").glob("*.toml"))
    ]
    return {kind.name: kind for kind in kinds}


def boards_for(folder: Path) -> Boards:
    """The shipped boards, those in your data folder (``ublet/boards``), and those in ``boards`` beside a machine file.

    Raises:
        BoardFileError: a board file has errors.
    """
    known = dict(boards())
    for place in (own_boards(), folder / "boards"):
        for path in sorted(place.glob("*.toml")) if place.is_dir() else ():
            kind = _read_board(str(path), path.stat().st_mtime_ns)
            known[kind.name] = kind
    return known


def own_boards() -> Path:
    """Where boards of your own are looked for, whichever machine is open."""
    import os

    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(base) / "ublet" / "boards"


@lru_cache(maxsize=64)
def _read_board(file: str, changed_ns: int) -> BoardKind:
    try:
        text = Path(file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BoardFileError(f"{file} cannot be read: {error}") from error
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
