"""A trial's parameters: as they are typed, and in words for one line."""

from __future__ import annotations

from rich.text import Text

from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.core.typed import shown_value
from ublet.core.units import duration, show
from ublet.tui.frame.theme import Ink

LONG_S = 120


def typed_parameters(spec: TrialSpec, aim: Part) -> str:
    """Parameters as they are typed: KEY=VALUE words."""
    words = []
    for declared in spec.declared():
        value = getattr(aim, declared.path)
        words.append(f"{declared.path}={shown_value(value) if value is not None else ''}")
    return " ".join(words)


def parameter_words(spec: TrialSpec, aim: Part) -> str:
    """Parameters in words, for one line."""
    words = []
    for declared in spec.declared():
        value, name = getattr(aim, declared.path), declared.path
        number = isinstance(value, (int, float)) and not isinstance(value, bool)
        unit = "" if declared.unit == name else declared.unit
        shown = show(value, unit) if number else shown_value(value)
        if (number or isinstance(value, str)) and not value and declared.zero:
            shown = declared.zero
        elif number and declared.unit == "s" and value >= LONG_S:
            shown = duration(value)
        for ending in ("_m_s2_hz", "_mm_s2", "_mm_s", "_mm_min", "_mm", "_c", "_s", "_hz", "_kg"):
            name = name.removesuffix(ending)
        words.append(f"{name.replace('_', ' ')} {shown}")
    return ", ".join(words)


def parameter_help(spec: TrialSpec) -> Text:
    """What stands above the field in which they are typed: each with what it is for and what is allowed."""
    words = Text().append(f"Parameters of {spec.name.replace('-', ' ')}\n", f"bold {Ink.text}")
    for declared in spec.declared():
        words.append(f"{declared.path:<14}", Ink.focus)
        words.append(f"{declared.help} {declared.allowed()}\n", Ink.dim)
    words.append("enter takes them, esc leaves them as they were", Ink.dim)
    return words
