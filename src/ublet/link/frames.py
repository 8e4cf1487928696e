"""Frames of the line protocol: one JSON object a line, followed by its CRC-32."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator
from typing import Any

HALT_BYTE = b"\x18"
"""Anywhere in the stream to the board: halt at once."""

LONGEST_LINE = 1 << 16
"""A longer line is no frame; a receiver drops it without keeping more than this."""

Message = dict[str, Any]


def encode(message: Message) -> bytes:
    """A message as a line: compact JSON, a space, eight hex digits of CRC-32 over the JSON, newline.

    Raises:
        ValueError: a number that is not finite (JSON has none).
    """
    body = json.dumps(message, separators=(",", ":"), allow_nan=False, ensure_ascii=True).encode()
    return b"%s %08x\n" % (body, zlib.crc32(body))


def decode(line: bytes) -> Message | None:
    """The message of one line (without its newline), or None when its sum or shape is wrong."""
    body, space, digits = line.rpartition(b" ")
    if not space or len(digits) != 8:
        return None
    try:
        if int(digits, 16) != zlib.crc32(body):
            return None
        message = json.loads(body)
    except (ValueError, RecursionError):
        return None
    return message if isinstance(message, dict) else None


class Decoder:
    """Cuts a byte stream into messages; bad lines are counted and yielded as None."""

    def __init__(self) -> None:
        self.bad = 0
        self._rest = b""
        self._skipping = False

    def feed(self, data: bytes) -> Iterator[Message | None]:
        """Messages completed by these bytes, in order; None for each line that is no good frame."""
        lines = (self._rest + data).split(b"\n")
        self._rest = lines.pop()
        for line in lines:
            if self._skipping:
                self._skipping = False
                continue
            line = line.rstrip(b"\r")
            if not line:
                continue
            message = decode(line)
            if message is None:
                self.bad += 1
            yield message
        if len(self._rest) > LONGEST_LINE:
            self._rest = b""
            if not self._skipping:
                self.bad += 1
                self._skipping = True
                yield None
