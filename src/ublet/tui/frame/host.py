"""The app as the parts of its frame know it: what is open, what is shown, and what they may ask of it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text
from textual.widgets import Static

from ublet.tui.frame.key_order import KeysInOrder
from ublet.tui.frame.route import Route
from ublet.tui.frame.title import Title

if TYPE_CHECKING:
    from textual.driver import Driver

    from ublet.core.route import Station
    from ublet.session.demo import Demo
    from ublet.session.next_step import NextStep
    from ublet.session.session import Session
    from ublet.tui.trial.bench import StationBench


class Host(KeysInOrder):
    """One open machine in a frame of title, route, bench and pulse.

    session: the open machine, None until it is. bench: the one that is shown; benches: those made so far. port: where
    the board is asked for. small: the terminal is below the least size.
    """

    def __init__(self, driver_class: type[Driver] | None, port: str | None, demo: Demo | None) -> None:
        super().__init__(driver_class)
        self.port, self.demo = port, demo
        self.session: Session | None = None
        self.bench: StationBench | None = None
        self.benches: dict[str, StationBench] = {}
        self.next_step: NextStep | None = None
        self.small = False

    @property
    def route(self) -> Route:
        """The route."""
        return self.query_one(Route)

    @property
    def stands(self) -> bool:
        """Whether the frame is there to be drawn on: at the end it goes before the timers do."""
        return self.is_running and (title := self.query_one_optional(Title)) is not None and title.is_attached

    async def on_bench(self, action: str) -> None:
        """Do a bench's action by its name."""
        if self.bench is not None:
            await self.run_action(action, self.bench)

    def show_line(self, selector: str, words: Text) -> None:
        """Show words in a line of the frame; an empty line takes no room."""
        line = self.query_one(selector, Static)
        line.set_class(bool(words.plain), "filled")
        line.update(words)

    def follow(self) -> None:
        """Bring everything that is shown up to date."""
        raise NotImplementedError

    async def enter(self, station: Station) -> None:
        """Go to a station's bench."""
        raise NotImplementedError

    async def enter_setting(self, path: str) -> None:
        """Go to a setting in the machine's editor."""
        raise NotImplementedError

    def action_halt(self) -> None:
        """Everything off at once."""
        raise NotImplementedError

    def action_same_machine(self) -> None:
        """The builder's word that a board under another name is this machine's."""
        if self.session is not None:
            self.session.say_same_machine()
            self.follow()
