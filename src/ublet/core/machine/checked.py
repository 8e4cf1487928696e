"""A machine under check, with what several checks need."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ublet.core.machine.boards import BoardKind
from ublet.core.machine.lines import dotted, line_of
from ublet.core.machine.problem import KeyLines, Problem, Severity
from ublet.core.machine.schema import Axis, MachineFile
from ublet.core.settings import Value


@dataclass
class CheckContext:
    """A machine under check, with what several checks need."""

    machine: MachineFile
    lines: KeyLines
    board: BoardKind | None
    values: dict[str, Value]

    def problem(self, path: str, value: str, allowed: str, mend: str, severity: Severity = "error") -> Problem:
        """A problem at a dotted path."""
        parts = tuple(path.split("."))
        return Problem(line_of(self.lines, parts), dotted(parts), value, allowed, mend, severity)

    def line(self, path: str) -> int:
        """The line of a dotted path."""
        return line_of(self.lines, tuple(path.split(".")))

    def axes(self) -> Iterator[tuple[str, Axis]]:
        """The axes by letter."""
        for name in ("x", "y", "z"):
            yield name, getattr(self.machine.axes, name)
