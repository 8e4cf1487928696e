"""A setting in full: what it is for, what is allowed, and where the value of each of its layers came from."""

from __future__ import annotations

from rich.text import Text

from ublet.core.settings import Declaration
from ublet.core.typed import shown_value
from ublet.session.layers import LayerRow
from ublet.session.origins import origins
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink

VALUE_COLUMNS = 16


def setting_words(path: str, declared: Declaration | None) -> Text:
    """Its name, what it is for, what is allowed."""
    text = Text()
    text.append(path, f"bold {Ink.text}")
    if declared is not None:
        text.append(f"  {declared.help}\n", Ink.text)
        text.append(f"allowed: {declared.allowed()}", Ink.dim)
    return text


def layer_lines(session: Session, row: LayerRow, unit: str) -> Text:
    """A line for each layer: its value, and where that came from; the one in force stands out."""
    text = Text()
    for number, origin in enumerate(origins(session, row)):
        ink = f"bold {Ink.focus}" if origin.wins else Ink.text
        value = shown_value(origin.value, 8)
        text.append("\n" if number else "")
        text.append("● " if origin.wins else "  ", ink)
        text.append(f"{origin.layer:<8}", ink)
        value = value if len(value) <= VALUE_COLUMNS else f"{value[: VALUE_COLUMNS - 1]}…"
        text.append(f"{value:>{VALUE_COLUMNS}}", ink)
        text.append(f" {unit if origin.value is not None else '':<9}", Ink.dim)
        text.append(f"{origin.words}{', in force' if origin.wins else ''}", Ink.dim)
    return text
