"""The words of the frame: what comes next and why, why a result is stale."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from ublet.core.route import StationState, glyph
from ublet.tui.frame.theme import Ink

if TYPE_CHECKING:
    from ublet.session.next_step import NextStep

UNLINKED = "as of the last link"


def next_words(step: NextStep, width: int) -> Text:
    """One line: the key, what, and why."""
    text = Text(no_wrap=True)
    text.append("next  ", Ink.dim)
    text.append(f"{step.key or 'F2'} ", f"bold {Ink.focus}")
    text.append(step.words, f"bold {Ink.text}")
    text.append(f", because {step.why}", Ink.dim)
    text.truncate(width, overflow="ellipsis")
    return text


def standing_words(standing: StationState | None) -> Text:
    """Why what was found no longer holds, or holds only as of the last link; nothing where it holds."""
    text = Text()
    if standing is not None and standing.reason and (standing.state == "stale" or standing.unlinked):
        text.append(f"{glyph(standing)} {UNLINKED if standing.unlinked else 'stale'}  ", f"bold {Ink.focus}")
        text.append(standing.reason.removeprefix(f"{UNLINKED} "), Ink.text)
    return text
