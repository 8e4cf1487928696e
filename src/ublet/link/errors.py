"""What can go wrong with a link, in sentences for a user: it is lost, it is garbage, it is malformed, the board says
no.
"""

from __future__ import annotations

from ublet.core.trouble import NoLink

NOT_ALLOWED = 3
"""The board's code for what may not be as things are; others end whatever asked for it (docs/protocol.md)."""

SILENCE_UNTRIED = 100
"""Our own code: a board whose language is described in a file must not be heated yet."""


class LinkLost(NoLink):
    """The board does not answer any more, or its port is gone."""


class Garbled(LinkLost):
    """Bytes arrive, and none of them make a line: the baud rate is wrong, or something else sits on that port."""


class Malformed(LinkLost):
    """What the board says has not the shape that the protocol gives it; the message says what and where."""


class BoardRefused(NoLink):
    """The board understood a request and said no; ``code`` is from the protocol's table."""

    def __init__(self, code: int, message: str) -> None:
        super().__init__(message)
        self.code = code
