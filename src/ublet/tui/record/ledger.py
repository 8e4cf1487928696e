"""The bench of the record: every run, change and fact, newest first, narrowed by typing; the one under the cursor in
full, with what its findings do over the runs, and what the builder noted at it.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Input, Static

from ublet.core.facts import Fact
from ublet.core.trend import FEWEST
from ublet.core.typed import shown_after, shown_value
from ublet.ledger.book import SET_ASIDE, Ledger, NotedKind
from ublet.ledger.entries import Change, RunEntry
from ublet.ledger.errors import LedgerError
from ublet.session.export import run_files
from ublet.session.record import local_time, run_lines
from ublet.session.saving import now
from ublet.session.session import Session
from ublet.session.trends import followed, trends_of
from ublet.tui.frame.help import Help
from ublet.tui.frame.pickers import LineDialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList
from ublet.tui.record.trend_picture import trend_picture
from ublet.tui.trial.bench import StationBench

LONGEST_NOTE = 200
"""Characters of a note."""

MOST = 300
"""Number of the newest entries of each kind that are listed; `ublet ledger` has them all."""

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

    / narrows the list to entries that hold every word that is typed: a station, a setting, a heater, an axis, a
    material, an outcome, a word of a note. n notes something at an entry. A finding that creeps or stepped over its
    runs is said and drawn at the run; t draws the next finding. c puts an entry beside now, R goes back to it.
    """,
)


@dataclass(frozen=True)
class LedgerRow:
    """One line of the list."""

    at: str
    what: RunEntry | Change | Fact

    @property
    def key(self) -> tuple[NotedKind, int]:
        """Its kind and number, by which notes are kept."""
        if isinstance(self.what, RunEntry):
            return "run", self.what.id
        return ("change" if isinstance(self.what, Change) else "fact"), self.what.id


def listed(ledger: Ledger, kind: str, words: Sequence[str] = ()) -> list[LedgerRow]:
    """The newest entries of a kind, or of all; with words those that hold every one of them."""
    rows: list[LedgerRow] = []
    if kind in ("everything", "runs"):
        entries = ledger.found_runs(words, MOST) if words else ledger.runs(most=MOST)
        rows += [LedgerRow(entry.at, entry) for entry in entries]
    if kind in ("everything", "changes"):
        changes = ledger.found_changes(words, MOST) if words else ledger.changes(most=MOST)
        rows += [LedgerRow(change.at, change) for change in changes]
    if kind in ("everything", "facts"):
        facts = ledger.found_facts(words, MOST) if words else ledger.facts(most=MOST)
        rows += [LedgerRow(fact.at, fact) for fact in facts]
    return sorted(rows, key=lambda row: row.at, reverse=True)


EMPTY = (
    "Nothing was done on this machine yet. Every run, every change of a setting, every save and every fact will stand "
    "here, newest first."
)


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
        Binding("slash", "narrow", "narrow", key_display="/", tooltip="Only entries that hold the words that you type"),
        Binding("escape", "widen", "all again", show=False, tooltip="Every entry again"),
        Binding("n", "note", "note", tooltip="Note something at the entry, to be found again by its words"),
        Binding("t", "trend", "trend", tooltip="Draw the next finding of the run over all its runs"),
        Binding("c", "compare", "compare", tooltip="The machine as of this entry beside now"),
        Binding("R", "restore", "restore", tooltip="Go back to the machine as of this entry"),
        Binding("e", "export", "export", tooltip="Write all that the run recorded as CSV beside the machine file"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.cursor = 0
        self.view: str = self.preferences.ledger_view
        self.entries: list[LedgerRow] = []
        self.notes: dict[tuple[NotedKind, int], str] = {}
        self.words: tuple[str, ...] = ()
        self.drawn = 0
        """Which of a run's findings is drawn over its runs."""

    def compose(self) -> ComposeResult:
        """Heading, list, details."""
        yield Static(id="heading")
        yield Input(id="words", placeholder="words of a station, setting, heater, outcome, note ...")
        with Horizontal(id="body"):
            yield RowList(id="list")
            with VerticalScroll(id="entry", can_focus=False):
                yield Static(id="detail")

    def on_mount(self) -> None:
        """Read the ledger."""
        self.query_one("#words", Input).display = False
        self.refresh_state()

    def refresh_state(self) -> None:
        """Read what is new, and keep the cursor on what it stood on."""
        if not self.is_mounted:
            return
        here = self.chosen
        try:
            self.entries = listed(self.session.ledger, self.view, self.words)
            self.notes = self.session.ledger.notes()
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
            if self.words:
                text.append(f"   with {' and '.join(self.words)}", Ink.focus)
                text.append("   esc shows all again", Ink.dim)
            elif not self.entries:
                text.append(f"   {EMPTY}", Ink.dim)
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
        if note := self.notes.get(listed.key):
            line.append(f"  “{note}”", Ink.focus)
        return line

    def _detail(self) -> Text:
        text = Text()
        if self.chosen is None:
            return text
        what = self.chosen.what
        if note := self.notes.get(self.chosen.key):
            text.append(f"“{note}”\n\n", f"bold {Ink.focus}")
        if isinstance(what, RunEntry):
            if aside := self.session.ledger.marks(SET_ASIDE).get(what.id):
                text.append(f"set aside, does not count any more: {aside}\n\n", Ink.focus)
            text.append_text(self._trends(what))
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

    def _trends(self, entry: RunEntry) -> Text:
        """What the findings of a run do over its runs, in words; one of them drawn."""
        text, ledger = Text(), self.session.ledger
        if entry.result.outcome != "proven":
            return text
        for one in trends_of(ledger, entry):
            text.append(f"▲ {one.words}\n", Ink.focus)
        known = [f for f in entry.result.findings if len(ledger.followed(f.id, FEWEST)) >= FEWEST]
        if known:
            one = followed(ledger, entry, known[self.drawn % len(known)])
            if len(one.values) >= FEWEST:
                text.append(f"{one.finding.name} over {len(one.values)} runs", f"bold {Ink.focus}")
                text.append(f", {one.finding.unit}\n" if one.finding.unit else "\n", Ink.dim)
                text.append_text(trend_picture(one, self.query_one("#entry").size.width - 4))
                text.append("\n")
        return text

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Export only a run."""
        if action in ("export", "trend"):
            return self.chosen is not None and isinstance(self.chosen.what, RunEntry)
        if action in ("note", "compare", "restore"):
            return self.chosen is not None
        return True

    def action_narrow(self) -> None:
        """Type words that entries must hold."""
        field = self.query_one("#words", Input)
        field.display = True
        field.focus()

    def action_widen(self) -> None:
        """Every entry again."""
        field = self.query_one("#words", Input)
        field.value, field.display = "", False
        self.words = ()
        self.focus()
        self.refresh_state()

    def on_input_changed(self, event: Input.Changed) -> None:
        """The list follows what is typed."""
        event.stop()
        self.words = tuple(event.value.split())
        self.cursor, self.message = 0, None
        self.refresh_state()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """The keys go to the list again."""
        event.stop()
        self.query_one("#words", Input).display = False
        self.focus()

    def action_trend(self) -> None:
        """The next finding of the run."""
        self.drawn += 1
        self._draw()

    def action_note(self) -> None:
        """Note something at the entry."""
        if self.chosen is None:
            return
        kind, number = self.chosen.key

        def take(text: str | None) -> None:
            if text is None:
                return
            try:
                self.session.ledger.note(kind, number, now(), " ".join(text.split())[:LONGEST_NOTE])
            except LedgerError as error:
                self.message = (f"✗ {error}", Ink.stop)
            self.refresh_state()

        before = self.notes.get((kind, number), "")
        hint = "what is worth finding again; an empty line takes it away"
        self.app.push_screen(LineDialog("A note at this entry", before, lambda text: None, hint, True), take)

    def action_compare(self) -> None:
        """The machine as of the entry beside now."""
        if self.chosen is not None:
            self.post_message(self.Wanted("compare", moment=_moment(self.chosen)))

    def action_restore(self) -> None:
        """Go back to the entry."""
        if self.chosen is not None:
            self.post_message(self.Wanted("restore", moment=_moment(self.chosen)))

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse moves the cursor."""
        self.cursor = event.row
        self._moved()

    def action_move(self, by: int) -> None:
        """The next or the former entry."""
        self.cursor += by
        self.drawn = 0
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


def _moment(row: LedgerRow) -> str:
    """What names the moment of an entry: a run by its number, anything else by its time."""
    return str(row.what.id) if isinstance(row.what, RunEntry) else row.at
