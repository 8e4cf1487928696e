"""An app in a terminal that may be too small: below the least size nothing that cannot be seen takes a key."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from textual.command import CommandPalette
from textual.driver import Driver
from textual.events import Event, InputEvent, Key, Paste, Resize
from textual.screen import Screen
from textual.widget import Widget

from ublet.tui.frame.key_order import KeysInOrder
from ublet.tui.frame.pulse import Pulse, Reading
from ublet.tui.frame.small import SmallNote, too_small

if TYPE_CHECKING:
    from ublet.session.session import Session
    from ublet.tui.trial.bench import Bench


class LeastSize(KeysInOrder):
    """Only HALT, cancel and quit work below the least size; growing again gives the keys back to whoever had them."""

    def __init__(self, driver_class: type[Driver] | None) -> None:
        super().__init__(driver_class)
        self.session: Session | None = None
        self.bench: Bench | None = None
        self.small = self._asked_to_quit = False
        self._had_keys: list[tuple[Screen[Any], Widget | None]] = []

    def action_halt(self) -> None:
        """Everything off at once."""
        raise NotImplementedError

    def reasons_to_stay(self) -> list[str]:
        """What quitting now would lose, in sentences."""
        raise NotImplementedError

    async def on_bench(self, action: str) -> None:
        """Do a bench's action by its name."""
        if self.bench is not None:
            await self.run_action(action, self.bench)

    async def on_event(self, event: Event) -> None:
        """While nothing can be seen only HALT, cancel and quit work; what was typed before goes nowhere."""
        if self.small and isinstance(event, (InputEvent, Paste)):
            if isinstance(event, Key) and not event.is_forwarded:
                self._key_in_small(event.key)
            return
        await super().on_event(event)

    def _key_in_small(self, key: str) -> None:
        if key == "f8":
            self.action_halt()
        elif key == "escape":
            if self.session is not None and self.session.runner.running is not None:
                self.session.runner.cancel()
            elif self.bench is not None and self.bench.check_action("cancel", ()):
                self.run_worker(self.on_bench("cancel"), group="cancel")
        elif key == "ctrl+q":
            reasons = self.reasons_to_stay()
            if not reasons or self._asked_to_quit:
                self.exit()
                return
            self._asked_to_quit = True
            self.note(asking=f"{' '.join(reasons)} Again:")

    def on_resize(self, event: Resize) -> None:
        """Growing again gives the keys back to whoever had them."""
        before, self.small = self.small, too_small(event.size)
        if self.small and not before:
            self.forget_keys()
            if isinstance(self.screen, CommandPalette):
                self.pop_screen()
            self._had_keys = [(screen, screen.focused) for screen in self.screen_stack]
            self.note(self.query_one(Pulse).reading)
        elif before and not self.small:
            self._asked_to_quit = False
            self.note(asking="")
            self.call_after_refresh(self._give_keys_back)

    def _give_keys_back(self) -> None:
        for screen, widget in self._had_keys:
            if widget is not None and widget.is_attached and screen in self.screen_stack:
                screen.set_focus(widget)

    def note(self, reading: Reading | None = None, asking: str | None = None) -> None:
        """Bring every screen's note for a small terminal up to date."""
        for screen in self.screen_stack:
            for note in screen.query(SmallNote):
                note.reading = reading or note.reading
                note.asking = note.asking if asking is None else asking
