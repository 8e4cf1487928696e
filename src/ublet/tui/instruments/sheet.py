"""A sheet of rows with a cursor: draws only what is on the screen, and scrolls with the cursor."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.events import Click, MouseScrollDown, MouseScrollUp
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import strip_of


class RowList(Widget):
    """Rows of text, one of them under the cursor. The bench around it gives the rows and takes the keys.

    marks: the row under the cursor stands out when the keys go elsewhere, too.
    """

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    class Pointed(Message):
        """A row was pointed at with the mouse."""

        def __init__(self, sheet: RowList, row: int) -> None:
            super().__init__()
            self.sheet, self.row = sheet, row

    def __init__(self, id: str | None = None, marks: bool = False) -> None:
        super().__init__(id=id)
        self.rows: Sequence[Text] = ()
        self.cursor = 0
        self.active = False
        self.marks = marks
        self.top = 0

    def show(self, rows: Sequence[Text], cursor: int, active: bool) -> None:
        """Show rows with the cursor at one of them; active: keys go to this sheet."""
        cursor = max(0, min(cursor, len(rows) - 1))
        if (rows, cursor, active) == (self.rows, self.cursor, self.active):
            return
        self.rows, self.cursor, self.active = rows, cursor, active
        self._scroll()
        self.refresh()

    def on_resize(self) -> None:
        """Keep the cursor on the screen."""
        self._scroll()
        self.refresh()

    def line_of(self, row: int) -> int:
        """The screen line of a row within the sheet."""
        return row - self.top

    @property
    def _has_keys(self) -> bool:
        """Whether keys go to the bench or the dialog that it stands in: only one bar on the screen is full."""
        focused = self.screen.focused
        owner = next(
            (ancestor for ancestor in self.ancestors if isinstance(ancestor, Widget) and ancestor.can_focus), None
        )
        return owner is None or focused is owner or (focused is not None and owner in focused.ancestors)

    def _scroll(self) -> None:
        height = self.content_size.height
        if height < 1:
            return
        if self.cursor < self.top:
            self.top = self.cursor
        elif self.cursor >= self.top + height:
            self.top = self.cursor - height + 1
        self.top = max(0, min(self.top, len(self.rows) - height))

    def render_line(self, y: int) -> Strip:
        """One row, or a mark that there is more."""
        width, height = self.content_size.width, self.content_size.height
        number = self.top + y
        line = self.rows[number].copy() if number < len(self.rows) else Text()
        line.end = ""
        here = number == self.cursor and self.rows
        line.truncate(width, overflow="ellipsis")
        line.pad_right(max(0, width - len(line)))
        if here and self.active and self._has_keys:
            line.stylize(f"bold {Ink.ground} on {Ink.focus}")
        elif here and (self.marks or self.active):
            line.stylize(f"bold {Ink.focus}")
        above, below = self.top, len(self.rows) - self.top - height
        more = f" ↑{above} " if y == 0 and above > 0 else f" ↓{below} " if y == height - 1 and below > 0 else ""
        if more and width > 20:
            line = line[: width - len(more)]
            line.end = ""
            line.append(more, f"{Ink.dim} on {Ink.panel}")
        return strip_of(self, line)

    def on_click(self, event: Click) -> None:
        """Point at a row."""
        if 0 <= self.top + event.y < len(self.rows):
            self.post_message(self.Pointed(self, self.top + event.y))

    def on_mouse_scroll_down(self, event: MouseScrollDown) -> None:
        """Scroll without moving the cursor."""
        self.top = max(0, min(self.top + 3, len(self.rows) - self.content_size.height))
        self.refresh()

    def on_mouse_scroll_up(self, event: MouseScrollUp) -> None:
        """Scroll without moving the cursor."""
        self.top = max(0, self.top - 3)
        self.refresh()
