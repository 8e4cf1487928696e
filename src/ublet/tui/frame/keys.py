"""The keys that work right now, in words."""

from __future__ import annotations

from rich.text import Text
from textual.app import RenderResult
from textual.binding import Binding
from textual.reactive import reactive
from textual.widget import Widget

from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink

LAST = (
    *("release", "save", "switch", "help", "jump", "command_palette", "by_hand", "fact", "materials"),
    *("ledger", "leave", "talk"),
)
"""Actions of the whole app, after those of the bench, in this order. HALT stands in the pulse, always."""

NAMES = {"question_mark": "?", "escape": "esc", "f8": "F8"}


class Keys(Widget):
    """One line at the bottom."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    shown: reactive[tuple[tuple[str, str], ...]] = reactive(())

    def __init__(self) -> None:
        super().__init__()

    def on_mount(self) -> None:
        """Follow the bindings of whatever has the focus."""
        self.screen.bindings_updated_signal.subscribe(self, lambda screen: self._collect())
        self._collect()

    def _collect(self) -> None:
        entries: list[tuple[int, str, str]] = []
        seen = set()
        for active in self.screen.active_bindings.values():
            binding = active.binding
            if not (binding.show and active.enabled) or binding.action in seen or binding.action == "halt":
                continue
            seen.add(binding.action)
            rank = LAST.index(binding.action) + 1 if binding.action in LAST else 0
            entries.append((rank, key_name(binding), binding.description))
        self.shown = tuple((key, words) for _, key, words in sorted(entries, key=lambda entry: entry[0]))

    def render(self) -> RenderResult:
        """Key and word, as many as fit."""
        width, text = self.content_size.width or 100, Text(no_wrap=True)
        for key, words in self.shown:
            if len(text) + len(key) + len(words) + 1 > width:
                break
            text.append(f"{key} ", f"bold {Ink.focus}")
            text.append(f"{words}   ", Ink.text)
        return text


def key_name(binding: Binding) -> str:
    """A key as it is written on the screen."""
    return binding.key_display or NAMES.get(binding.key, binding.key)
