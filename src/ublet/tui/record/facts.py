"""The dialog that reports a fact: what happened at the machine, and before it is reported, what that makes stale."""

from __future__ import annotations

from dataclasses import replace

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Input, Static

from ublet.core.facts import Fact, FactError, fact_from, paths
from ublet.ledger.errors import LedgerError
from ublet.session.record import local_time
from ublet.session.saving import now
from ublet.session.session import Session
from ublet.session.stale import NEXT, Supposed, redo_for
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList
from ublet.tui.trial.redo import chain_text

ROWS = 7
"""Most lines of the chain that are shown."""


class FactDialog(Dialog):
    """Choose what it is about, say what happened, see what it takes with it, then report it. Closes with its words."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "move(-1)", "choose", priority=True),
        Binding("down", "move(1)", "choose", priority=True),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.known = list(paths(session.document.machine).items())
        self.in_force = {fact.path: fact for fact in session.ledger.facts_in_force()}
        self.cursor = 0

    def compose(self) -> ComposeResult:
        """What it can be about, what happened, what that makes stale."""
        with Vertical():
            yield Static("What happened at the machine?")
            sheet = RowList(id="kinds")
            yield sheet
            yield Input(id="said", select_on_focus=True)
            yield Static(id="stale")
            yield Static(id="keys", classes="keys")

    def on_mount(self) -> None:
        """Begin with the first."""
        keys = Text()
        for key, words in (("↑↓", "what it is about"), ("enter", "report it"), ("esc", "nothing happened")):
            keys.append(f"{key} ", Ink.focus)
            keys.append(f"{words}    ", Ink.text)
        self.query_one("#keys", Static).update(keys)
        self._chosen()
        self.query_one("#said", Input).focus()

    def action_move(self, by: int) -> None:
        """Another kind."""
        self.cursor = max(0, min(len(self.known) - 1, self.cursor + by))
        self._chosen()

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse chooses, too."""
        self.cursor = event.row
        self._chosen()

    def _chosen(self) -> None:
        field = self.query_one("#said", Input)
        field.value = self.known[self.cursor][1].said
        field.cursor_position = len(field.value)
        self._draw()

    def on_input_changed(self, event: Input.Changed) -> None:
        """What it would make stale follows what is typed."""
        event.stop()
        self._draw()

    def _draw(self) -> None:
        rows = [self._row(path) for path, _ in self.known]
        self.query_one("#kinds", RowList).show(rows, self.cursor, True)
        self.query_one("#stale", Static).update(self._stale())

    def _row(self, path: str) -> Text:
        kind, row = dict(self.known)[path], Text()
        row.append(f"  {path.replace('.', ' '):<20}", Ink.text)
        row.append(f"{kind.words:<29}", Ink.dim)
        if (fact := self.in_force.get(path)) is not None:
            row.append(f"{fact.value}, {local_time(fact.at)}", Ink.focus)
        else:
            row.append("nothing reported yet", Ink.quiet)
        return row

    def _fact(self) -> Fact:
        path, _ = self.known[self.cursor]
        return fact_from(self.session.document.machine, path, self.query_one("#said", Input).value)

    def _stale(self) -> Text:
        text = Text()
        try:
            affected = redo_for(self.session, Supposed(facts=(replace(self._fact(), id=NEXT),)))
        except (FactError, LedgerError) as error:
            text.append(f"✗ {error}", Ink.stop)
            return text
        _, kind = self.known[self.cursor]
        text.append(f"{kind.why[0].upper()}{kind.why[1:]}.\n", Ink.dim)
        if not affected:
            text.append("Nothing that still holds rests on it.", Ink.text)
            return text
        text.append_text(chain_text(affected, 3 if self.has_class("-short") else ROWS))
        return text

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Tell it."""
        event.stop()
        try:
            fact = self.session.ledger.report_fact(replace(self._fact(), at=now()))
        except (FactError, LedgerError) as error:
            self.query_one("#stale", Static).update(Text(f"✗ {error}", Ink.stop))
            return
        self.close_with(fact.words)
