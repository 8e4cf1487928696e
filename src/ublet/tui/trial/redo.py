"""What no longer holds and what to do again, as a chain: now, or if something were changed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import Static

from ublet.core.route import GLYPHS
from ublet.core.run import Option
from ublet.core.settings import Value
from ublet.core.units import duration
from ublet.ledger.errors import LedgerError
from ublet.session.session import Session
from ublet.session.stale import NOTHING_SUPPOSED, Redo, Supposed, redo_for
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink


def chain_text(redo: Sequence[Redo], most: int = 0) -> Text:
    """Each trial to do again with why, those that only may follow behind what they follow from; how long it takes.
    most: no more rows than this (0: all).
    """
    text = Text()
    shown = redo if not most or len(redo) <= most else redo[: most - 1]
    for step in shown:
        parts = [part for part in step.subject.values() if part not in step.station]
        about = f" of the {', '.join(parts)}" if parts else ""
        own = step.trial.replace("-", " ")
        words = f"{step.station}{about}" + (f": {own}" if own != step.station.lower() else "")
        if step.sure:
            text.append(f"{GLYPHS['stale']} {words}  ", Ink.focus)
            text.append(f"{duration(step.machine_s)}  ", Ink.text)
            text.append(f"{step.because}\n", Ink.dim)
        else:
            text.append(f"  └ {words}  ", Ink.text)
            text.append(f"{duration(step.machine_s)}  likely: only if {step.because} gives another value\n", Ink.dim)
    if len(shown) < len(redo):
        text.append(f"  and {len(redo) - len(shown)} more\n", Ink.dim)
    sure_s, likely_s = (sum(step.machine_s for step in redo if step.sure == sure) for sure in (True, False))
    if redo:
        text.append(f"about {duration(sure_s)} at the machine", f"bold {Ink.text}")
        text.append(f", {duration(likely_s)} more if all of that follows" if likely_s else "", Ink.dim)
    return text


@dataclass
class WhatIf:
    """What settings would make stale, worked out anew only when they, or the ledger, are others than before."""

    session: Session
    _key: object = None
    _redo: tuple[Redo, ...] = ()

    def redo(self, settings: Mapping[str, Value]) -> tuple[Redo, ...]:
        """What would have to be done again."""
        ledger = self.session.ledger
        key = (tuple(sorted(settings)), tuple(map(repr, settings.values())), ledger.run_count)
        if key != self._key:
            try:
                self._redo = redo_for(self.session, Supposed(settings)) if settings else ()
            except LedgerError:
                self._redo = ()
            self._key = key
        return self._redo

    def of_option(self, option: Option) -> tuple[Redo, ...]:
        """What would have to be done again once an option is kept."""
        return self.redo({one.setting: one.after for one in option.proposals if one.before != one.after})


def made_stale_line(redo: Sequence[Redo]) -> Text:
    """What a keep makes stale elsewhere, in a line; nothing where it makes nothing stale."""
    sure = list(dict.fromkeys(step.station for step in redo if step.sure))
    likely = [name for name in dict.fromkeys(step.station for step in redo if not step.sure) if name not in sure]
    text = Text()
    if sure:
        text.append(f"{GLYPHS['stale']} makes stale: ", Ink.focus).append(", ".join(sure), Ink.text)
        text.append(f"; then likely {', '.join(likely)}" if likely else "", Ink.dim)
        text.append("\n")
    return text


class RedoDialog(Dialog):
    """What to do again, in order. Closes with the station of the first, when enter goes there."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [Binding("enter", "go", "go to the first")]

    def __init__(self, session: Session, what_if: Supposed = NOTHING_SUPPOSED, if_words: str = "") -> None:
        super().__init__()
        self.redo, self.if_words = redo_for(session, what_if), if_words

    def compose(self) -> ComposeResult:
        """The chain, and the keys."""
        keys = Text()
        if self.redo and not self.if_words:
            keys.append("enter ", Ink.focus).append("goes to the first    ", Ink.text)
        keys.append("esc ", Ink.focus).append("close", Ink.text)
        head = f"If {self.if_words}: to do again" if self.if_words else "To do again, in this order"
        with Vertical():
            yield Static(Text(head, "bold"))
            yield Static("")
            with VerticalScroll(can_focus=False):
                nothing = (
                    "Nothing that was proven rests on it." if self.if_words else "Everything that was proven holds."
                )
                yield Static(chain_text(self.redo) if self.redo else Text(nothing, Ink.good))
            yield Static(keys, classes="keys")

    def action_go(self) -> None:
        """Go to the station of the first."""
        self.close_with(self.redo[0].station if self.redo and not self.if_words else None)
