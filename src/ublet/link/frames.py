"""Frames of the line protocol, one a line: a JSON object and its CRC-32, or a block of an image."""

from __future__ import annotations

import json
import math
import re
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

HALT_BYTE = b"\x18"
"""Anywhere in the stream to the board: halt at once."""

LONGEST_LINE = 1 << 16
"""A longer line is no frame; a receiver drops it without keeping more than this."""

BLOCK_MARK = b"\x01"
"""A line that begins with this byte is a block."""

ESCAPE, FLIP = 0x10, 0x40
RESERVED = bytes((0x0A, 0x0D, ESCAPE, 0x11, 0x13, 0x18))
"""Bytes that a block never holds as they are: line ends, the escape, flow control, the halt byte."""

Message = dict[str, Any]


@dataclass(frozen=True)
class Block:
    """A piece of an image on its way to the board: request id, place in the image, bytes."""

    id: int
    offset: int
    data: bytes


def encode(message: Message) -> bytes:
    """A message as a line: compact JSON, a space, eight hex digits of CRC-32 over the JSON, newline.

    Raises:
        ValueError: a number that is not finite (JSON has none).
    """
    body = json.dumps(message, separators=(",", ":"), allow_nan=False, ensure_ascii=True).encode()
    return b"%s %08x\n" % (body, zlib.crc32(body))


def decode(line: bytes) -> Message | None:
    """The message of one line (without its newline), or None when its sum or shape is wrong.

    Shape: no longer than :data:`LONGEST_LINE`, ASCII, eight plain hex digits, a JSON object whose numbers are finite.
    """
    body, space, digits = line.rpartition(b" ")
    if not space or not _DIGITS.fullmatch(digits) or len(line) > LONGEST_LINE or not body.isascii():
        return None
    if int(digits, 16) != zlib.crc32(body):
        return None
    try:
        message = _READER.decode(body.decode("ascii"))
        if _LARGE_POWER.search(body) or _LONG_NUMBER.search(body[::_EVERY]):
            # the check of every number costs five times the reading: only where needed
            json.loads(body, parse_float=_finite, parse_int=_finite)
    except (ValueError, RecursionError):
        return None
    return message if isinstance(message, dict) else None


_DIGITS = re.compile(rb"[0-9a-fA-F]{8}")
_EVERY = 20
_LARGE_POWER, _LONG_NUMBER = re.compile(rb"[eE]\+?\d{3}"), re.compile(rb"\d{15}")
"""A number beyond a double (1.8e308) has a power of three digits, or 300 digits in a row: every 20th byte shows 15 of
those. To look for 300 through all bytes took twice as long as the reading itself.
"""


def _not_finite(word: str) -> float:
    raise ValueError(f"{word} is no number of JSON")


def _finite(digits: str) -> float:
    value = float(digits)
    return value if math.isfinite(value) else _not_finite(digits)


_READER = json.JSONDecoder(parse_constant=_not_finite)

_HEAD = struct.Struct(">II")
_SUM = struct.Struct(">I")
_PAIRS = tuple((bytes((byte,)), bytes((ESCAPE, byte ^ FLIP))) for byte in sorted(RESERVED, key=lambda b: b != ESCAPE))
"""Reserved bytes, the escape first, and what goes instead. Whole passes over a block are many times faster than a
function called for every byte; no pair holds a byte that is reserved but the escape at its beginning.
"""


def encode_block(block: Block) -> bytes:
    """A block as a line: mark, then id, offset, data and CRC-32 (integers big-endian, 4 bytes), escaped, newline.

    Each reserved byte b goes as 0x10 followed by b xor 0x40: 2.3 % longer for random bytes.
    """
    body = _HEAD.pack(block.id, block.offset) + block.data
    body += _SUM.pack(zlib.crc32(body))
    for plain, pair in _PAIRS:
        body = body.replace(plain, pair)
    return BLOCK_MARK + body + b"\n"


def decode_block(line: bytes) -> Block | None:
    """The block of one line (without its newline), or None when its sum or shape is wrong."""
    body = line[1:]
    for plain, pair in reversed(_PAIRS):
        body = body.replace(pair, plain)
    if len(body) < _HEAD.size + _SUM.size or line[:1] != BLOCK_MARK:
        return None
    if _SUM.unpack(body[-_SUM.size :])[0] != zlib.crc32(body[: -_SUM.size]):
        return None
    number, offset = _HEAD.unpack(body[: _HEAD.size])
    return Block(number, offset, body[_HEAD.size : -_SUM.size])


class Decoder:
    """Cuts a byte stream into messages and blocks; bad lines are counted and yielded as None."""

    def __init__(self) -> None:
        self.bad = 0
        self._rest = b""
        self._skipping = False

    def feed(self, data: bytes) -> Iterator[Message | Block | None]:
        """Frames completed by these bytes, in order; None for each line that is no good frame."""
        lines = (self._rest + data).split(b"\n")
        self._rest = lines.pop()
        for line in lines:
            if self._skipping:
                self._skipping = False
                continue
            line = line.rstrip(b"\r")
            if not line:
                continue
            message = decode_block(line) if line[:1] == BLOCK_MARK else decode(line)
            if message is None:
                self.bad += 1
            yield message
        if len(self._rest) > LONGEST_LINE:
            self._rest = b""
            if not self._skipping:
                self.bad += 1
                self._skipping = True
                yield None
