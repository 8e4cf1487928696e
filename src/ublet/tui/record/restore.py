"""The bench that goes back to settings as they were: what would change, what becomes stale, what is proven again."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Static

from ublet.core.trouble import Trouble
from ublet.core.typed import shown_after, shown_value
from ublet.session.past import moment_of
from ublet.session.record import local_time
from ublet.session.restoring import Restoration, restoration, restore
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.pickers import ConfirmDialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList
from ublet.tui.record.moments import moment_dialog
from ublet.tui.trial.bench import StationBench

RESTORE_HELP = Help(
    """\
    Go back to settings as they were: all of them, or those that you leave in. Nothing is taken out of the ledger.
    """,
    """\
    m chooses the moment, space leaves a setting out or takes it in. At the right stands what would no longer hold, and
    which runs would be proven again because all that they rest on is as it was then. enter shows it once more, then
    keeps and saves on the board and in the machine file, together. What newer runs found is set aside, not deleted: a
    later restore brings it back.
    """,
)


class RestoreBench(StationBench):
    """Settings of a moment at the left, what they do to the evidence at the right."""

    kind = "restore"
    title = "Restore"
    why = "settings as they were, through the same keep and save"
    help = RESTORE_HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("m", "choose", "moment", tooltip="Choose a save, a run or a date to go back to"),
        Binding("up", "move(-1)", "choose", key_display="↑↓", tooltip="Choose a setting"),
        Binding("down", "move(1)", "choose", show=False),
        Binding("space", "leave_out", "out / in", tooltip="Leave the setting out, or take it in"),
        Binding("enter", "restore", "restore", tooltip="Show it once more, then keep and save it"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.moment = ""
        self.cursor = 0
        self.left_out: set[str] = set()
        self.planned: Restoration | None = None
        self.whole: Restoration | None = None

    def compose(self) -> ComposeResult:
        """Heading, settings, effects."""
        yield Static(id="heading")
        with Horizontal(id="body"):
            yield RowList(id="list")
            with VerticalScroll(id="entry", can_focus=False):
                yield Static(id="detail")

    def on_mount(self) -> None:
        """Draw."""
        self.refresh_state()

    def show_moment(self, text: str) -> None:
        """Go back to an entry of the ledger."""
        self.moment, self.left_out, self.cursor, self.message = text, set(), 0, None
        self.refresh_state()

    def refresh_state(self) -> None:
        """Plan anew: settings or evidence may have moved."""
        if not self.is_mounted:
            return
        self.whole = self.planned = None
        if self.moment:
            try:
                moment = moment_of(self.session.ledger, self.moment)
                self.whole = restoration(self.session, moment)
                chosen = [path for path in self.whole.values if path not in self.left_out]
                if not self.left_out:
                    self.planned = self.whole
                elif chosen:
                    self.planned = restoration(self.session, moment, chosen)
            except Trouble as error:
                self.message = (f"✗ {error}", Ink.stop)
        self._draw()

    def _draw(self) -> None:
        heading = self.heading_words()
        if self.message is not None:
            heading.append(self.message[0], self.message[1])
        elif self.whole is not None:
            heading.append(f"as of {self.whole.moment.words}: ", Ink.text)
            heading.append(f"{len(self.whole.values)} settings differ from now", Ink.focus)
        else:
            heading.append("m chooses the moment to go back to.", Ink.text)
        self.write("heading", heading)
        rows = [] if self.whole is None else [self._row(proposal.setting) for proposal in self.whole.option.proposals]
        self.cursor = max(0, min(self.cursor, len(rows) - 1))
        self.query_one("#list", RowList).show(rows, self.cursor, True)
        self.write("detail", self._effects())
        self.refresh_bindings()

    def _row(self, path: str) -> Text:
        assert self.whole is not None
        p = next(proposal for proposal in self.whole.option.proposals if proposal.setting == path)
        out = path in self.left_out
        row = Text("· " if out else "✓ ", Ink.dim if out else Ink.good)
        row.append(f"{path}  ", Ink.dim if out else Ink.text)
        row.append(f"{shown_value(p.before, 4)} → ", Ink.dim)
        row.append(f"{shown_after(p.before, p.after, 4)} {p.unit}".rstrip(), Ink.dim if out else Ink.proposal)
        return row

    def _effects(self) -> Text:
        text = Text()
        planned = self.planned
        if planned is None:
            if self.whole is not None and not self.whole.values:
                text.append("Nothing to restore: all of it is as it was then.", Ink.good)
            return text
        text.append("becomes stale\n", f"bold {Ink.focus}")
        for run in planned.stale:
            text.append(f"▲ {run.station}: ", Ink.focus)
            text.append(f"{'; '.join(run.reasons)}\n", Ink.text)
        text.append("" if planned.stale else "nothing\n", Ink.dim)
        text.append("\nproven again\n", f"bold {Ink.good}")
        for one in planned.again:
            text.append(f"● {one.entry.station}: ", Ink.good)
            text.append(f"run {one.entry.id} of {local_time(one.entry.at)}\n", Ink.text)
        text.append("" if planned.again else "nothing that newer runs had replaced\n", Ink.dim)
        if planned.not_given:
            text.append("\nnot given then: they stay as they are\n", f"bold {Ink.text}")
            text.append("\n".join(planned.not_given), Ink.dim)
        if planned.gone:
            text.append("\nleft out: this machine has no place for them any more\n", f"bold {Ink.text}")
            text.append("\n".join(planned.gone), Ink.dim)
        return text

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only what can be done now."""
        if action in ("leave_out", "move"):
            return self.whole is not None and bool(self.whole.values)
        if action == "restore":
            return self.planned is not None and bool(self.planned.values)
        return True

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse moves the cursor."""
        self.cursor = event.row
        self._draw()

    def action_move(self, by: int) -> None:
        """Another setting."""
        self.cursor += by
        self._draw()

    def action_leave_out(self) -> None:
        """The setting under the cursor out, or in again."""
        if self.whole is not None and self.whole.values:
            self.left_out ^= {list(self.whole.values)[self.cursor]}
            self.refresh_state()

    def action_choose(self) -> None:
        """Choose the moment."""

        def take(named: str | None) -> None:
            if named is not None:
                self.show_moment(named)

        self.app.push_screen(moment_dialog(self.session, "Go back to", False), take)

    def action_restore(self) -> None:
        """Ask, then keep and save."""
        if (missing := self.link_needs()) or self.planned is None:
            self.say(f"✗ {missing[0].words}: nothing was restored." if missing else "Nothing is chosen.", Ink.stop)
            return
        planned = self.planned

        def take(answer: str | None) -> None:
            if answer == "yes":
                self.run_worker(self._restore(planned), group="restore", exclusive=True)

        text = Text()
        for p in planned.option.proposals:
            text.append(f"{p.setting}: {shown_value(p.before, 4)} → {shown_after(p.before, p.after, 4)} {p.unit}\n")
        text.append("\n").append_text(self._effects())
        title = f"Restore {len(planned.values)} settings as of {planned.moment.words}?"
        self.app.push_screen(ConfirmDialog(title, text, "keep and save them"), take)

    async def _restore(self, planned: Restoration) -> None:
        try:
            saved = await restore(self.session, planned)
        except Trouble as error:
            self.message = (f"✗ {error}", Ink.stop)
        else:
            self.message = (f"✓ {saved} settings as of {planned.moment.words} are live and saved.", Ink.good)
            self.left_out = set()
        self.post_message(self.Edited())
        self.refresh_state()
