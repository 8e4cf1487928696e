"""A setting in full: what it is for, what is allowed, and where the value of each of its layers came from."""

from __future__ import annotations

from textwrap import wrap

from rich.text import Text

from ublet.core.settings import Declaration
from ublet.core.typed import shown_value
from ublet.session.layers import LayerRow
from ublet.session.origins import origins
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink

VALUE_COLUMNS, UNIT_COLUMNS, LAYER_COLUMNS = 12, 9, 10
LEAST_COLUMNS = 24
"""Columns for where a value came from, at the least."""


def setting_words(path: str, declared: Declaration | None) -> Text:
    """Its name, what it is for, what is allowed."""
    text = Text()
    text.append(path, f"bold {Ink.text}")
    if declared is not None:
        text.append(f"  {declared.help}\n", Ink.text)
        text.append(f"allowed: {declared.allowed()}", Ink.dim)
    return text


def layer_lines(session: Session, row: LayerRow, unit: str, width: int) -> Text:
    """A line for each layer: its value, and where that came from, wrapped to so many columns; the one in force stands
    out.
    """
    text = Text()
    before = LAYER_COLUMNS + VALUE_COLUMNS + UNIT_COLUMNS + 1
    for number, origin in enumerate(origins(session, row)):
        ink = f"bold {Ink.focus}" if origin.wins else Ink.text
        value = shown_value(origin.value, 8)
        text.append("\n" if number else "")
        text.append("● " if origin.wins else "  ", ink)
        text.append(f"{origin.layer:<8}", ink)
        value = value if len(value) <= VALUE_COLUMNS else f"{value[: VALUE_COLUMNS - 1]}…"
        text.append(f"{value:>{VALUE_COLUMNS}}", ink)
        text.append(f" {unit if origin.value is not None else '':<{UNIT_COLUMNS}}", Ink.dim)
        words = f"{'in force: ' if origin.wins else ''}{origin.words}"
        lines = wrap(words, max(LEAST_COLUMNS, width - before))
        text.append(f"\n{' ' * before}".join(lines), Ink.dim)
    return text
