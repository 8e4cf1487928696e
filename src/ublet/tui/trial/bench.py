"""What every bench has in common: a session, a beat, what was said last, and its keys as commands and as help."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from rich.text import Text
from textual.binding import Binding
from textual.message import Message
from textual.widget import Widget
from textual.widgets import Static

from ublet.core.questions import Question
from ublet.core.route import GLYPHS, station_with
from ublet.core.settings import Value
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import spelt_out
from ublet.session.chain import UNMET, ChainLink
from ublet.session.preferences import Preferences
from ublet.tui.frame.help import Help, explained
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList

if TYPE_CHECKING:
    from ublet.session.hands import DemoHands
    from ublet.session.session import Session
    from ublet.tui.trial.watch import TrialWatch


class StationBench(Widget, can_focus=True):
    """The work area of a station. It holds no physics: it shows what the session knows and passes on what is wanted.

    kind: as the route names it. title, why: its heading. help: what the help says. Its keys are declared once, in
    BINDINGS: their tooltips stand in the help and make the commands of the palette.
    """

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    kind = ""
    title = ""
    why = ""
    help: Help | None = None

    class Edited(Message):
        """The draft of the machine file changed, or a trial ended: everything that shows it follows."""

    class Wanted(Message):
        """The builder wants to go somewhere else: to a station's trial, to a setting of the machine file, or to a
        moment of the ledger.
        """

        def __init__(
            self, station: str = "", trial: str = "", heater: str = "", setting: str = "", moment: str = ""
        ) -> None:
            super().__init__()
            self.station, self.trial, self.heater, self.setting = station, trial, heater, setting
            self.moment = moment

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.watched: TrialWatch | None = None
        self.message: tuple[str, str] | None = None
        self._written: dict[str, Text] = {}

    def on_focus(self) -> None:
        """The bar of its sheet is full while the keys go here."""
        self._redraw_sheets()

    def on_blur(self) -> None:
        """And only then."""
        self._redraw_sheets()

    def _redraw_sheets(self) -> None:
        for sheet in self.query(RowList):
            sheet.refresh()

    @property
    def busy(self) -> bool:
        """Whether something goes on that must be followed at every beat."""
        return self.watched is not None

    @property
    def preferences(self) -> Preferences:
        """What the builder prefers."""
        return self.session.preferences.now

    def prefer(self, **values: Value) -> None:
        """Keep a choice for the next time."""
        self.session.preferences.change(**values)

    def spelt(self, text: str, unit: str) -> str:
        """What was typed for a quantity, with the unit that the builder means where none was typed."""
        return spelt_out(text, unit, self.preferences.length_unit)

    def ring(self) -> None:
        """The terminal's bell, for whoever wants it."""
        if self.preferences.sound:
            self.app.bell()

    @property
    def hands(self) -> DemoHands | None:
        """The demonstration's hands, when this is one."""
        demo = getattr(self.app, "demo", None)
        return demo.hands if demo is not None else None

    @property
    def station(self) -> str:
        """The name of its station."""
        return station_with(self.kind).name

    def undone(self, question: Question) -> bool:
        """Let the demonstration's hands do what a trial that was cut off left; False where there are none."""
        if (hands := self.hands) is None:
            return False
        hands.act(question.cue)
        return True

    def refresh_state(self) -> None:
        """Bring everything up to date: link, settings or file changed."""

    def beat(self) -> None:
        """A few times a second while the bench is on the screen."""

    def turn_to(self, trial: str, heater: str) -> None:
        """Show one of the station's trials, for one of its heaters, where there are several."""

    def show_moment(self, text: str) -> None:
        """Show a moment of the ledger, where the bench is about one."""

    def panes(self) -> Iterable[tuple[Widget, str]]:
        """The panes that keys can go to: each with the action that goes there, once the bench has the keys."""
        return ((self, ""),)

    def help_now(self) -> Help | None:
        """What the help says of it."""
        return self.help

    def go_to(self, path: str) -> bool:
        """Put the cursor on a setting; False where this bench shows no settings, or not this one."""
        return False

    @classmethod
    def own_bindings(cls) -> list[Binding]:
        """Its keys that are explained, its own before those that others have, too."""
        declared = [
            binding
            for part in cls.__mro__
            for binding in part.__dict__.get("BINDINGS", ())
            if isinstance(binding, Binding)
        ]
        return explained(declared)

    def heading_words(self) -> Text:
        """Title, and why the bench is there: the first line of its heading."""
        text = Text().append(self.title, f"bold {Ink.text}")
        text.append(f"   {self.why}\n", Ink.dim)
        return text

    def say(self, words: str, ink: str) -> None:
        """Say something until something else is said."""
        self.message = (words, ink)
        self.refresh_state()

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
            return (Need(f"{name} is running: wait for its end, or cancel it at its station", False),)
        return ()

    def write(self, part: str, text: Text) -> None:
        """Change one of the bench's texts only when it changed, and the layout only when its lines did."""
        before = self._written.get(part)
        if before is not None and before == text and before.spans == text.spans:
            return
        self._written[part] = text
        widget = self.query_one(f"#{part}", Static)
        height, width = widget.styles.height, max(1, widget.content_size.width)
        fixed = height is not None and not height.is_auto
        same_height = fixed or (before is not None and _lines(before, width) == _lines(text, width))
        widget.update(text, layout=not same_height)


def _lines(text: Text, width: int) -> int:
    return sum(max(1, -(-len(line) // width)) for line in text.plain.split("\n"))


def chain_lines(links: Sequence[ChainLink], width: int) -> Text:
    """What a trial stands on, as a checklist: each station with the glyph of its state; what went stale or failed is
    said, what is only not done yet has its open glyph.
    """
    if not links:
        return Text()
    met = sum(link.met for link in links)
    title = f"stands on, {met} of {len(links)} hold  "
    text, left, indent = Text("\n"), width - len(title), len(title)
    text.append(title, Ink.quiet)
    for link in links:
        missing = "" if link.met or link.state == "open" else f" ({UNMET[link.state]})"
        long = len(link.station.name) + len(missing) + 2
        if long > left and left < width:
            text.append(f"\n{'':{indent}}")
            left = width - indent
        left -= long + 2
        text.append(f"{GLYPHS[link.state]} ", Ink.good if link.met else Ink.focus)
        text.append(link.station.name, Ink.dim if link.met else Ink.text)
        text.append(f"{missing}  ", Ink.focus)
    return text


def needs_lines(needs: Iterable[Need], width: int) -> Text:
    """Each need with a tick, or with what is missing; one that its line has no room for begins the next."""
    text, left = Text(), width
    for need in needs:
        long = len(need.words) + 2
        if long > left and left < width:
            text.append("\n")
            left = width
        left -= long + 3
        ink = Ink.good if need.met else Ink.stop if need.blocking else Ink.focus
        text.append("✓ " if need.met else "✗ " if need.blocking else "! ", ink)
        text.append(f"{need.words}   ", Ink.text)
    return text
