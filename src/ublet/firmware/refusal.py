"""How the board says no: codes of the protocol, and a sentence for people."""

from __future__ import annotations

HALTED, TRIPPED, NOT_ALLOWED, STORE_FAILED, UNBEGUN = 1, 2, 3, 5, 6


class Refused(Exception):
    """The board says no to a request; ``code`` as in the protocol."""

    def __init__(self, code: int, message: str) -> None:
        super().__init__(message)
        self.code = code
