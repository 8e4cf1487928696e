"""The bench that puts two states of a machine side by side."""

from __future__ import annotations

from rich.text import Text
from textual.binding import Binding

from ublet.core.settings import Value
from ublet.core.trouble import Trouble
from ublet.core.typed import shown_value
from ublet.session.comparing import Comparison, compared, state_named
from ublet.session.record import finding_words, local_time
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.record.moments import moment_dialog
from ublet.tui.record.scrolled import ScrolledBench

COMPARE_HELP = Help(
    """\
    Two states side by side: what differs, by how much, and what happened in between.
    """,
    """\
    a and b choose the states: now, a save, a run (the machine as it was when the run began, with what was kept of it),
    a date, or another machine's file. Settings stand at the station whose run proposed them last. A finding is shown
    when the two runs differ by more than both their uncertainties; the others are counted.
    """,
)

WIDE = 110
"""Columns from which there is room for whole paths and values."""


class CompareBench(ScrolledBench):
    """What differs between two states, by station."""

    kind = "compare"
    title = "Compare"
    why = "two states of this machine, or this one and another"
    help = COMPARE_HELP
    BINDINGS = [
        Binding("a", "choose('a')", "state A", tooltip="Choose the first state"),
        Binding("b", "choose('b')", "state B", tooltip="Choose the second state"),
        Binding("s", "swap", "swap", tooltip="Exchange both states"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.a, self.b = "", "now"

    def show_moment(self, text: str) -> None:
        """An entry of the ledger against now."""
        self.a, self.b = text, "now"
        self.refresh_state()

    def body_text(self) -> Text:
        """What differs; before a state is chosen, how."""
        if not self.a:
            ledger = self.session.ledger
            if not ledger.run_count and not ledger.changes(most=1):
                return Text(
                    "Nothing stands in the ledger yet: here two of its states will stand side by side.", Ink.dim
                )
            return Text("a chooses the first state: a save, a run, a date, another machine's file.", Ink.text)
        try:
            comparison = compared(
                self.session.ledger, state_named(self.session, self.a), state_named(self.session, self.b)
            )
        except Trouble as error:
            return Text(f"✗ {error}", Ink.stop)
        return comparison_text(comparison, self.size.width)

    def action_choose(self, which: str) -> None:
        """Choose a state."""

        def take(named: str | None) -> None:
            if named is not None:
                setattr(self, which, named)
                self.message = None
                self.refresh_state()

        self.app.push_screen(moment_dialog(self.session, f"State {which.upper()}", True), take)

    def action_swap(self) -> None:
        """Exchange both."""
        if self.a:
            self.a, self.b = self.b, self.a
            self.refresh_state()


def comparison_text(comparison: Comparison, width: int) -> Text:
    """What differs, a line for each setting and finding, under its station. width: columns."""
    path_columns, columns = (34, 18) if width >= WIDE else (26, 14)
    text = Text(no_wrap=True)
    text.append(f"{'':<{path_columns + 2}}", Ink.dim)
    for words in (comparison.a.words, comparison.b.words):
        shown = words if len(words) < columns else words.partition(" (")[0][: columns - 1]
        text.append(f"{shown:>{columns}}", f"bold {Ink.focus}")
    text.append("\n")
    for station in comparison.stations:
        settings = [pair for pair in comparison.settings if pair.station == station]
        findings = [pair for pair in comparison.findings if pair.station == station and pair.significant]
        if not settings and not findings:
            continue
        text.append(f"\n{station or 'by no trial'}\n", f"bold {Ink.text}")
        for pair in settings:
            text.append(f"  {pair.path[-path_columns:]:<{path_columns}}", Ink.text)
            text.append(f"{_value(pair.a, columns):>{columns}}", Ink.dim)
            text.append(f"{_value(pair.b, columns):>{columns}}", Ink.proposal)
            text.append(f" {pair.unit:<8}", Ink.dim)
            why = pair.reason.rpartition(", found by ")[2]
            text.append(f" {pair.layer}{f', {why}' if why else ''}\n", Ink.dim)
        for both in findings:
            text.append(f"  {both.shown.name[:path_columns]:<{path_columns}}", Ink.text)
            text.append(f"{finding_words(both.a):>{columns}}", Ink.dim)
            text.append(f"{finding_words(both.b):>{columns}}", Ink.focus)
            text.append("  by more than both err\n", Ink.dim)
    quiet = sum(1 for both in comparison.findings if not both.significant)
    if quiet:
        text.append(
            f"\n{quiet} findings of other runs differ by no more than they err, or stand on one side.\n", Ink.dim
        )
    if comparison.facts:
        text.append("\nreported between them\n", f"bold {Ink.text}")
        for fact in comparison.facts:
            text.append(f"  {local_time(fact.at)}  {fact.words}\n", Ink.text)
    if not comparison.settings and not comparison.findings and not comparison.facts:
        text.append("\nNothing differs.", Ink.good)
    return text


def _value(value: Value, columns: int) -> str:
    shown = shown_value(value, 5) or "—"
    return shown if len(shown) < columns else f"{shown[: columns - 2]}…"
