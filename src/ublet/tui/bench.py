"""What every bench has in common: a session, a palette, a beat, and the words of the app around it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from rich.text import Text
from textual.binding import Binding
from textual.message import Message
from textual.widget import Widget
from textual.widgets import Static

from ublet.core.questions import Question
from ublet.core.trial import Need, TrialSpec
from ublet.tui.sheet import Sheet

if TYPE_CHECKING:
    from ublet.session.hands import DemoHands
    from ublet.session.session import Session
    from ublet.tui.theme import Palette
    from ublet.tui.watch import TrialWatch


class Bench(Widget, can_focus=True):
    """The work area of a station. It holds no physics: it shows what the session knows and passes on what is wanted."""

    FIXED: frozenset[str] = frozenset({"detail"})
    """Texts whose height does not follow what stands in them."""

    class Edited(Message):
        """The draft of the machine file changed: everything that shows it follows."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self.session = session
        self.palette = palette
        self.watched: TrialWatch | None = None
        self._written: dict[str, Text] = {}

    def on_focus(self) -> None:
        """The bar of its sheet is full while the keys go here."""
        self._redraw_sheets()

    def on_blur(self) -> None:
        """And only then."""
        self._redraw_sheets()

    def _redraw_sheets(self) -> None:
        for sheet in self.query(Sheet):
            sheet.refresh()

    @property
    def busy(self) -> bool:
        """Whether something goes on that must be followed at every beat."""
        return self.watched is not None

    @property
    def hands(self) -> DemoHands | None:
        """The demonstration's hands, when this is one."""
        demo = getattr(self.app, "demo", None)
        return demo.hands if demo is not None else None

    def undone(self, question: Question) -> bool:
        """Let the demonstration's hands do what a trial that was cut off left; False where there are none."""
        if (hands := self.hands) is None:
            return False
        hands.act(question.cue)
        return True

    def refresh_state(self) -> None:
        """Bring everything up to date: link, settings, file or theme changed."""

    def beat(self) -> None:
        """A few times a second while the bench is on the screen."""

    def commands(self) -> Iterable[tuple[str, str, str]]:
        """Name, explanation and action of each thing that can be done, for the command palette."""
        return ()

    def help_words(self) -> str:
        """Why this bench is there and how it works, for the help."""
        return ""

    def heater_after(self, spec: TrialSpec, now: str) -> str:
        """The next of the heaters that a trial is done for."""
        names = spec.heaters(self.session.document.machine)
        return names[(names.index(now) + 1) % len(names)] if now in names else names[0]

    def link_needs(self) -> tuple[Need, ...]:
        """What is missing before anything can be asked of the board; empty when it is ready."""
        connection = self.session.connection
        if not connection.linked:
            return (Need("no link to the board", False),)
        if connection.state.mode != "ready":
            return (Need(f"the board is {connection.state.mode}: r releases it", False),)
        if why := self.session.barred():
            return (Need(why.rstrip("."), False),)
        if not connection.samples:
            return (Need("waiting for the first readings", False),)
        if (running := self.session.runner.running) is not None:
            name = running.name.replace("-", " ")
            return (Need(f"{name} runs: wait for its end, or cancel it at its station", False),)
        return ()

    def write(self, part: str, text: Text) -> None:
        """Change one of the bench's texts only when it changed, and the layout only when its lines did."""
        before = self._written.get(part)
        if before is not None and before == text and before.spans == text.spans:
            return
        self._written[part] = text
        widget = self.query_one(f"#{part}", Static)
        if part in self.FIXED:
            widget.update(text, layout=False)
            return
        width = max(1, widget.content_size.width)
        same_height = before is not None and _lines(before, width) == _lines(text, width)
        widget.update(text, layout=not same_height)


def _lines(text: Text, width: int) -> int:
    return sum(max(1, -(-len(line) // width)) for line in text.plain.split("\n"))


class DraftBench(Bench):
    """A bench that edits the draft of the machine file: undo and redo, and everybody told."""

    BINDINGS = [Binding("u", "undo", "undo"), Binding("U", "redo", "redo")]

    def on_mount(self) -> None:
        """Show the draft."""
        self.refresh_state()

    def on_resize(self) -> None:
        """Draw for the new size."""
        self.call_after_refresh(self.refresh_state)

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Undo and redo only when there is something."""
        if action == "undo":
            return self.session.draft.can_undo
        if action == "redo":
            return self.session.draft.can_redo
        return True

    def action_undo(self) -> None:
        """Take the last edit back."""
        self.session.draft.undo()
        self.post_message(self.Edited())

    def action_redo(self) -> None:
        """Do it again."""
        self.session.draft.redo()
        self.post_message(self.Edited())
