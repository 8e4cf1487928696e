"""The title line: machine, board and link, and how many kept changes are not saved."""

from __future__ import annotations

from rich.text import Text
from textual.reactive import reactive
from textual.widget import Widget

from ublet.core.printable import printable
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink


class Title(Widget):
    """One line at the top."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    machine: reactive[str] = reactive("")
    link: reactive[str] = reactive("")
    unsaved: reactive[int] = reactive(0)
    linked: reactive[bool] = reactive(False)
    edits: reactive[int] = reactive(0)

    def __init__(self) -> None:
        super().__init__()

    def render(self) -> Text:
        """Left what is open, right what is not saved."""
        width = self.content_size.width or 100
        left, right = Text(), Text()
        left.append("ublet", f"bold {Ink.focus}")
        left.append(f"   {printable(self.machine)}", f"bold {Ink.text}")
        left.append(f"   {printable(self.link)}", Ink.dim)
        if self.edits:
            right.append(f"{self.edits} edit{'s' * (self.edits != 1)}, not written: ctrl+s", f"bold {Ink.proposal}")
            right.append("   " if self.unsaved else "")
        if self.unsaved:
            right.append(f"{self.unsaved} kept, not saved: ctrl+s", f"bold {Ink.proposal}")
        elif self.linked and not self.edits:
            right.append("all saved", Ink.dim)
        left.truncate(max(10, width - len(right) - 2), overflow="ellipsis")
        left.pad_right(max(1, width - len(left) - len(right)))
        left.append_text(right)
        return left
