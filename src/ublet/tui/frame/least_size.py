"""An app in a terminal that may be too small: below the least size nothing that cannot be seen takes a key."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from textual.command import CommandPalette
from textual.events import Event, InputEvent, Key, Paste
from textual.geometry import Size
from textual.screen import Screen
from textual.widget import Widget

from ublet.tui.frame.ending import reasons_to_stay
from ublet.tui.frame.pulse import Pulse, PulseState
from ublet.tui.frame.small import SmallNote, too_small

if TYPE_CHECKING:
    from ublet.tui.frame.host import Host


class LeastSize:
    """Only HALT, cancel and quit work below the least size; growing again gives the keys back to whoever had them."""

    def __init__(self, app: Host) -> None:
        self._app = app
        self._asked_to_quit = False
        self._had_keys: list[tuple[Screen[Any], Widget | None]] = []

    def takes(self, event: Event) -> bool:
        """Whether an event goes no further: while nothing can be seen what is typed goes nowhere but to these keys."""
        if not self._app.small or not isinstance(event, (InputEvent, Paste)):
            return False
        if isinstance(event, Key) and not event.is_forwarded:
            self._key_in_small(event.key)
        return True

    def _key_in_small(self, key: str) -> None:
        if key == "f8":
            self._app.action_halt()
        elif key == "escape":
            if self._app.session is not None and self._app.session.runner.running is not None:
                self._app.session.runner.cancel()
            elif self._app.bench is not None and self._app.bench.check_action("cancel", ()):
                self._app.run_worker(self._app.on_bench("cancel"), group="cancel")
        elif key == "ctrl+q":
            reasons = reasons_to_stay(self._app.session)
            if not reasons or self._asked_to_quit:
                self._app.exit()
                return
            self._asked_to_quit = True
            self.note(asking=f"{' '.join(reasons)} Again:")

    def resized(self, size: Size) -> None:
        """The terminal has another size: the keys are taken away, or given back to whoever had them."""
        app = self._app
        before, app.small = app.small, too_small(size)
        if app.small and not before:
            app.forget_keys()
            if isinstance(app.screen, CommandPalette):
                app.pop_screen()
            self._had_keys = [(screen, screen.focused) for screen in app.screen_stack]
            self.note(app.query_one(Pulse).reading)
        elif before and not app.small:
            self._asked_to_quit = False
            self.note(asking="")
            app.call_after_refresh(self._give_keys_back)

    def _give_keys_back(self) -> None:
        for screen, widget in self._had_keys:
            if widget is not None and widget.is_attached and screen in self._app.screen_stack:
                screen.set_focus(widget)

    def note(self, reading: PulseState | None = None, asking: str | None = None) -> None:
        """Bring every screen's note for a small terminal up to date."""
        for screen in self._app.screen_stack:
            for note in screen.query(SmallNote):
                note.reading = reading or note.reading
                note.asking = note.asking if asking is None else asking
