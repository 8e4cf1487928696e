"""What happens on the board that a host should learn of: numbered, kept for a while, reported at once."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping
from typing import Any

KEPT_EVENTS = 200

EventFields = Mapping[str, Any]


class Events:
    """Events since power-on. Numbers rise by one from 1, so that a host notices one that it missed."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self.listener: Callable[[EventFields], None] = lambda event: None
        self.newest = 0
        self._kept: deque[EventFields] = deque(maxlen=KEPT_EVENTS)

    def restart(self) -> None:
        """Power-on: nothing has happened yet."""
        self.newest = 0
        self._kept.clear()

    def emit(self, what: str, **more: Any) -> None:
        """Something happened."""
        self.newest += 1
        event = {"number": self.newest, "time_s": round(self._clock(), 3), "what": what, **more}
        self._kept.append(event)
        self.listener(event)

    def since(self, number: int) -> list[EventFields]:
        """Kept events from a number on."""
        return [event for event in self._kept if event["number"] >= number]
