"""The command palette, made to stand keys that come before it is filled or after it has closed."""

from __future__ import annotations

from typing import Any

from textual.await_complete import AwaitComplete
from textual.command import CommandList, CommandPalette


class Commands(CommandPalette):
    """Textual's palette. Keys that page through a list that is still empty do nothing; it closes once."""

    closed = False

    def _action_command_list(self, action: str) -> None:
        """Only while there is something to move through, and it has been laid out."""
        commands = self.query_one(CommandList)
        if commands.option_count and commands.highlighted is not None and commands.size.height:
            super()._action_command_list(action)

    def dismiss(self, result: Any = None) -> AwaitComplete:
        """A second enter that was on its way must not close what lies below."""
        if self.closed:
            return AwaitComplete.nothing()
        self.closed = True
        return super().dismiss(result)
