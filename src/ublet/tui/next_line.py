"""The words that say what to do next, and why; one key goes there."""

from __future__ import annotations

from rich.text import Text

from ublet.session.next_step import NextStep
from ublet.tui.theme import Palette


def next_words(step: NextStep, width: int, palette: Palette) -> Text:
    """One line: the key, what, and why."""
    text = Text(no_wrap=True)
    text.append("next  ", palette.dim)
    text.append(f"{step.key or 'F2'} ", f"bold {palette.focus}")
    text.append(step.words, f"bold {palette.text}")
    text.append(f", because {step.why}", palette.dim)
    text.truncate(width, overflow="ellipsis")
    return text
