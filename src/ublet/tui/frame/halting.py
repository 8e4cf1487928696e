"""HALT at once: F8 goes to the board from the thread that reads the keyboard, whatever the app is doing meanwhile."""

from __future__ import annotations

from textual.drivers.linux_driver import LinuxDriver
from textual.events import Key
from textual.message import Message

HALT_KEY = "f8"


class HaltingDriver(LinuxDriver):
    """Reads the terminal as ever; the halting key is acted on before it waits its turn among the app's messages."""

    def process_message(self, message: Message) -> None:
        """Runs in the reading thread."""
        if isinstance(message, Key) and message.key == HALT_KEY:
            halt = getattr(self._app, "halt_at_once", None)
            if halt is not None:
                halt()
        super().process_message(message)
