"""The route: every station with its state and key figure; folded to glyphs where there is no room."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import groupby

from rich.segment import Segment
from rich.style import Style
from rich.text import Text
from textual.binding import Binding
from textual.events import Click
from textual.geometry import Region
from textual.message import Message
from textual.reactive import reactive
from textual.strip import Strip
from textual.widget import Widget

from ublet.core.route import ROUTE, Standing, Station, StationState, glyph
from ublet.tui.theme import Palette

NAME_COLUMNS = 15
LEG_COLUMNS = 8
FOLDED_BELOW = 30


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

    cursor: reactive[int] = reactive(0, repaint=False)
    standings: reactive[Mapping[str, Standing]] = reactive({}, always_update=False)
    folded: reactive[bool] = reactive(False)

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
        self._drawn_for: tuple[object, ...] = ()
        self._lines: list[Text] = []

    @property
    def station(self) -> Station:
        """The station under the cursor."""
        return ROUTE[self.cursor]

    def watch_cursor(self, before: int, now: int) -> None:
        """Draw the two lines that changed, and tell that the cursor moved."""
        if self.folded:
            self.refresh()
        else:
            width = self.content_size.width
            self.refresh(Region(0, before, width, 1), Region(0, now, width, 1))
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

    def on_resize(self) -> None:
        """Fold where the sheet has no room."""
        self.folded = self.size.width < FOLDED_BELOW

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

    def get_content_height(self, *_: object) -> int:
        """One line a station."""
        return len(ROUTE)

    def render_line(self, y: int) -> Strip:
        """One line of the sheet, or of the folded route; only lines that changed are drawn again."""
        lines = self._folded_lines() if self.folded else self._sheet_lines()
        width = self.content_size.width
        line = lines[y] if y < len(lines) else Text()
        line.truncate(width)
        line.pad_right(max(0, width - len(line)))
        ground = Style(bgcolor=self.palette.panel)
        return Strip([Segment(s.text, ground + s.style if s.style else ground) for s in line.render(self.app.console)])

    def _sheet_lines(self) -> list[Text]:
        width = self.content_size.width or 36
        key = (width, self.cursor, self.has_focus, id(self.standings), self.palette)
        if key != self._drawn_for:
            self._drawn_for = key
            self._lines = [self._station_line(number, width) for number in range(len(ROUTE))]
        return self._lines

    def _station_line(self, number: int, width: int) -> Text:
        palette, station, line = self.palette, ROUTE[number], Text(end="")
        standing = self.standings.get(station.name, Standing("open" if station.built else "waiting"))
        first = number == 0 or ROUTE[number - 1].leg != station.leg
        figure = standing.figure if station.built else "not built"
        room = max(0, width - LEG_COLUMNS - 2 - NAME_COLUMNS)
        line.append(f"{station.leg if first else '':<{LEG_COLUMNS}}", palette.dim)
        style = ""
        if number == self.cursor:
            style = f"bold {palette.ground} on {palette.focus}" if self.has_focus else f"bold {palette.focus}"
        name_style = palette.text if station.built else palette.dim
        line.append(f"{glyph(standing)} ", style or self.style_of(standing.state))
        line.append(f"{station.name:<{NAME_COLUMNS}}", style or name_style)
        line.append(f"{figure[:room]:>{room}}", style or self._figure_style(station, standing))
        return line

    def _figure_style(self, station: Station, standing: Standing) -> str:
        if not station.built:
            return self.palette.quiet
        return self.palette.dim if standing.unlinked else self.palette.text

    def _folded_lines(self) -> list[Text]:
        palette, lines = self.palette, []
        for leg, group in groupby(ROUTE, key=lambda station: station.leg):
            here = self.station.leg == leg
            heading = Text(end="")
            heading.append(f"{leg:<{LEG_COLUMNS}}", f"bold {palette.focus}" if here else palette.dim)
            lines.append(heading)
            glyphs = Text(end="")
            for station in group:
                standing = self.standings.get(station.name, Standing("open" if station.built else "waiting"))
                style = self.style_of(standing.state)
                if station is self.station:
                    style = f"bold {palette.ground} on {palette.focus}"
                glyphs.append(glyph(standing), style)
            lines.append(glyphs)
            if self.content_size.height > 23:
                lines.append(Text(end=""))
        return lines
