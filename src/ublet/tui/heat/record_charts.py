"""The instrument of the heater benches: the climb small, what matters large, the duty below on the same time scale."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.widget import Widget
from textual.widgets import Static

from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.chart import Picture, StripChart


class RecordCharts(Widget):
    """Four charts and a legend; those at the left go where there is nothing for them."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    def __init__(self) -> None:
        super().__init__()
        self._legend = Text()

    def compose(self) -> ComposeResult:
        """At the left the climb over the cycles; at the right the large one over the duty."""
        with Horizontal(id="charts"):
            with Vertical(id="beside"):
                yield StripChart(id="climb")
                yield StripChart(id="cycles")
            with Vertical():
                yield StripChart(id="large")
                yield StripChart(id="duty")
        yield Static(id="legend")

    def show(
        self,
        large: Picture,
        duty: Picture | None,
        entries: Sequence[tuple[str, str]],
        heat_up: Picture | None = None,
        cycles: Picture | None = None,
    ) -> None:
        """Draw them. entries: the legend, each a word and its ink."""
        self.query_one("#beside").set_class(heat_up is None, "empty")
        self.query_one("#cycles").set_class(cycles is None, "empty")
        for name, picture in (("climb", heat_up), ("cycles", cycles), ("large", large), ("duty", duty)):
            self.query_one(f"#{name}", StripChart).show(picture)
        legend = Text(no_wrap=True)
        for word, ink in entries:
            legend.append("⠒⠒ ", ink)
            legend.append(f"{word}    ", Ink.dim)
        if legend != self._legend or legend.spans != self._legend.spans:
            self._legend = legend
            self.query_one("#legend", Static).update(legend, layout=False)
