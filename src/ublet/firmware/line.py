"""A serial line's pace: bytes arrive no faster than its baud rate carries them."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from ublet.link.upload import BITS_A_BYTE

PIECE = 1024
"""What is pushed at once arrives in pieces of this size, bytes."""


class PacedLine:
    """One direction of a line. What is pushed arrives when its last byte would have; baud 0 is no limit.

    waiting_bytes: what is on its way; whoever pushes sees to it that it does not grow without end.
    """

    def __init__(self, baud: float, deliver: Callable[[bytes], None]) -> None:
        self._byte_s = BITS_A_BYTE / baud if baud else 0.0
        self._deliver = deliver
        self._free_at = 0.0
        self._session = 0
        self.waiting_bytes = 0

    def push(self, data: bytes) -> None:
        """Send bytes."""
        if not self._byte_s:
            self._deliver(data)
            return
        loop, session = asyncio.get_running_loop(), self._session
        for at in range(0, len(data), PIECE):
            piece = data[at : at + PIECE]
            self._free_at = max(self._free_at, loop.time()) + len(piece) * self._byte_s
            self.waiting_bytes += len(piece)
            loop.call_at(self._free_at, self._arrive, piece, session)

    def clear(self) -> None:
        """Whoever sent is gone: what is on its way does not arrive any more, and the line is free."""
        self._session += 1
        self._free_at = 0.0
        self.waiting_bytes = 0

    def _arrive(self, piece: bytes, session: int) -> None:
        if session == self._session:
            self.waiting_bytes -= len(piece)
            self._deliver(piece)

    def waiting_s(self) -> float:
        """How long the line is busy with what was pushed."""
        return max(0.0, self._free_at - asyncio.get_running_loop().time()) if self._byte_s else 0.0
