"""A drawing of character cells: text written over text, each with its ink; dots added to dots."""

from __future__ import annotations

from collections.abc import Iterator

from rich.text import Text

from ublet.tui.instruments.dots import BLANK


class Cells:
    """width x height cells, blank at first; what lies outside is left out."""

    def __init__(self, width: int, height: int) -> None:
        self.width, self.height = width, height
        self._marks = [[" "] * width for _ in range(height)]
        self._styles = [[""] * width for _ in range(height)]

    def put(self, column: int, row: int, words: str, style: str) -> None:
        """Write words to the right from a cell."""
        if 0 <= row < self.height:
            for offset, mark in enumerate(words):
                if 0 <= column + offset < self.width:
                    self._marks[row][column + offset] = mark
                    self._styles[row][column + offset] = style

    def add_dots(self, column: int, row: int, code: int, style: str) -> None:
        """Braille dots (a code point): added to the dots that are there, in the new ink."""
        if 0 <= row < self.height and 0 <= column < self.width:
            there = ord(self._marks[row][column])
            self._marks[row][column] = chr(code | there if BLANK <= there < BLANK + 0x100 else code)
            self._styles[row][column] = style

    def box(self, left: int, top: int, right: int, bottom: int, style: str, lines: str = "─│┌┐└┘") -> None:
        """A frame of lines: across, down, and the corners upper left, upper right, lower left, lower right."""
        for column in range(left + 1, right):
            self.put(column, top, lines[0], style)
            self.put(column, bottom, lines[0], style)
        for row in range(top + 1, bottom):
            self.put(left, row, lines[1], style)
            self.put(right, row, lines[1], style)
        for column, row, mark in ((left, top, 2), (right, top, 3), (left, bottom, 4), (right, bottom, 5)):
            self.put(column, row, lines[mark], style)

    def runs(self, row: int) -> Iterator[tuple[str, str]]:
        """One line as runs of marks in one ink."""
        start, marks, styles = 0, self._marks[row], self._styles[row]
        for column in range(1, self.width + 1):
            if column == self.width or styles[column] != styles[start]:
                yield "".join(marks[start:column]), styles[start]
                start = column

    def changed_since(self, before: Cells) -> list[int] | None:
        """The lines that differ from a former drawing; None when it had another size."""
        if (self.width, self.height) != (before.width, before.height):
            return None
        rows = zip(self._marks, before._marks, self._styles, before._styles, strict=True)
        return [row for row, (mark, former, ink, its) in enumerate(rows) if mark != former or ink != its]

    def line(self, row: int) -> Text:
        """One line of the drawing."""
        return Text(no_wrap=True, end="").append_tokens(self.runs(row))

    def text(self) -> Text:
        """The drawing, a line a row."""
        return Text("\n", no_wrap=True).join(self.line(row) for row in range(self.height))
