"""The bench of the record: every run, change and fact, newest first, and the one under the cursor in full."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Static

from ublet.core.facts import Fact
from ublet.core.typed import shown_after, shown_value
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Change, RunEntry
from ublet.ledger.errors import LedgerError
from ublet.session.export import run_files
from ublet.session.record import local_time, run_lines
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList
from ublet.tui.trial.bench import StationBench

MOST = 300
"""So many of the newest of each kind are listed; `ublet ledger` has them all."""

KINDS = ("everything", "runs", "changes", "facts")

LEDGER_HELP = Help(
    """\
    A number is worth its evidence: when it was found, in what state, from what data, and what became of it.
    """,
    """\
    Every run is kept from its first moment, also one that was cancelled, halted or cut off: what it had recorded
    stays. At the right stands the one under the cursor: what it found, what it rests on with the value that this
    had then, what it asked, what it recorded. e writes all that it recorded as CSV beside the machine file.
    F3 reports what happened at the machine, and shows before what that makes stale.
    """,
)


@dataclass(frozen=True)
class LedgerRow:
    """One line of the list."""

    at: str
    what: RunEntry | Change | Fact


def listed(ledger: Ledger, kind: str) -> list[LedgerRow]:
    """The newest entries of a kind, or of all."""
    rows: list[LedgerRow] = []
    if kind in ("everything", "runs"):
        rows += [LedgerRow(entry.at, entry) for entry in ledger.runs(most=MOST)]
    if kind in ("everything", "changes"):
        rows += [LedgerRow(change.at, change) for change in ledger.changes(most=MOST)]
    if kind in ("everything", "facts"):
        rows += [LedgerRow(fact.at, fact) for fact in ledger.facts(most=MOST)]
    return sorted(rows, key=lambda row: row.at, reverse=True)


class LedgerBench(StationBench):
    """The list at the left, the details of one at the right."""

    kind = "ledger"
    title = "Ledger"
    why = "every run, change and fact of this machine"
    help = LEDGER_HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "move(-1)", "choose", key_display="↑↓", tooltip="Choose an entry"),
        Binding("down", "move(1)", "choose", show=False),
        Binding("pageup", "scroll_detail(-1)", "scroll", show=False),
        Binding("pagedown", "scroll_detail(1)", "scroll", key_display="pgup/dn", tooltip="Scroll its details"),
        Binding("v", "view", "view", tooltip="Everything, runs, changes or facts"),
        Binding("e", "export", "export", tooltip="Write all that the run recorded as CSV beside the machine file"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.cursor = 0
        self.view: str = self.preferences.ledger_view
        self.entries: list[LedgerRow] = []

    def compose(self) -> ComposeResult:
        """Heading, list, details."""
        yield Static(id="heading")
        with Horizontal(id="body"):
            yield RowList(id="list")
            with VerticalScroll(id="entry", can_focus=False):
                yield Static(id="detail")

    def on_mount(self) -> None:
        """Read the ledger."""
        self.refresh_state()

    def refresh_state(self) -> None:
        """Read what is new, and keep the cursor on what it stood on."""
        if not self.is_mounted:
            return
        here = self.chosen
        try:
            self.entries = listed(self.session.ledger, self.view)
        except LedgerError as error:
            self.message = (f"✗ {error}", Ink.stop)
        if here in self.entries:
            self.cursor = self.entries.index(here)
        self._draw()

    @property
    def chosen(self) -> LedgerRow | None:
        """The entry under the cursor."""
        return self.entries[self.cursor] if 0 <= self.cursor < len(self.entries) else None

    def _draw(self) -> None:
        text = Text()
        self.cursor = max(0, min(self.cursor, len(self.entries) - 1))
        text.append_text(self.heading_words())
        if self.message is not None:
            text.append(self.message[0], self.message[1])
        else:
            text.append(f"{self.view}, newest first: {len(self.entries)}", Ink.text)
            text.append("" if self.entries else "   Nothing has been done on this machine yet.", Ink.dim)
        self.write("heading", text)
        sheet = self.query_one("#list", RowList)
        sheet.show([self._line(entry) for entry in self.entries], self.cursor, True)
        self.write("detail", self._detail())
        self.refresh_bindings()

    def _line(self, listed: LedgerRow) -> Text:
        line = Text()
        line.append(f"{local_time(listed.at)[5:]}  ", Ink.dim)
        what = listed.what
        if isinstance(what, RunEntry):
            outcome = "running" if what.running else what.result.outcome
            mark, style = {
                "proven": ("●", Ink.good),
                "failed": ("✗", Ink.stop),
                "running": ("◆", Ink.focus),
            }.get(outcome, ("■", Ink.dim))
            line.append(f"{mark} ", style)
            about = f" {', '.join(what.subject.values())}" if what.subject else ""
            line.append(f"{what.name}{about}  ", Ink.text)
            line.append(outcome if outcome != "halted" else "stopped", style)
        elif isinstance(what, Change):
            line.append("→ ", Ink.proposal)
            line.append(f"{what.kind} {what.setting} ", Ink.text)
            line.append(f"({what.layer}) {shown_after(what.before, what.after, 4)}", Ink.dim)
        else:
            line.append("✎ ", Ink.focus)
            line.append(what.words, Ink.text)
        return line

    def _detail(self) -> Text:
        text = Text()
        if self.chosen is None:
            return text
        what = self.chosen.what
        if isinstance(what, RunEntry):
            for number, line in enumerate(run_lines(self.session.ledger, what)):
                text.append("\n" if line.head and number else "")
                text.append(f"{line.words}\n", f"bold {Ink.focus}" if line.head else Ink.text)
        elif isinstance(what, Change):
            text.append(f"{what.kind} of {what.setting}\n", f"bold {Ink.focus}")
            text.append(f"{local_time(what.at)}, layer {what.layer}\n", Ink.dim)
            text.append(f"{shown_value(what.before)} → {shown_after(what.before, what.after)}\n\n", Ink.text)
            if what.run is not None and (entry := self.session.ledger.run(what.run)) is not None:
                text.append(f"proposed by run {entry.id}, {entry.name}: {entry.result.why}", Ink.text)
            else:
                text.append("proposed by no run: changed by hand", Ink.dim)
        else:
            text.append(f"{what.words}\n", f"bold {Ink.focus}")
            text.append(f"reported {local_time(what.at)}", Ink.dim)
        return text

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Export only a run."""
        if action == "export":
            return self.chosen is not None and isinstance(self.chosen.what, RunEntry)
        return True

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse moves the cursor."""
        self.cursor = event.row
        self._moved()

    def action_move(self, by: int) -> None:
        """The next or the former entry."""
        self.cursor += by
        self._moved()

    def _moved(self) -> None:
        self.message = None
        self._draw()
        self.query_one("#entry", VerticalScroll).scroll_home(animate=False)

    def action_scroll_detail(self, way: int) -> None:
        """Scroll the details."""
        pane = self.query_one("#entry", VerticalScroll)
        pane.scroll_relative(y=way * max(1, pane.size.height - 2), animate=False)

    def action_view(self) -> None:
        """Other kinds of entries."""
        self.view = KINDS[(KINDS.index(self.view) + 1) % len(KINDS)]
        self.prefer(ledger_view=self.view)
        self.cursor, self.message = 0, None
        self.refresh_state()

    def action_export(self) -> None:
        """Write all that the run recorded as CSV beside the machine file."""
        if self.chosen is not None and isinstance(self.chosen.what, RunEntry):
            self.run_worker(self._export(self.chosen.what), group="export", exclusive=True)

    async def _export(self, entry: RunEntry) -> None:
        folder = self.session.document.path.parent
        try:
            streams = self.session.ledger.streams(entry.id)
            files = await asyncio.to_thread(run_files, entry, streams, folder)
        except (OSError, ValueError, LedgerError) as error:
            self.message = (f"✗ Not exported: {error}.", Ink.stop)
        else:
            self.message = (f"✓ Written to {folder}: {', '.join(file.name for file in files)}", Ink.good)
        self._draw()
