"""Keys one after the other: the next one is passed on when what the one before it did is done.

Textual hands a key to whatever has the focus when it is read. Typed quickly, the digits behind a key that opens a field
would reach the bench below, where a digit may heat. Here a key waits until the one before it has gone through every
widget that could take it, and until a dialog that it opened can take keys.
"""

from __future__ import annotations

import os
from collections import deque
from functools import partial
from typing import Any

from textual.app import App
from textual.driver import Driver
from textual.events import Event, Key
from textual.message import Message
from textual.screen import Screen
from textual.widget import Widget

STUCK_S = 0.5
"""A key whose widget went away without reporting its end no longer holds up the next after this, s."""

SLOW_S = 4.0
"""A key at a widget that is still there holds up the next for so long, s: also a busy computer keeps them in order."""

ANNOUNCE_KEYS = "UBLET_TELL_KEYS"
"""Set in the environment: the app says after each key, as the terminal's title, that it is dealt with and painted.
Whoever drives it from outside waits for that, and not for time.
"""


ROUNDS = 2
"""Longest chain of messages that follows a key: a widget may answer a key with a message to the next one."""


class KeyHandled(Message):
    """Sent behind a key, the same way: when it has arrived for the last time, that key has been dealt with."""

    def __init__(self, turn: int, rounds: int = ROUNDS) -> None:
        super().__init__()
        self.turn, self.rounds = turn, rounds


class KeysInOrder(App[None]):
    """An app that deals with one key at a time."""

    def __init__(self, driver_class: type[Driver] | None) -> None:
        super().__init__(driver_class=driver_class)
        self._waiting: deque[Key] = deque()
        self._turn = 0
        self._under_way = False
        self._at: Widget | Screen[Any] | None = None
        self.dealt = 0  # keys dealt with so far
        self._announces = bool(os.environ.get(ANNOUNCE_KEYS))

    async def on_event(self, event: Event) -> None:
        """Keys wait their turn; everything else goes on as ever. At the app's end a key finds no screen any more."""
        if isinstance(event, Key) and not self.screen_stack:
            return
        if not isinstance(event, Key) or event.is_forwarded:
            await super().on_event(event)
            return
        self._waiting.append(event)
        await self._next_key()

    def forget_keys(self) -> None:
        """Keys that wait go nowhere: what they were meant for cannot be seen any more."""
        self._waiting.clear()

    async def _next_key(self) -> None:
        """Pass the next key on, and a message behind it."""
        if self._under_way or not self._waiting or not self.screen_stack:
            return
        self._turn, self._under_way = self._turn + 1, True
        target = self._at = self.focused or self.screen
        self.set_timer(STUCK_S, partial(self._stuck, self._turn, STUCK_S))
        await super().on_event(self._waiting.popleft())
        if not target.post_message(KeyHandled(self._turn)):
            self._end(self._turn)

    def on_key_handled(self, message: KeyHandled) -> None:
        """A key has been dealt with; a dialog that it opened must first have its field."""
        message.stop()
        if not self.screen_stack:
            return  # the app has ended meanwhile
        more = message.rounds > 1 and self._at is not None and self._at.is_attached and self._at.screen is self.screen
        if more and self._at is not None and self._at.post_message(KeyHandled(message.turn, message.rounds - 1)):
            return
        if self.focused is None:
            self.screen.call_after_refresh(self._end, message.turn)
        else:
            self._end(message.turn)

    def _stuck(self, turn: int, waited_s: float) -> None:
        """A key has taken long: whatever it was for is gone, or only slow."""
        if turn != self._turn or not self._under_way:
            return
        if self._at is not None and self._at.is_attached and waited_s < SLOW_S:
            self.set_timer(STUCK_S, partial(self._stuck, turn, waited_s + STUCK_S))
        else:
            self._end(turn)

    def _end(self, turn: int) -> None:
        if turn == self._turn and self._under_way:
            self._under_way = False
            self.dealt += 1
            if self._announces:
                self.call_after_refresh(self._announce_key, self.dealt)
            self.call_later(self._next_key)

    def _announce_key(self, count: int) -> None:
        """Number of keys handled and painted, shown as the terminal's title."""
        if self._driver is not None:
            self._driver.write(f"\x1b]2;ublet {count}\x07")
            self._driver.flush()
