"""Check a machine file: all errors at once, each with line, key, found, allowed and how to mend it."""

from __future__ import annotations

import difflib
import typing
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

import tomlkit
from pydantic import BaseModel, ValidationError
from tomlkit.exceptions import ParseError, TOMLKitError

from ublet.core.machine.boards import Boards
from ublet.core.machine.lines import dotted, key_lines, line_of
from ublet.core.machine.schema import SETTINGS, MachineFile
from ublet.core.settings import find, flatten

Lines = dict[tuple[str, ...], int]


@dataclass(frozen=True)
class Problem:
    """One thing wrong in a file."""

    line: int
    key: str
    found: str
    allowed: str
    mend: str
    severity: Literal["error", "warning"] = "error"

    def sentence(self, file: str) -> str:
        """``file:line: key: found ..., allowed ...; mend``."""
        key = f"{self.key}: " if self.key else ""
        return f"{file}:{self.line}: {key}found {self.found}; allowed: {self.allowed}. {self.mend}"


@dataclass(frozen=True)
class Checked:
    """The machine, when it could be read, and the problems, sorted by line."""

    machine: MachineFile | None
    problems: tuple[Problem, ...]

    @property
    def errors(self) -> tuple[Problem, ...]:
        """The problems that keep the file from being used."""
        return tuple(problem for problem in self.problems if problem.severity == "error")


def check_text(text: str, boards: Boards) -> Checked:
    """Read and check a machine file's text. Never raises on any text."""
    tree, broken = parse_toml(text)
    if broken is not None:
        return Checked(None, (broken,))
    lines = key_lines(text)
    machine, problems = validate(MachineFile, tree, lines)
    if machine is not None:
        problems += cross_check(machine, lines, boards)
    return Checked(machine, tuple(sorted(problems, key=lambda problem: (problem.line, problem.key))))


def parse_toml(text: str) -> tuple[dict[str, Any], Problem | None]:
    """The plain tree of a TOML text, or the one problem that keeps it from being TOML."""
    try:
        return tomlkit.parse(text).unwrap(), None
    except ParseError as error:
        reason = str(error).split(" at line")[0]
        line = error.line
    except (TOMLKitError, ValueError, RecursionError) as error:
        reason, line = str(error) or type(error).__name__, 1
    shown = text.split("\n")[line - 1].strip() if line <= len(text.split("\n")) else ""
    return {}, Problem(
        line,
        "",
        f"“{_short(shown)}” ({reason})",
        "TOML: [table] headers and key = value lines",
        "Mend this line; text needs quotes, and every bracket and quote a partner.",
    )


def validate(schema: type[BaseModel], tree: Mapping[str, Any], lines: Lines) -> tuple[Any | None, list[Problem]]:
    """Validate a tree by a schema (a pydantic model), with every error as a :class:`Problem`."""
    try:
        return schema.model_validate(tree), []
    except ValidationError as error:
        return None, [_problem(schema, tree, lines, dict(item)) for item in error.errors()]


def _problem(schema: type[BaseModel], tree: Mapping[str, Any], lines: Lines, error: dict[str, Any]) -> Problem:
    loc = tuple(str(part) for part in error["loc"])
    path = dotted(loc)
    line = line_of(lines, loc)
    kind = error["type"]
    if kind == "extra_forbidden":
        known = _keys_at(schema, loc[:-1])
        near = difflib.get_close_matches(loc[-1], known, 1, 0.5)
        mend = f"Did you mean “{near[0]}”?" if near else "Remove it, or write one of the known keys."
        return Problem(line, path, f"unknown key “{_short(loc[-1])}”", ", ".join(known), mend)
    declared = find(SETTINGS, ".".join(loc)) if schema is MachineFile else None
    allowed = declared.allowed() if declared else _plain_allowed(error)
    if kind == "missing":
        what = f"Add {loc[-1]} = … to [{dotted(loc[:-1])}]." if len(loc) > 1 else f"Add a [{path}] table."
        told = f" {declared.help}" if declared else ""
        wanted = allowed if declared else "a table of this name"
        return Problem(line, path, "nothing", wanted, what + told)
    found = _short(repr(error.get("input")))
    mend = f"Change it to {allowed}."
    if kind in ("greater_than_equal", "less_than_equal"):
        mend = f"Bring it into the range {allowed}."
    return Problem(line, path, found, allowed, mend)


def _plain_allowed(error: dict[str, Any]) -> str:
    if error["type"] in ("model_type", "dict_type", "model_attributes_type"):
        return "a table"
    return str(error["msg"]).removeprefix("Input should be ").removeprefix("a valid ")


def _keys_at(schema: type[BaseModel], path: tuple[str, ...]) -> list[str]:
    """The keys that a schema knows at a path; named tables are stepped through."""
    current: Any = schema
    for part in path:
        if isinstance(current, type) and issubclass(current, BaseModel):
            info = current.model_fields.get(part)
            current = info.annotation if info else None
        elif typing.get_origin(current) is dict:
            current = typing.get_args(current)[1]
        if typing.get_origin(current) is list:
            current = typing.get_args(current)[0]
    if isinstance(current, type) and issubclass(current, BaseModel):
        return list(current.model_fields)
    return []


def _short(text: str) -> str:
    return text if len(text) <= 60 else text[:57] + "…"


def cross_check(machine: MachineFile, lines: Lines, boards: Boards) -> list[Problem]:
    """Contradictions between parts: sockets, sensors, maxima, materials."""
    problems: list[Problem] = []

    def add(path: tuple[str, ...], found: str, allowed: str, mend: str, severity: Any = "error") -> None:
        problems.append(Problem(line_of(lines, path), dotted(path), found, allowed, mend, severity))

    board = boards.get(machine.board.model)
    if board is None:
        near = difflib.get_close_matches(machine.board.model, list(boards), 1, 0.4)
        mend = f"Did you mean “{near[0]}”?" if near else "Write one of the known boards."
        add(("board", "model"), repr(machine.board.model), ", ".join(sorted(boards)), mend)
    _check_sockets(machine, board.sockets if board else None, lines, add)
    for name, heater in machine.heaters.items():
        if heater.sensor not in machine.sensors:
            known = ", ".join(machine.sensors) or "none declared"
            add(
                ("heaters", name, "sensor"),
                repr(heater.sensor),
                f"a declared sensor ({known})",
                f"Declare [sensors.{heater.sensor}], or name another.",
            )
    users: dict[str, str] = {}
    for name, heater in machine.heaters.items():
        other = users.setdefault(heater.sensor, name)
        if other != name:
            add(
                ("heaters", name, "sensor"),
                f"{heater.sensor!r}, which heaters.{other} (line {line_of(lines, ('heaters', other, 'sensor'))}) uses",
                "a sensor of its own",
                "Give each heater its own sensor.",
            )
    hotends = [heater.maximum_c for heater in machine.heaters.values() if heater.part == "hotend"]
    beds = [heater.maximum_c for heater in machine.heaters.values() if heater.part == "bed"]
    for name, material in machine.materials.items():
        for key, wanted, limits in (
            ("nozzle_c", material.nozzle_c, hotends),
            ("bed_c", material.bed_c, beds),
        ):
            if limits and wanted > max(limits):
                add(
                    ("materials", name, key),
                    f"{wanted:g} °C",
                    f"at most the heater's maximum, {max(limits):g} °C",
                    "Lower it; the board would refuse this target.",
                    "warning",
                )
    return problems


def _check_sockets(machine: MachineFile, sockets: dict[str, list[str]] | None, lines: Lines, add: Any) -> None:
    """Every socket exists on the board, is of the right kind, and serves one part."""
    taken: dict[str, tuple[str, ...]] = {}
    flat = flatten(machine.model_dump())
    for key, value in flat.items():
        declared = find(SETTINGS, key)
        if declared is None or not declared.socket or not isinstance(value, str):
            continue
        path = tuple(key.split("."))
        if sockets is not None and value not in sockets.get(declared.socket, []):
            allowed = ", ".join(sockets.get(declared.socket, [])) or f"none: no {declared.socket} sockets"
            add(
                path,
                repr(value),
                f"{allowed} ({declared.socket} sockets of {machine.board.model})",
                "Name the socket as it is printed on the board.",
            )
        if value in taken:
            other = taken[value]
            add(
                path,
                f"{value!r}, which {dotted(other)} (line {line_of(lines, other)}) uses too",
                "a socket of its own",
                "Two parts cannot share a socket; move one of them.",
            )
        taken.setdefault(value, path)
