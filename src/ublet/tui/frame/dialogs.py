"""Dialogs: a question of a trial, what a save would change, a quantity to type, a text to read."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from rich.console import RenderableType
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Input, Static

from ublet.core.machine.compare import Conflict, Difference
from ublet.core.questions import Question
from ublet.core.typed import shown_after, shown_value
from ublet.core.units import NotAQuantity, parse, show
from ublet.session.saving import Saved
from ublet.tui.frame.bright import keep_bright
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink


class Dialog(ModalScreen[str | None]):
    """A plain sheet over the bench; escape closes it with None."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [Binding("escape", "answer('')", "close", show=False)]

    answered = False

    def on_mount(self) -> None:
        """The live machine and HALT stay bright; in a terminal that is too small the note stands for all of it."""
        keep_bright(self)

    def action_answer(self, answer: str) -> None:
        """Close with an answer; an empty one is none."""
        self.close_with(answer or None)

    def close_with(self, answer: str | None) -> None:
        """Close, once: a second key that was on its way must not close what lies below."""
        if not self.answered:
            self.answered = True
            self.dismiss(answer)


class QuestionDialog(Dialog):
    """A question with its answers; each answer's first letter is its key."""

    def __init__(self, question: Question) -> None:
        super().__init__()
        self.question = question
        for answer in question.answers:
            self._bindings.bind(answer[0], f"answer('{answer}')", answer)
        self._bindings.bind("enter", f"answer('{question.answers[0]}')", question.answers[0])

    def compose(self) -> ComposeResult:
        """The question and its keys."""
        keys = Text()
        for answer in self.question.answers:
            keys.append(f"{answer[0]} ", Ink.focus)
            keys.append(f"{answer}    ", Ink.text)
        with Vertical():
            yield Static(self.question.text)
            yield Static(keys, classes="keys")

    def action_answer(self, answer: str) -> None:
        """Escape gives the last answer, the one that does nothing."""
        self.close_with(answer or self.question.answers[-1])


class SaveDialog(Dialog):
    """What saving would change, in the board's store and in the file; single ones can be left out.

    Closes with the settings to save, one a line; with None when nothing is to be saved.
    """

    BINDINGS = [
        Binding("enter", "save", "save"),
        Binding("space", "leave_out", "in or out"),
        Binding("up", "move(-1)", "choose"),
        Binding("down", "move(1)", "choose"),
    ]

    def __init__(self, changes: Sequence[Saved], file: str, note: str, stores: bool = True) -> None:
        super().__init__()
        self.changes, self.file, self.note, self.stores = changes, file, note, stores
        self.left_out: set[str] = set()
        self.cursor = 0

    def compose(self) -> ComposeResult:
        """A line a setting: file, store, and what both will hold."""
        with Vertical():
            if self.stores:
                yield Static(f"Save to the board's store and to {self.file}, together?")
            else:
                yield Static(f"Save to {self.file}? The board has no store: write it anew after each power-on.")
            yield Static("")
            with VerticalScroll():
                yield Static(self._table(), id="table")
            yield Static(self.note)
            yield Static(self._keys(), classes="keys", id="keys")

    def _table(self) -> Text:
        table = Text(no_wrap=True)
        table.append(f"{'':4}{'setting':<30}{'file':>11}{'stored':>11}{'live':>11}\n", Ink.dim)
        for number, change in enumerate(self.changes):
            out = change.setting in self.left_out
            table.append("▸ " if number == self.cursor else "  ", Ink.focus)
            table.append("· " if out else "✓ ", Ink.dim if out else Ink.good)
            table.append(f"{change.setting:<30}", Ink.dim if out else Ink.text)
            for value in (change.file, change.stored):
                table.append(f"{shown_value(value):>11}", Ink.dim if out else Ink.text)
            after = shown_after(change.stored, change.after)
            table.append(f"{after:>11}", Ink.dim if out else f"bold {Ink.proposal}")
            table.append("   stays live only\n" if out else "\n", Ink.dim)
        return table

    def _keys(self) -> Text:
        count, keys = len(self.changes) - len(self.left_out), Text()
        for key, words in (
            ("enter", f"save {count} in both" if count else "nothing is chosen"),
            ("↑↓", "choose"),
            ("space", "out / in"),
            ("esc", "not now"),
        ):
            keys.append(f"{key} ", Ink.focus)
            keys.append(f"{words}    ", Ink.text)
        return keys

    def _show(self) -> None:
        self.query_one("#table", Static).update(self._table())
        self.query_one("#keys", Static).update(self._keys())

    def action_move(self, by: int) -> None:
        """Another setting."""
        self.cursor = max(0, min(len(self.changes) - 1, self.cursor + by))
        self._show()

    def action_leave_out(self) -> None:
        """The setting under the cursor out, or in again."""
        self.left_out ^= {self.changes[self.cursor].setting}
        self._show()

    def action_save(self) -> None:
        """Save those that are in."""
        wanted = [change.setting for change in self.changes if change.setting not in self.left_out]
        if wanted:
            self.close_with("\n".join(wanted))


class ConflictDialog(Dialog):
    """Settings that were edited here and in another program: whose values stand?"""

    BINDINGS = [Binding("m", "answer('mine')", "mine"), Binding("t", "answer('theirs')", "theirs")]

    def __init__(self, conflicts: Sequence[Conflict]) -> None:
        super().__init__()
        self.conflicts = conflicts

    def compose(self) -> ComposeResult:
        """A line a setting, and the two ways."""
        table, keys = Text(), Text()
        table.append(f"{'setting':<34}{'before':>11}{'mine':>13}{'on the disk':>13}\n", Ink.dim)
        for item in self.conflicts:
            table.append(f"{item.path:<34}{shown_value(item.before):>11}", Ink.text)
            table.append(f"{shown_value(item.mine):>13}", f"bold {Ink.proposal}")
            table.append(f"{shown_value(item.theirs):>13}\n", f"bold {Ink.focus}")
        for key, words in (("m", "mine stand, as edits not written yet"), ("t", "theirs stand")):
            keys.append(f"{key} ", Ink.focus)
            keys.append(f"{words}    ", Ink.text)
        with Vertical():
            yield Static("Another program changed the machine file, and these settings you edited too. Whose stand?")
            yield Static("")
            yield Static(table)
            yield Static(keys, classes="keys")


def differences_text(differences: Sequence[Difference]) -> Text:
    """Settings that change, one a line."""
    text = Text()
    for item in differences:
        text.append(f"{item.path:<36}", Ink.text)
        text.append(f"{shown_value(item.before):>12} → ", Ink.dim)
        after = shown_after(item.before, item.after) if item.after is not None else "left out"
        text.append(f"{after}\n", f"bold {Ink.proposal}")
    return text


class QuantityDialog(Dialog):
    """A number to type, with any unit that fits."""

    def __init__(self, title: str, unit: str, value: float, check: Callable[[float], str | None]) -> None:
        super().__init__()
        self.heading, self.unit, self.value, self.check = title, unit, value, check

    def compose(self) -> ComposeResult:
        """The field, and below it what would be set, or what is wrong."""
        with Vertical():
            yield Static(self.heading)
            yield Input(f"{self.value:g}", select_on_focus=True)
            yield Static("", id="echo")
            yield Static("enter sets    esc leaves it", classes="keys")

    def on_input_changed(self, event: Input.Changed) -> None:
        """Echo the value in the machine's unit while it is typed."""
        _, value, wrong = self._read(event.value)
        echo = self.query_one("#echo", Static)
        echo.update(value)
        echo.set_class(wrong, "wrong")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take a good value."""
        value, _, wrong = self._read(event.value)
        if not wrong:
            self.close_with(repr(value))

    def _read(self, text: str) -> tuple[float, str, bool]:
        try:
            value = parse(text, self.unit)
        except NotAQuantity as error:
            return 0.0, str(error), True
        reason = self.check(value)
        return value, reason or f"= {show(value, self.unit)}", reason is not None


class TextDialog(Dialog):
    """A text to read; the keys scroll it."""

    BINDINGS = [
        Binding("up", "scroll(-1)", show=False, priority=True),
        Binding("down", "scroll(1)", show=False, priority=True),
        Binding("pageup", "page(-1)", show=False, priority=True),
        Binding("pagedown", "page(1)", show=False, priority=True),
    ]

    def __init__(self, title: str, text: RenderableType) -> None:
        super().__init__()
        self.heading, self.text = title, text

    def compose(self) -> ComposeResult:
        """Heading and scrolling text."""
        with Vertical():
            yield Static(Text(self.heading, "bold"))
            yield Static("")
            with VerticalScroll(can_focus=False):
                yield Static(self.text)
            yield Static("↑↓ page up and down scroll    esc closes", classes="keys")

    def action_scroll(self, lines: int) -> None:
        """Scroll by so many lines."""
        self.query_one(VerticalScroll).scroll_relative(y=lines, animate=False)

    def action_page(self, way: int) -> None:
        """Scroll by what is seen, less a line."""
        self.action_scroll(way * max(1, self.query_one(VerticalScroll).size.height - 1))
