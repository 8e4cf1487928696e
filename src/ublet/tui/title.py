"""The title line: machine, board and link, and how many kept changes are not saved."""

from __future__ import annotations

from rich.text import Text
from textual.reactive import reactive
from textual.widget import Widget

from ublet.tui.theme import Palette


class Title(Widget):
    """One line at the top."""

    DEFAULT_CSS = "Title { height: 1; width: 100%; background: $panel; padding: 0 1; }"

    machine: reactive[str] = reactive("")
    link: reactive[str] = reactive("")
    unsaved: reactive[int] = reactive(0)
    linked: reactive[bool] = reactive(False)
    edits: reactive[int] = reactive(0)

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette

    def render(self) -> Text:
        """Left what is open, right what is not saved."""
        palette, width = self.palette, self.content_size.width or 100
        left, right = Text(), Text()
        left.append("ublet", f"bold {palette.focus}")
        left.append(f"   {self.machine}", f"bold {palette.text}")
        left.append(f"   {self.link}", palette.dim)
        if self.edits:
            right.append(f"{self.edits} edit{'s' * (self.edits != 1)}, not written: ctrl+s", f"bold {palette.proposal}")
            right.append("   " if self.unsaved else "")
        if self.unsaved:
            right.append(f"{self.unsaved} kept, not saved: ctrl+s", f"bold {palette.proposal}")
        elif self.linked and not self.edits:
            right.append("all saved", palette.dim)
        left.truncate(max(10, width - len(right) - 2), overflow="ellipsis")
        left.pad_right(max(1, width - len(left) - len(right)))
        left.append_text(right)
        return left
