"""Uploading an image in checked blocks: several under way at once, what the board has already is not sent again."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Iterator

from ublet.link.client import REPLY_S, Client
from ublet.link.controller import UploadProgress
from ublet.link.frames import Message
from ublet.link.replies import UploadBegun, reply_as

WINDOW = 4
"""Blocks under way at once: enough to keep the line busy while replies come, few enough that HALT is not held up."""

BLOCK_S, LEAST_BLOCK, MOST_BLOCK = 0.04, 128, 1024
"""A block takes about this long on the line, within these sizes in bytes."""

BITS_A_BYTE = 10
"""Bits on the line for each byte: start, eight, stop."""


def block_bytes(baud: int) -> int:
    """A block's size for a line speed in baud."""
    return max(LEAST_BLOCK, min(MOST_BLOCK, int(baud / BITS_A_BYTE * BLOCK_S)))


def missing(total: int, have: Iterable[Iterable[int]], block: int) -> Iterator[tuple[int, int]]:
    """Start and end of each piece still to be sent, given the ranges [start, end) that the board has."""
    at = 0
    for start, end in [*sorted(tuple(piece) for piece in have), (total, total)]:
        while at < start:
            stop = min(at + block, start)
            yield at, stop
            at = stop
        at = max(at, end)


async def upload(
    client: Client, head: Message, data: bytes, baud: int, on_progress: Callable[[UploadProgress], None]
) -> None:
    """Send an image and have the board check its digest. Whatever ends it, the board runs on as before.

    head: what the board judges the image by before a byte is sent (``size``, ``digest``, ``board``, ``firmware``).

    Raises:
        LinkLost: the line broke; a new call goes on where this one ended. BoardRefused: the board says no.
    """
    loop = asyncio.get_running_loop()
    began = reply_as(UploadBegun, await client.call("image.begin", head), "image.begin")
    size = block_bytes(baud)
    pieces = list(missing(len(data), began.have, size))
    reply_s = max(REPLY_S, 3 * WINDOW * size * BITS_A_BYTE / baud)
    start, sent = loop.time(), 0
    before = len(data) - sum(end - at for at, end in pieces)
    todo = iter(pieces)

    async def work() -> None:
        nonlocal sent
        for at, end in todo:
            await client.block(at, data[at:end], reply_s)
            sent += end - at
            elapsed = loop.time() - start
            on_progress(UploadProgress(before + sent, len(data), elapsed, sent / elapsed if elapsed else 0.0))

    on_progress(UploadProgress(before, len(data), 0.0, 0.0))
    try:
        async with asyncio.TaskGroup() as group:
            for _ in range(WINDOW):
                group.create_task(work())
    except ExceptionGroup as problems:  # not `except*`: what is raised inside that some Pythons wrap once more
        raise problems.exceptions[0] from None
    await client.call("image.verify")
