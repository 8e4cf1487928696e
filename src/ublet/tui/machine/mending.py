"""A machine file with errors, opened to be mended: what is wrong above, the text below with the cursor at the first."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.screen import Screen
from textual.timer import Timer
from textual.widgets import Static, TextArea

from ublet.core.machine.check import check_text
from ublet.core.machine.problem import Problem
from ublet.core.words import counted
from ublet.session.document import DocumentError, Faulty, read_text
from ublet.session.files import write_atomically
from ublet.session.library import boards_for
from ublet.tui.frame.keys import Keys
from ublet.tui.frame.small import SmallNote
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList

CHECK_S = 0.2
"""The text is checked when nothing was typed for so long."""


class MendScreen(Screen[object]):
    """Edits the text until it has no errors. Closes with True when the file on the disk can be opened."""

    CSS = style_beside(__file__)
    BINDINGS = [
        Binding("ctrl+n", "next_problem", "next error", priority=True),
        Binding("ctrl+s", "write", "write and open", priority=True),
        Binding("ctrl+z", "undo", "undo", show=False),
        Binding("ctrl+q", "leave", "leave", priority=True),
    ]

    def __init__(self, faulty: Faulty) -> None:
        super().__init__()
        self.path: Path = faulty.path
        self.on_disk = faulty.text
        self.problems = _in_order(faulty.problems)
        self.chosen = 0
        self.message = ""
        self._sure = ""
        self._waiting: Timer | None = None

    def compose(self) -> ComposeResult:
        """Heading, what is wrong, what would mend it, the text, keys."""
        yield Static(id="heading")
        yield RowList(id="problems", marks=True)
        yield Static(id="mend")
        yield TextArea(self.on_disk, show_line_numbers=True, tab_behavior="indent", id="text")
        yield Keys()
        yield SmallNote()

    def on_mount(self) -> None:
        """The cursor at the first error."""
        self.query_one(TextArea).focus()
        self._show()
        self.call_after_refresh(self._go)

    def on_text_area_changed(self) -> None:
        """Check what stands there, once nothing was typed for a moment."""
        self.message = self._sure = ""
        if self._waiting is not None:
            self._waiting.stop()
        self._waiting = self.set_timer(CHECK_S, self._check)

    def _check(self) -> None:
        self.problems = _in_order(check_text(self.query_one(TextArea).text, boards_for(self.path.parent)).errors)
        self.chosen = max(0, min(self.chosen, len(self.problems) - 1))
        self._show()

    def _show(self) -> None:
        heading = Text()
        heading.append(f"{self.path.name} cannot be opened yet", f"bold {Ink.text}")
        count = len(self.problems)
        if count:
            heading.append(f"   ✗ {counted(count, 'error')}", f"bold {Ink.stop}")
        else:
            heading.append("   ✓ no errors left: ctrl+s writes the file and opens it", f"bold {Ink.good}")
        heading.append(
            f"\n{self.message}" if self.message else "\nNothing is linked, nothing moves, nothing heats.", Ink.dim
        )
        self.query_one("#heading", Static).update(heading)
        rows = []
        for problem in self.problems:
            row = Text().append(f"✗ line {problem.line:<5}", Ink.stop)
            row.append(f"{problem.key or 'the text':<36}", Ink.text)
            row.append(f" found {problem.found}", Ink.dim)
            rows.append(row)
        sheet = self.query_one("#problems", RowList)
        sheet.styles.height = max(1, min(10, count))
        sheet.show(rows, self.chosen, False)
        mend = Text()
        if self.problems:
            problem = self.problems[self.chosen]
            mend.append(f"allowed: {problem.allowed}. ", Ink.text)
            mend.append(problem.mend, Ink.focus)
        self.query_one("#mend", Static).update(mend)

    def _go(self) -> None:
        """The text's cursor to the chosen error."""
        if self.problems:
            area = self.query_one(TextArea)
            area.move_cursor((max(0, self.problems[self.chosen].line - 1), 0), center=True)

    def action_next_problem(self) -> None:
        """To the next error."""
        if self.problems:
            self.chosen = (self.chosen + 1) % len(self.problems)
            self._show()
            self._go()

    def action_undo(self) -> None:
        """Take the last edit of the text back."""
        self.query_one(TextArea).undo()

    def action_write(self) -> None:
        """Write the text, when it has no errors left and nobody else changed the file meanwhile."""
        self._check()
        text = self.query_one(TextArea).text
        if self.problems:
            self._say(f"Not written: line {self.problems[0].line} still has an error.")
            return
        try:
            there = read_text(self.path)
        except DocumentError:
            there = self.on_disk
        if there not in (self.on_disk, text) and self._sure != there:
            self._sure = there
            self._say("Another program changed the file meanwhile: ctrl+s again puts this text in its place.")
            return
        try:
            write_atomically(self.path, text)
        except OSError as error:
            self._say(f"Not written: {error.strerror or error}. The file is as it was.")
            return
        self.dismiss(True)

    def action_leave(self) -> None:
        """Leave it as it is; asked twice when something was typed."""
        if self.query_one(TextArea).text != self.on_disk and self._sure != "leave":
            self._sure = "leave"
            self._say("What you typed is not written: ctrl+q again leaves without it.")
            return
        self.dismiss(False)

    def _say(self, words: str) -> None:
        self.message = words
        self._show()


def _in_order(problems: Sequence[Problem]) -> tuple[Problem, ...]:
    """What stands there and is wrong first, by lines; then what is missing."""
    return tuple(sorted(problems, key=lambda problem: (problem.found == "nothing", problem.line, problem.key)))
