"""The last gate of what is drawn: characters that would steer the terminal are taken out of every line."""

from __future__ import annotations

from rich.segment import Segment
from textual.color import Color
from textual.filter import LineFilter

from ublet.core.printable import is_printable, without_unprintable


class PrintableLines(LineFilter):
    """Takes them out where they stand: they have no width, so that nothing moves."""

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        """The same line, safe to write."""
        if all(is_printable(segment.text) for segment in segments):
            return segments
        return [Segment(without_unprintable(text), style, control) for text, style, control in segments]


PRINTABLE = PrintableLines()
