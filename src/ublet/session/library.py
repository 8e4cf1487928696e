"""What ships with the package: boards, machine files, scenarios."""

from __future__ import annotations

import tomllib
from collections import ChainMap
from collections.abc import Iterator, Mapping
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


class OwnBoards(Mapping[str, BoardKind]):
    """Boards of your own before the shipped ones. A file that cannot be used stops nothing but the board of its name:
    asking for that raises BoardFileError. broken: what is wrong with each such file, by its name.
    """

    def __init__(self, own: Mapping[str, BoardKind], broken: Mapping[str, str], shipped: Boards) -> None:
        self._known: Mapping[str, BoardKind] = ChainMap(dict(own), shipped)  # type: ignore[arg-type]
        self.broken = broken

    def __getitem__(self, name: str) -> BoardKind:
        if name in self.broken:
            raise BoardFileError(self.broken[name])
        return self._known[name]

    def __iter__(self) -> Iterator[str]:
        return (name for name in self._known if name not in self.broken)

    def __len__(self) -> int:
        return sum(1 for _ in self)


def boards_for(folder: Path) -> Boards:
    """The shipped boards, those in your data folder (``ublet/boards``), those in ``boards`` beside a machine file."""
    own: dict[str, BoardKind] = {}
    broken: dict[str, str] = {}
    for place in (own_boards(), folder / "boards"):
        for path in sorted(place.glob("*.toml")) if place.is_dir() else ():
            try:
                kind = _read_board(str(path), path.stat().st_mtime_ns)
                own[kind.name] = kind
            except OSError as error:
                broken[path.stem] = f"{path} cannot be read ({error.strerror or error}): mend or remove it."
            except BoardFileError as error:
                broken[path.stem] = str(error)
    return OwnBoards(own, broken, boards()) if own or broken else boards()


def own_boards() -> Path:
    """Where boards of your own are looked for, whichever machine is open."""
    return _own("boards")


def own_folder() -> Path:
    """Where what a builder keeps is looked for: boards, parts, mounts."""
    import os

    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(base) / "ublet"


def _own(kind: str) -> Path:
    return own_folder() / kind


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


def scenarios() -> dict[str, Path]:
    """Every shipped scenario by its short name: ``tern``, ``wren``, and machines that are walked headless only."""
    return {path.stem.partition("-")[0]: path for path in sorted((DATA / "scenarios").glob("*.toml"))}


def scenario_named(name: str) -> Path | None:
    """A shipped scenario by its short name, or its file's; None: there is none of that name."""
    return next((path for short, path in scenarios().items() if name in (short, path.stem)), None)
