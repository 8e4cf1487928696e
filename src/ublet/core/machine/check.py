"""Check a machine file: all errors at once, each with line, key, found, allowed and how to mend it."""

from __future__ import annotations

import re
import tomllib
import typing
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel, ValidationError

from ublet.core.machine.boards import Boards
from ublet.core.machine.cross import cross_check
from ublet.core.machine.lines import dotted, key_lines, line_of
from ublet.core.machine.problem import KeyLines, Problem, nearest, short
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Declaration, Known, ValueKind, array_fault, flatten
from ublet.core.written import written

_AT_LINE = re.compile(r" ?\(at line (\d+), column \d+\)| ?\(at end of document\)")


@dataclass(frozen=True)
class CheckResult:
    """The machine, when it could be read, and the problems, sorted by line."""

    machine: MachineFile | None
    problems: tuple[Problem, ...]

    @property
    def errors(self) -> tuple[Problem, ...]:
        """The problems that keep the file from being used."""
        return tuple(problem for problem in self.problems if problem.severity == "error")


def check_text(text: str, boards: Boards) -> CheckResult:
    """Read and check a machine file's text. Never raises on any text."""
    tree, broken = parse_toml(text)
    if broken is not None:
        return CheckResult(None, (broken,))
    return check_tree(tree, key_lines(text), boards)


def check_tree(tree: Mapping[str, Any], lines: KeyLines, boards: Boards) -> CheckResult:
    """The same for what a file says, as plain tables; lines: where it says it."""
    machine, problems = validate(MachineFile, tree, lines)
    if machine is not None:
        problems += cross_check(machine, lines, boards)
    return CheckResult(machine, tuple(sorted(problems, key=lambda problem: (problem.line, problem.key))))


def parse_toml(text: str) -> tuple[dict[str, Any], Problem | None]:
    """The plain tree of a TOML text, or the one problem that keeps it from being TOML."""
    try:
        return tomllib.loads(text), None
    except (ValueError, RecursionError) as error:
        match = _AT_LINE.search(str(error))
        reason = _AT_LINE.sub("", str(error)) or "tables nested too deep"
        line = int(match.group(1)) if match and match.group(1) else text.count("\n") + 1
    shown = text.split("\n")[line - 1].strip() if line <= len(text.split("\n")) else ""
    return {}, Problem(
        line,
        "",
        f"“{short(shown)}” ({reason})",
        "TOML: [table] headers and key = value lines",
        "Mend this line; text needs quotes, and every bracket and quote a partner.",
    )


def validate(schema: type[BaseModel], tree: Mapping[str, Any], lines: KeyLines) -> tuple[Any | None, list[Problem]]:
    """Validate a tree by a schema (a pydantic model), with every error as a :class:`Problem`."""
    try:
        machine, problems = schema.model_validate(tree), []
    except ValidationError as error:
        problem_found = [_problem(schema, tree, lines, dict(item)) for item in error.errors()]
        seen = {_place(problem): problem for problem in reversed(problem_found)}
        machine, problems = None, [problem for problem in problem_found if seen.get(_place(problem)) is problem]
    problems += _truth_for_number(schema, tree, lines)
    problems += _arrays(schema, tree, lines) if machine is not None else []
    return (None if problems else machine), problems


def _place(problem: Problem) -> tuple[int, str, str]:
    """Where a problem is: an array that is wrong in many places is wrong once."""
    return problem.line, problem.key, problem.allowed


def _truth_for_number(schema: type[BaseModel], tree: Mapping[str, Any], lines: KeyLines) -> list[Problem]:
    """Where a choice of numbers is wanted and true or false stands: to Python, and so to pydantic, true equals 1."""
    problems = []
    for path, value in flatten(tree).items():
        if not isinstance(value, bool):
            continue
        declared = _declared(schema).find(path)
        if declared is not None and declared.choices and declared.kind is not ValueKind.FLAG:
            shown = "true" if value else "false"
            loc = tuple(path.split("."))
            problems.append(
                Problem(line_of(lines, loc), path, shown, declared.allowed(), f"Change it to {declared.allowed()}.")
            )
    return problems


def _arrays(schema: type[BaseModel], tree: Mapping[str, Any], lines: KeyLines) -> list[Problem]:
    """Arrays that are not of their shape or range: pydantic knows only that they are made of numbers."""
    problems = []
    for path, value in flatten(tree).items():
        if not isinstance(value, tuple):
            continue
        declared = _declared(schema).find(path)
        if declared is not None and declared.shape and (fault := array_fault(declared, value)):
            seen = fault.removeprefix("found ")
            problems.append(
                Problem(line_of(lines, tuple(path.split("."))), path, seen, declared.allowed(), anew(declared))
            )
    return problems


def anew(declared: Declaration) -> str:
    """How a wrong array is mended: nobody types one."""
    return f"The station “{declared.bench}” makes it anew; or leave it out."


def _declared(schema: type[BaseModel]) -> Known:
    """The declarations of a schema that is made of settings; none of another."""
    known: Known = schema.declared() if hasattr(schema, "declared") else NONE_DECLARED
    return known


NONE_DECLARED = Known(())


def _problem(schema: type[BaseModel], tree: Mapping[str, Any], lines: KeyLines, error: dict[str, Any]) -> Problem:
    loc = tuple(str(part) for part in error["loc"])
    while len(loc) > 1 and isinstance(error["loc"][len(loc) - 1], int) and _array_at(schema, loc):
        loc = loc[:-1]  # a place within an array
    path = dotted(loc)
    line = line_of(lines, loc)
    kind = error["type"]
    if kind == "extra_forbidden":
        known = _keys_at(schema, loc[:-1])
        near = nearest(loc[-1], known)
        mend = f"Did you mean “{near[0]}”?" if near else "Remove it, or write one of the known keys."
        return Problem(line, path, f"unknown key “{short(loc[-1])}”", ", ".join(known), mend)
    declared = _declared(schema).find(".".join(loc))
    if kind == "string_pattern_mismatch" and loc[-1] == "[key]":
        return Problem(
            line_of(lines, loc[:-1]),
            dotted(loc[:-1]),
            f"the name “{short(loc[-2])}”",
            "letters, digits and dashes, 32 at the most",
            "Give the part a plain name.",
        )
    allowed = declared.allowed() if declared else _plain_allowed(error)
    if kind == "missing":
        at_top = f"Add {path} = … above the first table." if declared else f"Add a [{path}] table."
        what = f"Add {loc[-1]} = … to [{dotted(loc[:-1])}]." if len(loc) > 1 else at_top
        what_it_is = f" {declared.help}" if declared else ""
        wanted = allowed if declared else "a table of this name"
        return Problem(line, path, "nothing", wanted, what + what_it_is)
    value = short(written(error.get("input")))
    mend = f"Change it to {allowed}."
    if declared is not None and declared.shape:
        mend = anew(declared)
    if kind in ("greater_than_equal", "less_than_equal"):
        mend = f"Bring it into the range {allowed}."
    return Problem(line, path, value, allowed, mend)


def _array_at(schema: type[BaseModel], loc: tuple[str, ...]) -> bool:
    """Whether a location lies within an array."""
    known = _declared(schema)
    declared = (known.find(".".join(loc[:end])) for end in range(1, len(loc)))
    return any(declaration is not None and declaration.shape for declaration in declared)


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
