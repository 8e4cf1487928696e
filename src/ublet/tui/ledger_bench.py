"""The bench of the record: every run, change and fact, newest first, and the one under the cursor told whole."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
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
from ublet.tui.bench import Bench
from ublet.tui.sheet import Sheet
from ublet.tui.theme import Palette

MOST = 300
"""So many of the newest of each kind are listed; `ublet ledger` has them all."""

KINDS = ("everything", "runs", "changes", "facts")

LEDGER_HELP = """\
WHY   A number is worth what is known of it: when it was found, in what state, from what data, and what became of it.

HOW   Every run is kept from its first moment, also one that was cancelled, halted or cut off: what it had recorded
      stays. At the right stands the one under the cursor: what it found, what it rests on with the value that this
      had then, what it asked, what it recorded. e writes all that it recorded as CSV beside the machine file.
      F3 tells what happened at the machine, and shows before what that makes stale.

KEYS  ↑↓ choose   v view (everything, runs, changes, facts)   e export the run   page keys scroll what is told
"""


@dataclass(frozen=True)
class Listed:
    """One line of the list."""

    at: str
    what: RunEntry | Change | Fact


def listed(ledger: Ledger, kind: str) -> list[Listed]:
    """The newest entries of a kind, or of all."""
    found: list[Listed] = []
    if kind in ("everything", "runs"):
        found += [Listed(entry.at, entry) for entry in ledger.runs(most=MOST)]
    if kind in ("everything", "changes"):
        found += [Listed(change.at, change) for change in ledger.changes(most=MOST)]
    if kind in ("everything", "facts"):
        found += [Listed(fact.at, fact) for fact in ledger.facts(most=MOST)]
    return sorted(found, key=lambda each: each.at, reverse=True)


class LedgerBench(Bench):
    """The list at the left, what is told of one at the right."""

    DEFAULT_CSS = """
    LedgerBench { layout: vertical; width: 1fr; height: 1fr; padding: 0 1; }
    LedgerBench #heading { height: auto; padding: 1 1 0 1; }
    LedgerBench #body { height: 1fr; margin-top: 1; }
    LedgerBench #list { width: 5fr; }
    LedgerBench #told { width: 6fr; padding: 0 1 0 2; }
    LedgerBench #detail { height: auto; }
    """
    BINDINGS = [
        Binding("up", "move(-1)", "choose", key_display="↑↓"),
        Binding("down", "move(1)", "choose", show=False),
        Binding("pageup", "scroll_told(-1)", "scroll", show=False),
        Binding("pagedown", "scroll_told(1)", "scroll", key_display="pgup/dn"),
        Binding("v", "view", "view"),
        Binding("e", "export", "export"),
    ]
    FIXED = frozenset()

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__(session, palette)
        self.cursor = 0
        self.kind = KINDS[0]
        self.entries: list[Listed] = []
        self.told: tuple[str, str] | None = None

    def compose(self) -> ComposeResult:
        """Heading, list, what is told."""
        yield Static(id="heading")
        with Horizontal(id="body"):
            yield Sheet(self.palette, id="list")
            with VerticalScroll(id="told", can_focus=False):
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
            self.entries = listed(self.session.ledger, self.kind)
        except LedgerError as error:
            self.told = (f"✗ {error}", self.palette.stop)
        if here in self.entries:
            self.cursor = self.entries.index(here)
        self._draw()

    @property
    def chosen(self) -> Listed | None:
        """The entry under the cursor."""
        return self.entries[self.cursor] if 0 <= self.cursor < len(self.entries) else None

    def _draw(self) -> None:
        palette, text = self.palette, Text()
        self.cursor = max(0, min(self.cursor, len(self.entries) - 1))
        text.append("Ledger", f"bold {palette.text}")
        text.append("   every run, change and fact of this machine\n", palette.dim)
        if self.told is not None:
            text.append(self.told[0], self.told[1])
        else:
            text.append(f"{self.kind}, newest first: {len(self.entries)}", palette.text)
        self.write("heading", text)
        sheet = self.query_one("#list", Sheet)
        sheet.show([self._line(each) for each in self.entries], self.cursor, True)
        self.write("detail", self._detail())
        self.refresh_bindings()

    def _line(self, listed: Listed) -> Text:
        palette, line = self.palette, Text()
        line.append(f"{local_time(listed.at)[5:]}  ", palette.dim)
        what = listed.what
        if isinstance(what, RunEntry):
            outcome = "running" if what.running else what.result.outcome
            mark, style = {
                "proven": ("●", palette.good),
                "failed": ("✗", palette.stop),
                "running": ("◆", palette.focus),
            }.get(outcome, ("■", palette.dim))
            line.append(f"{mark} ", style)
            about = f" {', '.join(what.subject.values())}" if what.subject else ""
            line.append(f"{what.name}{about}  ", palette.text)
            line.append(outcome if outcome != "halted" else "stopped", style)
        elif isinstance(what, Change):
            line.append("→ ", palette.proposal)
            line.append(f"{what.kind} {what.setting} ", palette.text)
            line.append(f"({what.layer}) {shown_after(what.before, what.after, 4)}", palette.dim)
        else:
            line.append("✎ ", palette.focus)
            line.append(what.words, palette.text)
        return line

    def _detail(self) -> Text:
        palette, text = self.palette, Text()
        if self.chosen is None:
            text.append("Nothing has been done on this machine yet.", palette.dim)
            return text
        what = self.chosen.what
        if isinstance(what, RunEntry):
            for number, line in enumerate(run_lines(self.session.ledger, what)):
                text.append("\n" if line.head and number else "")
                text.append(f"{line.words}\n", f"bold {palette.focus}" if line.head else palette.text)
        elif isinstance(what, Change):
            text.append(f"{what.kind} of {what.setting}\n", f"bold {palette.focus}")
            text.append(f"{local_time(what.at)}, layer {what.layer}\n", palette.dim)
            text.append(f"{shown_value(what.before)} → {shown_after(what.before, what.after)}\n\n", palette.text)
            if what.run is not None and (entry := self.session.ledger.run(what.run)) is not None:
                text.append(f"proposed by run {entry.id}, {entry.name}: {entry.result.why}", palette.text)
            else:
                text.append("proposed by no run: changed by hand", palette.dim)
        else:
            text.append(f"{what.words}\n", f"bold {palette.focus}")
            text.append(f"told {local_time(what.at)}", palette.dim)
        return text

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Export only a run."""
        if action == "export":
            return self.chosen is not None and isinstance(self.chosen.what, RunEntry)
        return True

    def on_sheet_pointed(self, event: Sheet.Pointed) -> None:
        """The mouse moves the cursor."""
        self.cursor = event.row
        self._moved()

    def action_move(self, by: int) -> None:
        """The next or the former entry."""
        self.cursor += by
        self._moved()

    def _moved(self) -> None:
        self.told = None
        self._draw()
        self.query_one("#told", VerticalScroll).scroll_home(animate=False)

    def action_scroll_told(self, way: int) -> None:
        """Scroll what is told."""
        told = self.query_one("#told", VerticalScroll)
        told.scroll_relative(y=way * max(1, told.size.height - 2), animate=False)

    def action_view(self) -> None:
        """Other kinds of entries."""
        self.kind = KINDS[(KINDS.index(self.kind) + 1) % len(KINDS)]
        self.cursor, self.told = 0, None
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
            self.told = (f"✗ Not exported: {error}.", self.palette.stop)
        else:
            self.told = (f"✓ Written to {folder}: {', '.join(file.name for file in files)}", self.palette.good)
        self._draw()

    def commands(self) -> Iterable[tuple[str, str, str]]:
        """For the command palette."""
        return (
            ("view", "Everything, runs, changes or facts", "view"),
            ("export", "Write what the run recorded as CSV", "export"),
        )

    def help_words(self) -> str:
        """Why and how."""
        return LEDGER_HELP
