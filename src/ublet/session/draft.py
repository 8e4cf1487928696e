"""The draft: edits of the machine file that are not on the disk yet, with undo and redo, checked as one types."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from ublet.core.machine import edit
from ublet.core.machine.check import CheckResult, validate
from ublet.core.machine.compare import Conflict, Difference, differences, merged
from ublet.core.machine.cross import cross_check
from ublet.core.machine.edit import EditError
from ublet.core.machine.outline import start_values
from ublet.core.machine.problem import Problem
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value, flatten
from ublet.session.document import Document, DocumentError, read_text
from ublet.session.files import write_atomically

UNDO_STEPS = 200


class Draft:
    """Edits on top of a document: ``text`` is what a save would write, ``tree`` and ``checked`` what comes of it."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self._undo: list[str] = []
        self._redo: list[str] = []
        self._copied: dict[str, tuple[Value, Path]] = {}
        self._show(document.text)

    # what stands in the draft

    @property
    def dirty(self) -> bool:
        """Whether it differs from the file."""
        return self.text != self.document.text

    @property
    def can_undo(self) -> bool:
        """Whether there is an edit to take back."""
        return bool(self._undo)

    @property
    def can_redo(self) -> bool:
        """Whether there is an undone edit."""
        return bool(self._redo)

    def changes(self) -> list[Difference]:
        """The settings in which it differs from the file; None: not given."""
        return differences(_flat(self.document.text), flatten(self.tree))

    def given(self, path: str) -> Value:
        """What the draft gives for a setting; None when it leaves it out."""
        return flatten(self.tree).get(path)

    def try_value(self, path: str, value: Value) -> tuple[Problem, ...]:
        """The errors and warnings that giving a value would bring, beyond those that are there already."""
        tree: dict[str, Any] = dict(self.tree)
        *parts, key = path.split(".")
        table = tree
        for part in parts:
            inner = table.get(part, {})
            if not isinstance(inner, dict):
                return ()
            table[part] = table = dict(inner)  # only the tables on the way are copied
        if value is None:
            table.pop(key, None)
        else:
            table[key] = value
        machine, problems = validate(MachineFile, tree, {})
        if isinstance(machine, MachineFile):
            problems += cross_check(machine, {}, self.document.boards)
        known = {(problem.key, problem.severity) for problem in self.checked.problems}
        return tuple(problem for problem in problems if (problem.key, problem.severity) not in known)

    # edits; each can be undone

    def set(self, path: str, value: Value) -> None:
        """Give a setting; None leaves it out.

        Raises:
            EditError: the path leads through something that is no table.
        """
        self._do(lambda: edit.edited(self.text, {path: value}))

    def set_all(self, values: Mapping[str, Value]) -> None:
        """Give several settings as one step.

        Raises:
            EditError: as for :meth:`set`.
        """
        self._do(lambda: edit.edited(self.text, dict(values)))

    def add(self, part: str) -> None:
        """Add a part, with values to start from.

        Raises:
            EditError: there is such a part already.
        """
        board = self.document.boards.get(str(self.given("board.model")))
        self._do(lambda: edit.with_part(self.text, part, start_values(self.tree, part, board)))

    def remove(self, part: str) -> None:
        """Remove a part and everything in it.

        Raises:
            EditError: there is no such part.
        """
        self._do(lambda: edit.without_part(self.text, part))

    def take(self, source: Path, part: str) -> None:
        """Take a part over from another machine file.

        Raises:
            EditError: the other file has no such part. DocumentError: it cannot be read.
        """
        other, before = read_text(source), flatten(self.tree)
        self._do(lambda: edit.take_part(self.text, other, part))
        self._copied |= {one.path: (one.after, source) for one in differences(before, flatten(self.tree))}

    def copied(self) -> dict[Path, list[Difference]]:
        """The changes that still are what was taken from another machine file, by that file."""
        by_source: dict[Path, list[Difference]] = {}
        for one in self.changes():
            value, source = self._copied.get(one.path, (None, None))
            if source is not None and value == one.after:
                by_source.setdefault(source, []).append(one)
        return by_source

    def undo(self) -> bool:
        """Take the last edit back; False when there is none."""
        return self._move(self._undo, self._redo)

    def redo(self) -> bool:
        """Do the last undone edit again; False when there is none."""
        return self._move(self._redo, self._undo)

    def revert(self) -> None:
        """Drop every edit; this can be undone."""
        self._do(lambda: self.document.text)

    # the disk

    def write(self) -> int:
        """Write the draft to the file; returns how many settings changed.

        Raises:
            DocumentError: it has errors, or another program changed the file meanwhile, or it cannot be written.
        """
        errors = self.checked.errors
        if errors:
            sentences = "\n".join(problem.sentence(self.document.path.name) for problem in errors[:3])
            raise DocumentError(f"Not written: mend {len(errors)} error{'s' * (len(errors) > 1)} first.\n{sentences}")
        if self.document.changed_on_disk():
            raise DocumentError(
                f"{self.document.path.name} was changed by another program: look at what it changed first."
            )
        count = len(self.changes())
        try:
            write_atomically(self.document.path, self.text)
        except OSError as error:
            raise DocumentError(
                f"{self.document.path} could not be written ({error.strerror or error}). It holds what it held and "
                "your edits are still here: make room or give permission, then write again."
            ) from error
        self.document.take(self.text)
        return count

    def meet(self) -> list[Conflict] | None:
        """Take in what another program wrote to the file; None when it wrote nothing new.

        Edits of mine stay on top of it. Settings that both changed are returned, and stand with my value until
        :meth:`yield_to` says otherwise.

        Raises:
            DocumentError: what stands there is no good machine file; draft and document stay as they are.
        """
        text = read_text(self.document.path)
        if text == self.document.text:
            return None
        mine, base = flatten(self.tree), _flat(self.document.text)
        self.document.take(text)
        self._undo, self._redo = [], []
        edits, conflicts = merged(base, mine, _flat(text))
        self._show(edit.edited(text, edits) if edits else text)
        return conflicts

    def yield_to(self, conflicts: list[Conflict]) -> None:
        """Take the other program's value for these settings."""
        self._do(lambda: edit.edited(self.text, {item.path: item.theirs for item in conflicts}))

    def saved_elsewhere(self, old_text: str) -> None:
        """The document was written by a save of kept values: put the edits on top of what it holds now."""
        if self.document.text == old_text:
            return
        if self.text == old_text:
            self._show(self.document.text)
        else:
            edits, _ = merged(_flat(old_text), flatten(self.tree), _flat(self.document.text))
            self._show(edit.edited(self.document.text, edits) if edits else self.document.text)

    # inside

    def _do(self, work: Callable[[], str]) -> None:
        text = work()
        if text != self.text:
            self._undo = [*self._undo[-UNDO_STEPS:], self.text]
            self._redo = []
            self._show(text)

    def _move(self, source: list[str], target: list[str]) -> bool:
        if not source:
            return False
        target.append(self.text)
        self._show(source.pop())
        return True

    def _show(self, text: str) -> None:
        self.text = text
        self.tree: dict[str, Any] = _tree(text)
        document = self.document
        self.checked: CheckResult = document.checked if text == document.text else document.check(text)


def _tree(text: str) -> dict[str, Any]:
    try:
        return tomllib.loads(text)
    except (ValueError, RecursionError):
        return {}


def _flat(text: str) -> dict[str, Value]:
    return flatten(_tree(text))


__all__ = ["Draft", "EditError"]
