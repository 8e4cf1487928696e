"""What the pictures of benches have in common: their shape, and writing over a line."""

from __future__ import annotations

from collections.abc import Callable

from rich.text import Text

from ublet.session.session import Session
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch

Picture = Callable[[Session, TrialWatch | None, int, int, Palette], Text]
"""Draws the machine for a bench: session, running trial (or None), columns, rows, colours."""


def put(line: Text, column: int, words: str, style: str) -> Text:
    """Words written over a line from a column on."""
    column = max(0, column)
    line.pad_right(max(0, column + len(words) - len(line)))
    return line[:column] + Text(words, style) + line[column + len(words) :]
