"""Byte transports: a serial port or pseudo-terminal, a TCP socket, and a pair in memory."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import os
import stat
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from ublet.core.trouble import NoLink
from ublet.link.holders import holders

BACKLOG = 1 << 18
"""Bytes that may wait to be written; beyond, the other end is taken as gone."""


PSEUDO_TERMINALS = Path("/dev/pts")
YOUNGER_S = 0.5
"""A pseudo-terminal that is younger than a link to it, by so much, s, is not the one that the link was made to."""


class PortError(NoLink):
    """A port cannot be opened; the message says which, why, and what to do."""


class Transport(Protocol):
    """Bytes to and from a board. ``received`` and ``lost`` are called on the event loop."""

    received: Callable[[bytes], None]
    lost: Callable[[str], None]

    def write(self, data: bytes, first: bool = False) -> None:
        """Send; ``first`` goes before anything still waiting."""

    def signal(self, byte: bytes) -> None:
        """Send one control byte at once, between whatever else is being sent; from any thread."""

    def close(self) -> None:
        """Let go of the port; ``lost`` is not called."""


def _ignore(_: object) -> None:
    """Nobody listens yet."""


class FileTransport:
    """A transport over a non-blocking file descriptor on the running event loop."""

    def __init__(self, descriptor: int, release: Callable[[], None]) -> None:
        self.received: Callable[[bytes], None] = _ignore
        self.lost: Callable[[str], None] = _ignore
        self._descriptor = descriptor
        self._release = release
        self._waiting = b""
        self._open = True
        self._closing = threading.Lock()
        self._loop = asyncio.get_running_loop()
        os.set_blocking(descriptor, False)
        self._loop.add_reader(descriptor, self._readable)

    def write(self, data: bytes, first: bool = False) -> None:
        """Send without blocking; what the port does not take now waits."""
        if not self._open:
            return
        idle = not self._waiting
        self._waiting = data + self._waiting if first else self._waiting + data
        if len(self._waiting) > BACKLOG:
            self._fail("the board does not take what is sent")
        elif first or idle:
            self._writable()

    def signal(self, byte: bytes) -> None:
        """Write it straight to the port; a port that is gone is reported elsewhere.

        The lock keeps the port from being closed in between: its number may be another file's a moment later.
        """
        with self._closing:
            if self._open:
                with contextlib.suppress(OSError):
                    os.write(self._descriptor, byte)

    def close(self) -> None:
        """Stop watching and release the port."""
        if self._open:
            self._loop.remove_reader(self._descriptor)
            self._loop.remove_writer(self._descriptor)
            with self._closing:
                self._open = False
                with contextlib.suppress(OSError):
                    self._release()

    def _readable(self) -> None:
        try:
            data = os.read(self._descriptor, 1 << 16)
        except BlockingIOError:
            return
        except OSError as error:
            self._fail(os.strerror(error.errno or errno.EIO))
            return
        if data:
            self.received(data)
        else:
            self._fail("the port was closed from the other end")

    def _writable(self) -> None:
        try:
            sent = os.write(self._descriptor, self._waiting)
        except BlockingIOError:
            sent = 0
        except OSError as error:
            self._fail(os.strerror(error.errno or errno.EIO))
            return
        self._waiting = self._waiting[sent:]
        if self._waiting:
            self._loop.add_writer(self._descriptor, self._writable)
        else:
            self._loop.remove_writer(self._descriptor)

    def _fail(self, why: str) -> None:
        if self._open:
            self.close()
            self.lost(why)


async def open_transport(url: str, baud: int) -> Transport:
    """Open ``socket://HOST:PORT``, or whatever device name pyserial opens.

    Raises:
        PortError: the port is missing, in use, not permitted, or refuses.
    """
    if url.startswith("socket://"):
        return await _open_socket(url)
    if _given_away(Path(url)):
        raise PortError(f"{url} is what a board left that has ended: start that board again, or name another port.")
    import serial

    try:
        port = serial.serial_for_url(url, baudrate=baud, timeout=0, exclusive=True)
    except (serial.SerialException, OSError, ValueError) as error:
        raise PortError(_port_reason(url, error)) from error
    try:
        port.reset_input_buffer()
        return FileTransport(port.fileno(), port.close)
    except (serial.SerialException, OSError) as error:
        port.close()
        raise PortError(_port_reason(url, error)) from error


def _given_away(path: Path) -> bool:
    """Whether a link was left by a simulated board that was killed, and its pseudo-terminal is another program's now:
    whatever were sent there would stand on somebody's screen.
    """
    try:
        link, there = path.lstat(), path.stat()
        led = path.resolve()
    except (OSError, ValueError):
        return False
    pseudo = stat.S_ISLNK(link.st_mode) and led.is_relative_to(PSEUDO_TERMINALS)
    return pseudo and there.st_ctime > link.st_ctime + YOUNGER_S


def _port_reason(url: str, error: Exception) -> str:
    code = getattr(error, "errno", None)
    text = str(error)
    if code == errno.ENOENT or "No such file" in text:
        return f"{url} is not there: plug the board in, or name its port with --port."
    if code in (errno.EACCES, errno.EPERM) or "Permission denied" in text:
        return f"{url}: no permission. Add yourself to the port's group (often dialout) and log in again."
    if code in (errno.EBUSY, errno.EAGAIN) or "exclusively lock" in text or "busy" in text:
        holder = holders([url]).get(url, "another program")
        return f"{url} is in use by {holder}: close that program (another Ublet?) and try again."
    return f"{url} cannot be opened: {text}"


async def _open_socket(url: str) -> Transport:
    import socket

    host, _, number = url.removeprefix("socket://").rpartition(":")
    if not host or not number.isdigit() or not 0 < int(number) < 65536:
        raise PortError(f"{url} is no address; write socket://HOST:PORT, for example socket://localhost:7125")
    loop = asyncio.get_running_loop()
    try:
        addresses = await loop.getaddrinfo(host, int(number), type=socket.SOCK_STREAM)
        end = socket.socket(*addresses[0][:3])
        end.setblocking(False)
        end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        await asyncio.wait_for(loop.sock_connect(end, addresses[0][4]), 3)
    except (OSError, TimeoutError) as error:
        raise PortError(f"{url} does not answer: {error or 'no reply in 3 s'}. Is the board running?") from error
    return FileTransport(end.fileno(), end.close)


class MemoryTransport:
    """One end of a pair inside a process; bytes arrive in the loop's next round."""

    def __init__(self) -> None:
        self.received: Callable[[bytes], None] = _ignore
        self.lost: Callable[[str], None] = _ignore
        self.other: MemoryTransport | None = None

    def write(self, data: bytes, first: bool = False) -> None:
        """Hand the bytes to the other end."""
        if self.other is not None:
            asyncio.get_running_loop().call_soon(self.other._arrive, data)

    def signal(self, byte: bytes) -> None:
        """As any other byte."""
        self.write(byte)

    def close(self) -> None:
        """Part the two ends; the other one notices."""
        other, self.other = self.other, None
        if other is not None:
            other.other = None
            other.lost("the other end was closed")

    def _arrive(self, data: bytes) -> None:
        """What was sent before the two ends were parted still arrives, as on a wire."""
        self.received(data)


def memory_pair() -> tuple[MemoryTransport, MemoryTransport]:
    """Two connected ends."""
    one, two = MemoryTransport(), MemoryTransport()
    one.other, two.other = two, one
    return one, two
