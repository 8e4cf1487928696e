"""The command palette: every action of the bench and the app, every station, every setting, by name."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

from textual.await_complete import AwaitComplete
from textual.binding import Binding
from textual.command import CommandList, CommandPalette, DiscoveryHit, Hit, Hits, Provider, SearchIcon
from textual.types import IgnoreReturnCallbackType

from ublet.core.route import ROUTE
from ublet.tui.frame.bright import keep_bright
from ublet.tui.frame.help import explained

if TYPE_CHECKING:
    from ublet.tui.frame.host import Host

MOST_FOUND = 40


@dataclass(frozen=True)
class Command:
    """Something that can be done: how it is called, what it is for, and doing it."""

    name: str
    help: str
    do: IgnoreReturnCallbackType


class Everything(Provider):
    """What can be done now. Only actions are listed before anything is typed; stations and settings are many."""

    @property
    def ublet(self) -> Host:
        """The app."""
        return self.app  # type: ignore[return-value]

    async def discover(self) -> Hits:
        """The actions."""
        for command in self._actions():
            yield DiscoveryHit(command.name, command.do, help=command.help)

    async def search(self, query: str) -> Hits:
        """Everything whose name fits, and settings whose help holds the words."""
        matcher, words, hits = self.matcher(query), query.lower().split(), 0
        for command in (*self._actions(), *self._stations(), *self._settings()):
            score = matcher.match(command.name)
            if score <= 0 and words and all(word in f"{command.name} {command.help}".lower() for word in words):
                score = 0.1
            if score > 0:
                hits += 1
                yield Hit(score, matcher.highlight(command.name), command.do, help=command.help)
            if hits >= MOST_FOUND:
                return

    def _actions(self) -> Iterator[Command]:
        app, bench = self.ublet, self.ublet.bench
        if bench is not None:
            for binding in bench.own_bindings():
                if "(" not in binding.action and bench.check_action(binding.action, ()):
                    name = f"{bench.title}: {binding.description}"
                    yield Command(name, binding.tooltip, partial(app.on_bench, binding.action))
        for binding in explained(app_binding for app_binding in app.BINDINGS if isinstance(app_binding, Binding)):
            if app.check_action(binding.action, ()):
                name = binding.description or binding.action
                yield Command(f"{name[0].upper()}{name[1:]}", binding.tooltip, partial(app.run_action, binding.action))
        if app.session is not None and (foreign := app.session.foreign) is not None and foreign.renamed:
            words = f"The board's “{foreign.board_name}” is this file's “{foreign.file_name}”"
            yield Command("Same machine", words, app.action_same_machine)

    def _stations(self) -> Iterator[Command]:
        for station in ROUTE:
            yield Command(f"Go to {station.name}", station.purpose, partial(self.ublet.enter, station))

    def _settings(self) -> Iterator[Command]:
        from ublet.core.machine.outline import search

        if self.ublet.session is not None:
            for item in search("", self.ublet.session.draft.tree):
                yield Command(item.path, item.declared.help, partial(self.ublet.enter_setting, item.path))


class Commands(CommandPalette):
    """Textual's palette, made to stand keys that come before it is filled or after it has closed."""

    closed = False

    def __init__(self) -> None:
        super().__init__(providers=[Everything], placeholder="an action, a station, a setting", id="--command-palette")

    def on_mount(self) -> None:
        """The live machine and HALT stay bright; the sign of searching is one that every font has."""
        keep_bright(self)
        self.query_one(SearchIcon).icon = "/"

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
