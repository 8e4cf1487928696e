"""What instruments have in common: the shape of what draws them, and lines as the screen takes them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, TypeAlias

from rich.segment import Segment
from rich.text import Text
from textual.strip import Strip
from textual.widget import Widget

if TYPE_CHECKING:
    from ublet.session.session import Session
    from ublet.tui.trial.watch import TrialWatch

Picture: TypeAlias = "Callable[[Session, TrialWatch | None, int, int], Text]"
"""Draws the machine for a bench: session, running trial (or None), columns, rows; it may take fewer rows."""


def put(line: Text, column: int, words: str, style: str) -> Text:
    """Words written over a line from a column on."""
    column = max(0, column)
    line.pad_right(max(0, column + len(words) - len(line)))
    return line[:column] + Text(words, style) + line[column + len(words) :]


def strip_of(widget: Widget, line: Text) -> Strip:
    """A line as a widget's ``render_line`` gives it: inks as the theme has them, on the widget's own ground."""
    ground = widget.visual_style.rich_style
    pieces = line.render(widget.app.console)
    return Strip([Segment(piece.text, ground + piece.style if piece.style else ground) for piece in pieces])


def strip_of_runs(widget: Widget, runs: Iterable[tuple[str, str]]) -> Strip:
    """The same of runs of words in one ink each: a chart that changes at every beat has no time for a text."""
    ground, style_of = widget.visual_style.rich_style, widget.app.console.get_style
    return Strip([Segment(words, ground + style_of(ink) if ink else ground) for words, ink in runs])


def spaced(blocks: Sequence[Text], height: int, most: int = 3) -> Text:
    """Blocks one under the other, apart as far as the height allows, at most so many lines."""
    lines = sum(block.plain.count("\n") + 1 for block in blocks)
    gap = max(0, min(most, (height - lines) // max(1, len(blocks) - 1)))
    return Text("\n" * (gap + 1), no_wrap=True).join(blocks)
