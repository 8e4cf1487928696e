"""The board's process: listens on a pseudo-terminal or a TCP port until it is stopped."""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import json
import os
import struct
import tty
from collections.abc import Callable
from pathlib import Path

import numpy as np

from ublet.core.trouble import Trouble
from ublet.firmware.clock import keep_time
from ublet.firmware.service import Service
from ublet.link.frames import encode

TCGETS2, TERMIOS2_BYTES = 0x802C542A, 44
"""Linux: asks a terminal for its settings with the speed as a number, which comes last (asm-generic/ioctls.h)."""

AT_ONCE_BYTES = 1 << 14
"""Bytes that are read from a host at once."""

UNSENT_LIMIT = 1 << 16
"""A host that does not read loses what is beyond this, as on a real serial line."""


class ListenError(Trouble):
    """The place to listen at cannot be used; the message says why."""


async def serve(service: Service, listen: str, speed: float, ready: Callable[[str], None]) -> None:
    """Serve for ever. ``listen`` is ``pty``, ``pty:LINK`` or ``tcp:HOST:PORT``; ``ready`` gets the URL.

    Raises:
        ListenError: unknown form, or the place cannot be used.
    """
    async with contextlib.AsyncExitStack() as stack:
        if listen == "pty" or listen.startswith("pty:"):
            url = _open_pty(service, listen[4:], stack)
        elif listen.startswith("tcp:"):
            url = await _open_tcp(service, listen, stack)
        else:
            raise ListenError(f"--listen {listen}: write pty, pty:LINK or tcp:HOST:PORT")
        ready(url)
        await keep_time(service, speed)


def announce(url: str, board: str) -> str:
    """The line that says the board is ready."""
    return json.dumps({"port": url, "board": board})


def _open_pty(service: Service, link: str, stack: contextlib.AsyncExitStack) -> str:
    """A pseudo-terminal in raw mode; with ``link``, a symbolic link to it that outlives restarts."""
    ours, theirs = os.openpty()
    stack.callback(os.close, ours)
    stack.callback(os.close, theirs)
    tty.setraw(theirs)
    os.set_blocking(ours, False)
    name = os.ttyname(theirs)
    if link:
        path = Path(link)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if path.is_symlink():
                path.unlink()
            path.symlink_to(name)
        except OSError as error:
            raise ListenError(f"--listen pty:{link}: {error.strerror or error}") from error
        stack.callback(path.unlink, missing_ok=True)
        name = link
    loop = asyncio.get_running_loop()
    unsent = bytearray()
    baud, noise = service.wire.baud, np.random.default_rng(5)

    def garbled() -> bool:
        """Whether the host listens at another speed than the line has."""
        return bool(baud) and (host_baud := host_baud_of(theirs)) is not None and host_baud != baud

    def flush() -> None:
        with contextlib.suppress(BlockingIOError):
            sent = os.write(ours, unsent)
            del unsent[:sent]
        if unsent:
            loop.add_writer(ours, flush)
        else:
            loop.remove_writer(ours)

    def send(data: bytes) -> None:
        if garbled():
            data = bytes(noise.integers(128, 256, len(data) // 2).tolist())
        if len(unsent) < UNSENT_LIMIT:
            unsent.extend(data)
            flush()

    def readable() -> None:
        with contextlib.suppress(BlockingIOError):
            data = os.read(ours, AT_ONCE_BYTES)
            if not garbled():  # a receiver drops what does not fit its frames
                service.received(data)

    service.send = send
    loop.add_reader(ours, readable)
    stack.callback(loop.remove_reader, ours)
    return name


def host_baud_of(descriptor: int) -> int | None:
    """The speed that was set on a terminal, baud, also one that termios has no name for; None: it does not say."""
    try:
        settings = fcntl.ioctl(descriptor, TCGETS2, bytes(TERMIOS2_BYTES))
    except OSError:
        return None
    return int(struct.unpack_from("=I", settings, TERMIOS2_BYTES - 4)[0])


async def _open_tcp(service: Service, listen: str, stack: contextlib.AsyncExitStack) -> str:
    host, _, number = listen.removeprefix("tcp:").rpartition(":")
    if not number.isdigit():
        raise ListenError(f"--listen {listen}: write tcp:HOST:PORT, for example tcp:localhost:7125")
    busy = False

    async def host_came(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal busy
        if busy:
            with contextlib.suppress(OSError):
                writer.write(encode({"jsonrpc": "2.0", "method": "busy", "params": {"why": "another host is linked"}}))
                await writer.drain()
            writer.close()
            return
        busy = True
        service.new_host()

        def send(data: bytes) -> None:
            if writer.transport.get_write_buffer_size() < UNSENT_LIMIT:
                writer.write(data)

        service.send = send
        try:
            while data := await reader.read(AT_ONCE_BYTES):
                service.received(data)
        except OSError:
            pass
        finally:
            busy = False
            service.send = lambda data: None
            service.new_host()  # what it had sent ahead goes with it
            writer.close()

    try:
        server = await asyncio.start_server(host_came, host or "localhost", int(number))
    except (OSError, OverflowError) as error:
        raise ListenError(f"--listen {listen}: {error}") from error
    stack.push_async_callback(_close, server)
    port = server.sockets[0].getsockname()[1]
    return f"socket://{host or 'localhost'}:{port}"


async def _close(server: asyncio.Server) -> None:
    server.close()
