"""A serial line's pace: bytes arrive no faster than its baud rate carries them."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from ublet.link.upload import BITS_A_BYTE

PIECE = 1024
"""What is pushed at once arrives in pieces of this size, bytes."""


class PacedLine:
    """One direction of a line. What is pushed arrives when its last byte would have; baud 0 is no limit."""

    def __init__(self, baud: float, deliver: Callable[[bytes], None]) -> None:
        self._byte_s = BITS_A_BYTE / baud if baud else 0.0
        self._deliver = deliver
        self._free_at = 0.0

    def push(self, data: bytes) -> None:
        """Send bytes."""
        if not self._byte_s:
            self._deliver(data)
            return
        loop = asyncio.get_running_loop()
        for at in range(0, len(data), PIECE):
            piece = data[at : at + PIECE]
            self._free_at = max(self._free_at, loop.time()) + len(piece) * self._byte_s
            loop.call_at(self._free_at, self._deliver, piece)

    def waiting_s(self) -> float:
        """How long the line is busy with what was pushed."""
        return max(0.0, self._free_at - asyncio.get_running_loop().time()) if self._byte_s else 0.0
