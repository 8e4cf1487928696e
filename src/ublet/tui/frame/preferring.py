"""The dialog of the preferences: each with what it is for; space changes one, the file is written at once."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Static

from ublet.core.settings import Value, declarations
from ublet.core.typed import shown_value
from ublet.session.preferences import Kept, Preferences
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList

JOG_STEPS_MM = (0.1, 1.0, 10.0, 50.0)


class PreferencesDialog(Dialog):
    """Every preference with its values; the next one with space or enter."""

    BINDINGS = [
        Binding("up", "move(-1)", "choose", show=False),
        Binding("down", "move(1)", "choose", show=False),
        Binding("space,enter", "next_value", "change", show=False),
    ]

    def __init__(self, kept: Kept) -> None:
        super().__init__()
        self.kept = kept
        self.known = list(declarations(Preferences))
        self.cursor = 0

    def compose(self) -> ComposeResult:
        """Heading, sheet, what the chosen one is for, keys."""
        with Vertical():
            yield Static(Text("Preferences", "bold"))
            yield RowList(id="preferences")
            yield Static(id="about")
            yield Static("↑↓ choose    space changes it    esc closes", classes="keys")

    def on_mount(self) -> None:
        """Show them."""
        self.query_one(RowList).styles.height = len(self.known)
        self._show()

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse chooses, too."""
        self.cursor = event.row
        self._show()

    def _show(self) -> None:
        rows = []
        for declared in self.known:
            row = Text(f" {declared.path.replace('_', ' '):<20}", Ink.text)
            value = getattr(self.kept.now, declared.path)
            row.append_text(Text(f"{shown_value(value)} {declared.unit}", f"bold {Ink.focus}"))
            rows.append(row)
        self.query_one(RowList).show(rows, self.cursor, True)
        declared = self.known[self.cursor]
        about = Text(f"\n{declared.help} Allowed: {declared.allowed()}.\n", Ink.text)
        about.append(self.kept.trouble or f"Kept in {self.kept.path}; you can edit them there, too.", Ink.dim)
        self.query_one("#about", Static).update(about)

    def action_move(self, by: int) -> None:
        """Another preference."""
        self.cursor = max(0, min(len(self.known) - 1, self.cursor + by))
        self._show()

    def action_next_value(self) -> None:
        """The next of its values."""
        declared = self.known[self.cursor]
        now = getattr(self.kept.now, declared.path)
        values: tuple[Value, ...] = declared.choices or (False, True)
        if declared.path == "jog_step_mm":
            values = JOG_STEPS_MM
        after = values[(values.index(now) + 1) % len(values)] if now in values else values[0]
        self.kept.change(**{declared.path: after})
        if declared.path == "theme":
            self.app.theme = str(after)
        self._show()
