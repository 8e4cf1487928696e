"""The list of machines that `ublet` begins with when several are known: where each stands, and what is next."""

from __future__ import annotations

from pathlib import Path

from rich.text import Text
from textual.app import App, ComposeResult
from textual.binding import Binding
from textual.widgets import Static

from ublet.core.trouble import Trouble
from ublet.session.machines import KnownMachine, known_machines
from ublet.session.places import forget
from ublet.session.record import local_time
from ublet.tui.frame.theme import THEMES, Ink, ink_theme, theme_kept
from ublet.tui.instruments.sheet import RowList

NAME, STATE, NEXT = 20, 26, 30
"""Columns of the table."""


class MachinesApp(App[tuple[Path, str | None]]):
    """Ends with the machine file and port to open; with nothing when nothing is to be opened."""

    TITLE = "ublet"
    CSS_PATH = "app.tcss"
    ENABLE_COMMAND_PALETTE = False
    BINDINGS = [
        Binding("up", "move(-1)", "choose", priority=True),
        Binding("down", "move(1)", "choose", priority=True),
        Binding("enter", "open", "open", priority=True),
        Binding("m", "mark", "mark"),
        Binding("x", "forget", "forget"),
        Binding("escape", "quit", "quit"),
        Binding("q", "quit", "quit"),
        Binding("ctrl+q", "quit", "quit"),
    ]

    def __init__(self) -> None:
        super().__init__()
        self.machines: list[KnownMachine] = []
        self.cursor = 0
        self.marked: int | None = None
        for theme in THEMES:
            self.register_theme(theme)
        self.theme = theme_kept()
        self.console.push_theme(ink_theme(self.theme))

    def compose(self) -> ComposeResult:
        """Heading, the table, what is known of the one under the cursor, keys."""
        yield Static(id="machines-heading")
        yield RowList(id="machines")
        yield Static(id="machines-about")
        yield Static(id="machines-keys")

    def on_mount(self) -> None:
        """Look at every machine."""
        self.machines = known_machines()
        self._draw()

    def _draw(self) -> None:
        head = Text("\n ublet", f"bold {Ink.focus}").append("   your machines, the last one first\n\n", Ink.text)
        head.append(f"   {'':<{NAME}}{'proven':<{STATE}}{'next':<{NEXT}}last opened", Ink.dim)
        self.query_one("#machines-heading", Static).update(head)
        rows = [self._row(number, one) for number, one in enumerate(self.machines)]
        self.cursor = max(0, min(self.cursor, len(rows) - 1))
        self.query_one("#machines", RowList).show(rows, self.cursor, True)
        self.query_one("#machines-about", Static).update(self._about())
        keys = Text(" ")
        for key, words in (
            ("enter", "open"),
            ("↑↓", "choose"),
            ("m", "mark, to compare it with another" if self.marked is None else "compare with the marked one"),
            ("x", "forget (its files stay)"),
            ("esc", "leave"),
        ):
            keys.append(f"{key} ", Ink.focus).append(f"{words}    ", Ink.text)
        self.query_one("#machines-keys", Static).update(keys)

    def _row(self, number: int, one: KnownMachine) -> Text:
        row = Text(" ▸ " if number == self.marked else "   ", Ink.focus)
        row.append(f"{one.name[: NAME - 2]:<{NAME}}", f"bold {Ink.text}")
        if one.trouble:
            return row.append(f"✗ {one.trouble}", Ink.stop)
        state = f"{one.proven} of {one.needed}" if one.needed else "–"
        stale = f", {one.stale} stale" if one.stale else ""
        row.append(f"{state}", Ink.good if one.needed and one.proven == one.needed else Ink.text)
        row.append(f"{stale:<{STATE - len(state)}}", Ink.focus)
        row.append(f"{one.next[: NEXT - 2]:<{NEXT}}", Ink.text)
        return row.append(local_time(one.at) if one.at else "", Ink.dim)

    def _about(self) -> Text:
        text = Text("\n")
        if not self.machines:
            return text.append(
                " None yet: `ublet demo` opens a made-up one, `ublet new DIR` begins your own.", Ink.text
            )
        one = self.machines[self.cursor]
        text.append(f" {one.file}", Ink.text).append(f"   port {one.port}" if one.port else "", Ink.dim)
        if one.moved_from:
            text.append(f"\n found again by its ledger; it was {one.moved_from}", Ink.focus)
        if self.marked is not None and self.marked != self.cursor:
            text.append_text(self._comparison(self.machines[self.marked], one))
        return text

    def _comparison(self, a: KnownMachine, b: KnownMachine) -> Text:
        from ublet.ledger.book import Ledger
        from ublet.session.comparing import compared
        from ublet.session.past import other_machine
        from ublet.session.session import ledger_path
        from ublet.tui.record.compare import comparison_text

        try:
            ledger = Ledger(ledger_path(a.file), threaded=False)
            try:
                comparison = compared(ledger, other_machine(a.file), other_machine(b.file))
            finally:
                ledger.close()
        except (Trouble, OSError) as error:
            return Text(f"\n\n ✗ {error}", Ink.stop)
        return Text("\n\n").append_text(comparison_text(comparison, self.size.width))

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse chooses, too."""
        self.cursor = event.row
        self._draw()

    def action_move(self, by: int) -> None:
        """Another machine."""
        self.cursor += by
        self._draw()

    def action_mark(self) -> None:
        """Mark the one under the cursor, or no longer."""
        self.marked = None if self.marked == self.cursor else self.cursor
        self._draw()

    def action_forget(self) -> None:
        """Take the one under the cursor off the list."""
        if self.machines:
            forget(self.machines[self.cursor].file)
            del self.machines[self.cursor]
            self.marked = None
            self._draw()

    def action_open(self) -> None:
        """Open the one under the cursor."""
        if self.machines and not self.machines[self.cursor].trouble:
            one = self.machines[self.cursor]
            self.exit((one.file, one.port))
