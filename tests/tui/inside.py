"""The real app in this process, driven like a terminal: the same walks as in one, without processes and without tmux.

The loop runs only while a test waits for something; the board's clock goes on by the loop's time.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PromptLoop
from tests.tui.pilot import Opened, opened
from tests.tui.screen import PATIENCE_S

SPEED = 120.0
SETTLES_S = 0.05
NAMES = {"NPage": "pagedown", "PPage": "pageup", "BSpace": "backspace", "Escape": "escape", "Enter": "enter"}
Order = Callable[[Opened], Awaitable[Any]]


class Inside:
    """A screen of 160 x 47, by the keys' tmux names."""

    def __init__(
        self,
        folder: Path,
        machine: str = "tern-280",
        size: tuple[int, int] = (160, 47),
        mended: bool = False,
        speed: float = SPEED,
    ) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._loop = PromptLoop()
        self._orders: asyncio.Queue[tuple[Order | None, asyncio.Future[Any]]] = asyncio.Queue()
        self._patch = pytest.MonkeyPatch()
        self._open = self._loop.create_task(self._live(folder, machine, size, mended, speed))
        self._do(_nothing)

    async def _live(self, folder: Path, machine: str, size: tuple[int, int], mended: bool, speed: float) -> None:
        async with opened(folder, self._patch, machine, size=size, speed=speed, mended=mended) as there:
            while True:
                order, done = await self._orders.get()
                if order is None:
                    done.set_result(None)
                    return
                try:
                    done.set_result(await order(there))
                except BaseException as error:
                    done.set_exception(error)

    def _do(self, order: Order | None) -> Any:
        done = self._loop.create_future()
        self._orders.put_nowait((order, done))

        async def either() -> Any:
            await asyncio.wait({done, self._open}, return_when=asyncio.FIRST_COMPLETED)
            if not done.done():
                self._open.result()  # it ended by itself: with its reason
            return done.result()

        return self._loop.run_until_complete(either())

    def text(self) -> str:
        async def order(there: Opened) -> str:
            await there.painted()
            await asyncio.sleep(SETTLES_S)  # a dialog that was closed goes, one that was opened gets its first frame
            await there.painted()
            await there.until(lambda: there.text().strip())
            return "\n".join(line.rstrip() for line in there.text().split("\n"))

        return str(self._do(order))

    def key(self, *names: str) -> None:
        self._do(lambda there: there.press(*(_known(name) for name in names)))

    def burst(self, *names: str) -> None:
        """Keys at once: the next is there before the one before it is dealt with."""
        self._do(lambda there: there.burst(*(_known(name) for name in names)))

    def type(self, text: str) -> None:
        self._do(lambda there: there.press(*text))

    def wait(self, words: str, timeout: float = PATIENCE_S) -> str:
        async def order(there: Opened) -> str:
            while True:
                await there.until(lambda: words in there.text(), timeout)
                await there.painted()
                if words in (shown := there.text()):  # not a frame that was on its way to another one
                    return "\n".join(line.rstrip() for line in shown.split("\n"))

        return str(self._do(order))

    def rest(self, seconds: float) -> None:
        """Let it go on for a while."""
        self._do(lambda there: asyncio.sleep(seconds))

    def gone(self, words: str, timeout: float = PATIENCE_S) -> None:
        self._do(lambda there: there.until(lambda: words not in there.text(), timeout))

    def theme(self) -> str:
        async def order(there: Opened) -> str:
            return there.app.theme

        return str(self._do(order))

    def resize(self, width: int, height: int) -> None:
        self._do(lambda there: there.resize(width, height))

    def close(self) -> None:
        try:
            if not self._open.done():
                self._do(None)
                self._loop.run_until_complete(self._open)
        finally:
            self._patch.undo()
            self._loop.run_until_complete(self._loop.shutdown_asyncgens())
            self._loop.close()


def _known(name: str) -> str:
    """A key by Textual's name."""
    known = NAMES.get(name, name)
    known = f"ctrl+{known[2:]}" if known.startswith("C-") else known
    return known.lower() if len(known) > 1 else known


async def _nothing(there: Opened) -> None:
    """Wait until it is open."""


def inside(screens: list[Any], folder: Path, size: tuple[int, int] = (160, 47), machine: str = "tern-280") -> Inside:
    """The demonstration in this process, linked; its files lie where those of a terminal's would."""
    screen = Inside(folder / machine.partition("-")[0], machine, size)
    screens.append(screen)
    screen.wait("no errors")
    return screen
