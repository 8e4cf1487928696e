"""Readings on the line: packed into numbered blocks with the board's own times."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.link.frames import Block

HEAD = struct.Struct(">IQIH")
"""Number of the first reading, when it was taken (µs), how long after it the last one was (µs), how many there are."""

FRAME_BYTES = 14
"""What a block has around its data on the line: mark, stream, number, sum, newline."""

ESCAPED = 1.03
"""Escapes make it longer by no more than this."""


@dataclass(frozen=True)
class StreamBlock:
    """Readings of a stream: its number, the block's number from 0, the first reading's number, when the first and the
    last were taken by the board's clock, s, and counts (n x columns).
    """

    stream: int
    number: int
    index: int
    first_s: float
    last_s: float
    counts: NDArray[np.int16]


def pack(block: StreamBlock) -> Block:
    """A block for the line: whole numbers big-endian, 16 bits a count."""
    span = round((block.last_s - block.first_s) * 1e6)
    head = HEAD.pack(block.index, round(block.first_s * 1e6), span, len(block.counts))
    return Block(block.stream, block.number, head + block.counts.astype(">i2").tobytes())


def unpack(block: Block, columns: int) -> StreamBlock | None:
    """The readings of a block; None when it is not one of so many columns."""
    if len(block.data) < HEAD.size:
        return None
    index, first_us, span_us, count = HEAD.unpack(block.data[: HEAD.size])
    packed = block.data[HEAD.size :]
    if not count or len(packed) != 2 * columns * count:
        return None
    counts = np.frombuffer(packed, dtype=">i2").reshape(count, columns).astype(np.int16)
    first_s = first_us / 1e6
    return StreamBlock(block.id, block.offset, index, first_s, first_s + span_us / 1e6, counts)


def line_bytes_s(sample_bytes: int, rate_hz: float, in_block: int) -> float:
    """What a stream takes of the line, bytes/s."""
    return rate_hz * (sample_bytes + (HEAD.size + FRAME_BYTES) / in_block) * ESCAPED
