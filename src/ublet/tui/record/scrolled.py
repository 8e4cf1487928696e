"""A bench that is a heading and a long text to scroll."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.widgets import Static

from ublet.tui.frame.style import style_beside
from ublet.tui.trial.bench import StationBench


class ScrolledBench(StationBench):
    """What stands in :meth:`body_text` below the heading, with what was said last."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "scroll(-1)", "scroll", key_display="↑↓", tooltip="Scroll by a line"),
        Binding("down", "scroll(1)", "scroll", show=False),
        Binding("pageup", "scroll(-10)", "scroll", show=False),
        Binding("pagedown", "scroll(10)", "scroll", show=False),
    ]

    def body_text(self) -> Text:
        """The text."""
        raise NotImplementedError

    def compose(self) -> ComposeResult:
        """Heading, then the text."""
        yield Static(id="heading")
        with VerticalScroll(id="scrolled", can_focus=False):
            yield Static(id="text")

    def on_mount(self) -> None:
        """Draw."""
        self.refresh_state()

    def refresh_state(self) -> None:
        """Made anew: what it shows may have moved."""
        if not self.is_mounted:
            return
        heading = self.heading_words()
        if self.message is not None:
            heading.append(self.message[0], self.message[1])
        self.write("heading", heading)
        self.write("text", self.body_text())

    def action_scroll(self, by: int) -> None:
        """Scroll by lines."""
        self.query_one("#scrolled", VerticalScroll).scroll_relative(y=by, animate=False)
