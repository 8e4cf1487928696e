"""The route: every station with its state and key figure; folded to glyphs where there is no room."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import groupby

from rich.text import Text
from textual.binding import Binding
from textual.events import Click
from textual.message import Message
from textual.reactive import reactive
from textual.widget import Widget

from ublet.core.route import GLYPHS, ROUTE, Standing, Station, StationState
from ublet.tui.theme import Palette

NAME_COLUMNS = 15
LEG_COLUMNS = 8


class Route(Widget, can_focus=True):
    """The list of stations. Moving the cursor shows a station on the bench."""

    DEFAULT_CSS = """
    Route { width: 38; height: 1fr; background: $panel; padding: 1 1 0 1; overflow-y: auto; }
    """
    BINDINGS = [
        Binding("up", "move(-1)", "station", show=False),
        Binding("down", "move(1)", "station", show=False),
        Binding("pageup", "move_leg(-1)", "leg", show=False),
        Binding("pagedown", "move_leg(1)", "leg", show=False),
        Binding("enter", "enter", "open bench"),
    ]

    cursor: reactive[int] = reactive(0)
    standings: reactive[Mapping[str, Standing]] = reactive({}, always_update=False)
    folded: reactive[bool] = reactive(False, layout=True)

    class Moved(Message):
        """The cursor stands at another station."""

        def __init__(self, station: Station) -> None:
            super().__init__()
            self.station = station

    class Entered(Message):
        """The builder wants to work at this station."""

        def __init__(self, station: Station) -> None:
            super().__init__()
            self.station = station

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette

    @property
    def station(self) -> Station:
        """The station under the cursor."""
        return ROUTE[self.cursor]

    def watch_cursor(self) -> None:
        """Tell that the cursor moved."""
        self.post_message(self.Moved(self.station))

    def action_move(self, by: int) -> None:
        """Move by stations."""
        self.cursor = max(0, min(len(ROUTE) - 1, self.cursor + by))

    def action_move_leg(self, by: int) -> None:
        """Move to the first station of the next or the former leg."""
        legs = list(dict.fromkeys(station.leg for station in ROUTE))
        wanted = legs[max(0, min(len(legs) - 1, legs.index(self.station.leg) + by))]
        self.cursor = next(n for n, station in enumerate(ROUTE) if station.leg == wanted)

    def action_enter(self) -> None:
        """Go to the bench."""
        self.post_message(self.Entered(self.station))

    def on_click(self, event: Click) -> None:
        """A click moves the cursor."""
        row = event.y - 1
        if not self.folded and 0 <= row < len(ROUTE):
            self.cursor = row

    def style_of(self, state: StationState) -> str:
        """Colour of a state; its glyph and word stand with it."""
        palette = self.palette
        return {
            "open": palette.text,
            "running": palette.focus,
            "proven": palette.good,
            "stale": palette.focus,
            "failed": palette.stop,
            "waiting": palette.dim,
        }[state]

    def render(self) -> Text:
        """All stations, or one line of glyphs a leg when folded."""
        return self._folded() if self.folded else self._sheet()

    def _sheet(self) -> Text:
        palette, text = self.palette, Text(no_wrap=True)
        width = self.content_size.width or 36
        last_leg = ""
        for number, station in enumerate(ROUTE):
            standing = self.standings.get(station.name, Standing("open"))
            leg = station.leg if station.leg != last_leg else ""
            last_leg = station.leg
            figure = standing.figure if station.built else "not built"
            room = width - LEG_COLUMNS - 2 - NAME_COLUMNS
            line = Text()
            line.append(f"{leg:<{LEG_COLUMNS}}", palette.dim)
            chosen = number == self.cursor
            name_style = palette.text if station.built else palette.dim
            style = f"bold {palette.ground} on {palette.focus}" if chosen and self.has_focus else ""
            if chosen and not self.has_focus:
                style = f"bold {palette.focus}"
            line.append(f"{GLYPHS[standing.state]} ", style or self.style_of(standing.state))
            line.append(f"{station.name:<{NAME_COLUMNS}}", style or name_style)
            line.append(f"{figure[:room]:>{room}}", style or (palette.text if station.built else palette.quiet))
            text.append_text(line)
            text.append("\n")
        return text

    def _folded(self) -> Text:
        palette, text = self.palette, Text(no_wrap=True)
        for leg, group in groupby(ROUTE, key=lambda station: station.leg):
            here = self.station.leg == leg
            text.append(f"{leg:<{LEG_COLUMNS}}\n", f"bold {palette.focus}" if here else palette.dim)
            for station in group:
                standing = self.standings.get(station.name, Standing("open"))
                style = self.style_of(standing.state)
                if station is self.station:
                    style = f"bold {palette.ground} on {palette.focus}"
                text.append(GLYPHS[standing.state], style)
            text.append("\n\n" if self.content_size.height > 23 else "\n")
        return text
