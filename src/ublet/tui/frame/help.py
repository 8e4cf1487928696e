"""The help: why a bench is there, how it works, and every key that works there, taken from the bindings themselves."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text
from textual.binding import Binding

from ublet.tui.frame.keys import key_name
from ublet.tui.frame.theme import Ink

PLUS_MINUS = (
    "A value ±: two standard uncertainties, everywhere: of 100 true values about 95 lie within. JSON's uncertainty is "
    "one standard uncertainty, half of it."
)


@dataclass(frozen=True)
class Help:
    """Why something is there, and how it works; blank lines part paragraphs, other line ends mean nothing."""

    why: str
    how: str


def explained(bindings: Iterable[Binding]) -> list[Binding]:
    """The bindings that are explained: each action once, and only those that say what they are for."""
    explained_bindings: dict[str, Binding] = {}
    for binding in bindings:
        if binding.tooltip:
            explained_bindings.setdefault(binding.action, binding)
    return list(explained_bindings.values())


def help_page(help: Help | None, bench: Sequence[Binding], everywhere: Sequence[Binding]) -> RenderableType:
    """The page: two columns, wrapped to whatever width it gets."""
    page = Table.grid(padding=(0, 2, 0, 0))
    page.add_column(width=10)
    page.add_column(ratio=1)
    if help is not None:
        page.add_row(Text("why", Ink.dim), _flowing(help.why))
        page.add_row(Text("how", Ink.dim), _flowing(help.how))
    if bench:
        _keys(page, "keys here", bench)
    _keys(page, "anywhere", everywhere)
    page.add_row(Text("figures", Ink.dim), Text(PLUS_MINUS, Ink.text))
    return page


def _flowing(words: str) -> RenderableType:
    paragraphs = [" ".join(paragraph.split()) for paragraph in words.split("\n\n")]
    return Group(*(Text(f"{paragraph}\n", Ink.text) for paragraph in paragraphs))


def _keys(page: Table, title: str, bindings: Sequence[Binding]) -> None:
    for number, binding in enumerate(bindings):
        line = Table.grid(padding=(0, 2, 0, 0))
        line.add_column(width=9)
        line.add_column(ratio=1)
        line.add_row(Text(key_name(binding), f"bold {Ink.focus}"), Text(binding.tooltip, Ink.text))
        page.add_row(Text("" if number else title, Ink.dim), line)
    page.add_row("", "")
