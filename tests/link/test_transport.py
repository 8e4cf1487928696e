"""Transports over real file descriptors."""

from __future__ import annotations

import asyncio
import os
import socket
import time
import tty
from collections.abc import Awaitable, Callable
from pathlib import Path

import pytest

from ublet.link.transport import BACKLOG, YOUNGER_S, FileTransport, PortError, memory_pair, open_transport


def on_pair(work: Callable[[FileTransport, socket.socket], Awaitable[None]]) -> None:
    async def run() -> None:
        ours, theirs = socket.socketpair()
        theirs.setblocking(False)
        transport = FileTransport(ours.fileno(), ours.close)
        try:
            await work(transport, theirs)
        finally:
            transport.close()
            theirs.close()

    asyncio.run(run())


def test_bytes_go_both_ways() -> None:
    async def work(transport: FileTransport, theirs: socket.socket) -> None:
        got: list[bytes] = []
        transport.received = got.append
        transport.write(b"there")
        assert theirs.recv(100) == b"there"
        theirs.send(b"back")
        await asyncio.sleep(0.05)
        assert got == [b"back"]

    on_pair(work)


def test_a_full_line_keeps_the_order_and_urgent_bytes_go_first() -> None:
    async def work(transport: FileTransport, theirs: socket.socket) -> None:
        theirs.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        block = bytes(range(256)) * 400
        transport.write(block)
        transport.write(block)  # waits: the line is full
        transport.write(b"\x18", first=True)
        got = b""
        for _ in range(200):
            try:
                got += theirs.recv(1 << 16)
            except BlockingIOError:
                await asyncio.sleep(0.005)
            if len(got) == 2 * len(block) + 1:
                break
        assert sorted(got) == sorted(block + block + b"\x18")
        assert len(got) == 2 * len(block) + 1

    on_pair(work)


def test_a_line_that_takes_nothing_is_given_up() -> None:
    async def work(transport: FileTransport, theirs: socket.socket) -> None:
        reports: list[str] = []
        transport.lost = reports.append
        for _ in range(BACKLOG // 1000):
            transport.write(b"x" * 4000)
        assert reports == ["the board does not take what is sent"]

    on_pair(work)


def test_the_other_end_closing_is_told_once() -> None:
    async def work(transport: FileTransport, theirs: socket.socket) -> None:
        reports: list[str] = []
        transport.lost = reports.append
        theirs.close()
        await asyncio.sleep(0.05)
        transport.write(b"x")
        assert reports == ["the port was closed from the other end"]

    on_pair(work)


def test_a_file_without_permission_says_so(tmp_path: object) -> None:
    if os.geteuid() == 0:
        with pytest.raises(PortError, match="cannot be opened"):
            asyncio.run(open_transport("/etc/hostname", 250_000))
    else:
        with pytest.raises(PortError, match="no permission"):
            asyncio.run(open_transport("/dev/mem", 250_000))


def test_a_terminal_that_is_younger_than_the_link_to_it_is_somebody_elses(tmp_path: Path) -> None:
    """A board that was killed leaves its link; its pseudo-terminal goes to the next program that wants one."""

    async def opened() -> None:
        (await open_transport(str(link), 250_000)).close()

    ours, theirs = os.openpty()
    link = tmp_path / "board.port"
    try:
        link.symlink_to(os.ttyname(theirs))
        asyncio.run(opened())
        time.sleep(YOUNGER_S + 0.1)
        link.chmod(0o620)  # its node counts as changed now, as one that was made now
        with pytest.raises(PortError, match="a board left that has ended"):
            asyncio.run(opened())
        os.set_blocking(ours, False)
        with pytest.raises(BlockingIOError):
            os.read(ours, 1)
    finally:
        os.close(ours)
        os.close(theirs)


def test_a_pair_in_memory_delivers_later_and_parts() -> None:
    async def run() -> None:
        one, two = memory_pair()
        got: list[bytes] = []
        reports: list[str] = []
        two.received, two.lost = got.append, reports.append
        one.write(b"a")
        assert got == []
        await asyncio.sleep(0)
        assert got == [b"a"]
        one.close()
        assert reports == ["the other end was closed"]
        two.write(b"b")

    asyncio.run(run())


def test_a_signal_goes_out_from_another_thread_between_what_is_being_sent() -> None:
    async def work() -> bytes:
        ours, theirs = os.openpty()
        tty.setraw(theirs)
        transport = FileTransport(ours, lambda: None)
        transport.write(b"half a li")
        await asyncio.to_thread(transport.signal, b"\x18")
        transport.write(b"ne\n")
        await asyncio.sleep(0.05)
        got = os.read(theirs, 100)
        transport.close()
        await asyncio.to_thread(transport.signal, b"\x18")  # a port that is gone takes nothing, and nothing breaks
        os.close(ours)
        os.close(theirs)
        return got

    got = asyncio.run(work())
    assert got.count(b"\x18") == 1 and got.replace(b"\x18", b"") == b"half a line\n"
