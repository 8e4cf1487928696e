"""The demonstration's hands and eyes: what a person would do and see at the simulated machine, beside the link."""

from __future__ import annotations

import contextlib
import socket
from pathlib import Path

from ublet.core.acts import Act, PressSwitch, ReleaseSwitch, Seen
from ublet.core.acts_json import encoded, is_act, seen_of
from ublet.core.observations import LookAround, Observation

PATIENCE_S = 0.3


class DemoHands:
    """Acts at the simulated machine, and looks at it. A world that does not answer shows nothing."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._end: socket.socket | None = None

    def press(self, name: str, down: bool) -> Seen:
        """Press a switch, or let it go."""
        return self._say(PressSwitch(name) if down else ReleaseSwitch(name))

    def act(self, cue: Act | Observation | None) -> None:
        """Do what a question asks for; one that only asks to look needs no hand."""
        if cue is not None and is_act(cue) and not isinstance(cue, PressSwitch):  # numbered keys press switches
            self._say(cue)

    def look(self, cue: Act | Observation | None = None) -> Seen:
        """What is seen and felt now, and what a question asks about."""
        return self._say(LookAround() if cue is None or is_act(cue) else cue)

    def close(self) -> None:
        """Go away from the machine."""
        if self._end is not None:
            self._end.close()
            self._end = None

    def _say(self, cue: Act | Observation) -> Seen:
        try:
            return seen_of(self._exchange(encoded(cue) + b"\n"))
        except (OSError, ValueError):
            self.close()
            return Seen()

    def _exchange(self, line: bytes) -> bytes:
        if self._end is None:
            self._end = socket.socket(socket.AF_UNIX)
            self._end.settimeout(PATIENCE_S)
            with contextlib.ExitStack() as stack:
                stack.callback(self.close)
                self._end.connect(str(self._path))
                stack.pop_all()
        self._end.sendall(line)
        got = b""
        while not got.endswith(b"\n"):
            piece = self._end.recv(4096)
            if not piece:
                raise OSError("the world went away")
            got += piece
        return got
