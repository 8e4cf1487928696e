"""A drawing that is made as a whole and painted by lines: of a picture of a hundred columns a key changes a few."""

from __future__ import annotations

from rich.text import Text
from textual.geometry import Region, Size
from textual.strip import Strip
from textual.visual import VisualType
from textual.widgets import Static

from ublet.tui.instruments.picture import strip_of


class Drawing(Static):
    """Lines of text, none of them wrapped; too long ones end in dots."""

    def __init__(self, id: str | None = None) -> None:
        super().__init__(id=id)
        self.lines: list[Text] = []

    @property
    def content(self) -> VisualType:
        """The drawing as it is."""
        return Text("\n").join(self.lines)

    @content.setter
    def content(self, content: VisualType) -> None:
        self.update(content)

    def update(self, content: VisualType = "", *, layout: bool = True) -> None:
        """Show another drawing; only lines that differ are painted again, unless there are more of them or fewer."""
        text = content if isinstance(content, Text) else Text(str(content))
        before, self.lines = self.lines, list(text.split("\n", allow_blank=True))
        if layout or len(before) != len(self.lines):
            self.refresh(layout=True)
            return
        pairs = enumerate(zip(before, self.lines, strict=True))
        changed = [row for row, (old, new) in pairs if old.plain != new.plain or old.spans != new.spans]
        if changed:
            left, top = self.gutter.left, self.gutter.top
            self.refresh(*(Region(left, top + row, self.content_size.width, 1) for row in changed))

    def get_content_width(self, container: Size, viewport: Size) -> int:
        """All there is."""
        return container.width

    def get_content_height(self, container: Size, viewport: Size, width: int) -> int:
        """A row a line."""
        return len(self.lines)

    def render_line(self, y: int) -> Strip:
        """One line of it."""
        width = self.content_size.width
        line = self.lines[y].copy() if y < len(self.lines) else Text()
        if line.cell_len > width:
            line.truncate(width, overflow="ellipsis")
        line.pad_right(max(0, width - line.cell_len))
        line.end = ""
        return strip_of(self, line)
