"""Dialogs that pick: one of some words, a setting found by its words, a line of text."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Input, Static

from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList


@dataclass(frozen=True)
class PickerItem:
    """One answer of a picker: what it gives back, what stands there, and a note behind it."""

    value: str
    words: str
    note: str = ""


class PickDialog(Dialog):
    """A list to choose from. Typing narrows it; its answer is the value of the choice."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "move(-1)", show=False, priority=True),
        Binding("down", "move(1)", show=False, priority=True),
        Binding("pageup", "move(-10)", show=False, priority=True),
        Binding("pagedown", "move(10)", show=False, priority=True),
    ]

    def __init__(
        self,
        title: str,
        choices: Callable[[str], Sequence[PickerItem]],
        chosen: str = "",
        hint: str = "type to narrow",
    ) -> None:
        super().__init__()
        self.heading, self.choices, self.hint = title, choices, hint
        self.found = list(choices(""))
        self.cursor = next((n for n, choice in enumerate(self.found) if choice.value == chosen), 0)

    def compose(self) -> ComposeResult:
        """Heading, field, list."""
        with Vertical():
            yield Static(Text(self.heading, "bold"))
            yield Input(placeholder=self.hint)
            yield RowList()
            yield Static("enter takes it    ↑↓ choose    esc leaves it", classes="keys")

    def on_mount(self) -> None:
        """Show the list."""
        self._show()

    def on_resize(self) -> None:
        """The columns follow the width."""
        self.call_after_refresh(self._show)

    def _show(self) -> None:
        rows = []
        sheet = self.query_one(RowList)
        columns = max([len(choice.words) for choice in self.found] + [0])
        for choice in self.found:
            row = Text(f" {choice.words:<{columns}}", Ink.text)
            row.append(f"   {choice.note}", Ink.dim)
            rows.append(row)
        if not rows:
            rows = [Text(" nothing fits these words", Ink.dim)]
        sheet.styles.height = min(20, max(3, len(rows)))
        sheet.show(rows, self.cursor, bool(self.found))

    def on_input_changed(self, event: Input.Changed) -> None:
        """Narrow the list."""
        before = self.found[self.cursor].value if self.found and not event.value else ""
        self.found = list(self.choices(event.value))
        self.cursor = next((n for n, choice in enumerate(self.found) if choice.value == before), 0)
        self._show()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take the choice under the cursor."""
        if self.found:
            self.close_with(self.found[self.cursor].value)

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """Take the choice that was pointed at."""
        if event.row < len(self.found):
            self.close_with(self.found[event.row].value)

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self.cursor = max(0, min(len(self.found) - 1, self.cursor + by))
        self._show()


def narrowed(choices: Sequence[PickerItem]) -> Callable[[str], Sequence[PickerItem]]:
    """The choices that hold every typed word."""

    def fitting(typed: str) -> Sequence[PickerItem]:
        words = typed.lower().split()
        return [c for c in choices if all(word in f"{c.words} {c.note}".lower() for word in words)]

    return fitting


class LineDialog(Dialog):
    """A line of text to type, checked as one types: ``check`` gives what is wrong, or None."""

    def __init__(
        self, title: str, value: str, check: Callable[[str], str | None], hint: str = "", may_be_empty: bool = False
    ) -> None:
        super().__init__()
        self.heading, self.value, self.check, self.hint = title, value, check, hint
        self.may_be_empty = may_be_empty

    def compose(self) -> ComposeResult:
        """The field, and what is wrong."""
        with Vertical():
            yield Static(self.heading)
            yield Input(self.value, placeholder=self.hint, select_on_focus=True)
            yield Static("", id="echo")
            yield Static("enter takes it    esc leaves it", classes="keys")

    def on_input_changed(self, event: Input.Changed) -> None:
        """Say what is wrong while it is typed."""
        reason = self.check(event.value) if event.value else None
        echo = self.query_one("#echo", Static)
        echo.update(reason or "")
        echo.set_class(reason is not None, "wrong")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take a good line."""
        if (event.value or self.may_be_empty) and self.check(event.value) is None:
            self.close_with(event.value)


class ConfirmDialog(Dialog):
    """Something to read before it is done; enter does it."""

    BINDINGS = [Binding("enter", "answer('yes')", "do it")]

    def __init__(self, title: str, text: Text, deed: str) -> None:
        super().__init__()
        self.heading, self.text, self.deed = title, text, deed

    def compose(self) -> ComposeResult:
        """The heading, the text, and the two keys."""
        from textual.containers import VerticalScroll

        keys = Text()
        keys.append("enter ", Ink.focus)
        keys.append(f"{self.deed}    ", Ink.text)
        keys.append("esc ", Ink.focus)
        keys.append("not now", Ink.text)
        with Vertical():
            yield Static(Text(self.heading, "bold"))
            yield Static("")
            with VerticalScroll(can_focus=False):
                yield Static(self.text)
            yield Static(keys, classes="keys")
