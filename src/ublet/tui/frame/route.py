"""The route: every station with its state and key figure; folded to glyphs where there is no room."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import groupby

from rich.text import Text
from textual.binding import Binding
from textual.events import Click
from textual.geometry import Region
from textual.message import Message
from textual.reactive import reactive
from textual.strip import Strip
from textual.widget import Widget

from ublet.core.route import ROUTE, Condition, Station, StationState, glyph
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import strip_of

NAME_COLUMNS = 15
LEG_COLUMNS = 8
FOLDED_BELOW = 30
FOLDED_ROOMY = 23


class Route(Widget, can_focus=True):
    """The list of stations. Moving the cursor shows a station on the bench."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "move(-1)", "station", show=False),
        Binding("down", "move(1)", "station", show=False),
        Binding("pageup", "move_leg(-1)", "leg", show=False),
        Binding("pagedown", "move_leg(1)", "leg", show=False),
        Binding("enter", "enter", "open bench"),
    ]

    cursor: reactive[int] = reactive(0, repaint=False)
    standings: reactive[Mapping[str, StationState]] = reactive({}, always_update=False)
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

    def __init__(self) -> None:
        super().__init__()
        self._drawn_for: tuple[object, ...] = ()
        self._lines: list[Text] = []

    @property
    def station(self) -> Station:
        """The station under the cursor."""
        return ROUTE[self.cursor]

    def watch_cursor(self, before: int, now: int) -> None:
        """Draw the two lines that changed, and announce that the cursor moved."""
        top = self._top
        if self.folded or top or len(ROUTE) > self.content_size.height:
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
        row = event.y - self.gutter.top + self._top
        if not self.folded and 0 <= row < len(ROUTE):
            self.cursor = row

    @property
    def _top(self) -> int:
        """The first station that is shown: the cursor's is always among them."""
        room = max(1, self.content_size.height)
        return max(0, min(self.cursor - room // 2, len(ROUTE) - room))

    def spot(self, number: int) -> tuple[int, int] | None:
        """Where a station's glyph stands on the screen, column and row; None where it is not shown."""
        left, top = self.content_region.offset
        if self.folded:
            legs = list(dict.fromkeys(station.leg for station in ROUTE))
            leg = legs.index(ROUTE[number].leg)
            before = sum(station.leg in legs[:leg] for station in ROUTE)
            column, row = number - before, leg * self._leg_lines + 1
        else:
            column, row = LEG_COLUMNS, number - self._top
        return (left + column, top + row) if 0 <= row < self.content_size.height else None

    @property
    def _leg_lines(self) -> int:
        """Lines that a folded leg takes."""
        return 3 if self.content_size.height > FOLDED_ROOMY else 2

    def style_of(self, state: Condition) -> str:
        """Colour of a state; its glyph and word stand with it."""
        return {
            "open": Ink.text,
            "running": Ink.focus,
            "proven": Ink.good,
            "stale": Ink.focus,
            "failed": Ink.stop,
            "waiting": Ink.dim,
        }[state]

    def get_content_height(self, *_: object) -> int:
        """One line a station."""
        return len(ROUTE)

    def render_line(self, y: int) -> Strip:
        """One line of the sheet, or of the folded route; only lines that changed are drawn again."""
        lines, width = self._all_lines(), self.content_size.width
        y += 0 if self.folded else self._top
        line = lines[y] if y < len(lines) else Text()
        line.truncate(width)
        line.pad_right(max(0, width - len(line)))
        return strip_of(self, line)

    def _all_lines(self) -> list[Text]:
        """Those of the sheet, or of the folded route: made anew when what they show has changed."""
        width = self.content_size.width or 36
        key = (self.folded, width, self._leg_lines, self.cursor, self.has_focus, id(self.standings))
        if key != self._drawn_for:
            self._drawn_for = key
            self._lines = self._folded_lines() if self.folded else self._sheet_lines(width)
        return self._lines

    def _sheet_lines(self, width: int) -> list[Text]:
        return [self._station_line(number, width) for number in range(len(ROUTE))]

    def _station_line(self, number: int, width: int) -> Text:
        station, line = ROUTE[number], Text(end="")
        standing = self.standings.get(station.name, StationState("open"))
        first = number == 0 or ROUTE[number - 1].leg != station.leg
        room = max(0, width - LEG_COLUMNS - 2 - NAME_COLUMNS)
        line.append(f"{station.leg if first else '':<{LEG_COLUMNS}}", Ink.dim)
        style = ""
        if number == self.cursor:
            style = f"bold {Ink.ground} on {Ink.focus}" if self.has_focus else f"bold {Ink.focus}"
        line.append(f"{glyph(standing)} ", style or self.style_of(standing.state))
        line.append(f"{station.name:<{NAME_COLUMNS}}", style or Ink.text)
        line.append(f"{standing.figure[:room]:>{room}}", style or (Ink.dim if standing.unlinked else Ink.text))
        return line

    def _folded_lines(self) -> list[Text]:
        lines = []
        for leg, group in groupby(ROUTE, key=lambda station: station.leg):
            here = self.station.leg == leg
            heading = Text(end="")
            heading.append(f"{leg:<{LEG_COLUMNS}}", f"bold {Ink.focus}" if here else Ink.dim)
            lines.append(heading)
            glyphs = Text(end="")
            for station in group:
                standing = self.standings.get(station.name, StationState("open"))
                style = self.style_of(standing.state)
                if station is self.station:
                    style = f"bold {Ink.ground} on {Ink.focus}"
                glyphs.append(glyph(standing), style)
            lines.append(glyphs)
            if self._leg_lines > 2:
                lines.append(Text(end=""))
        return lines
