"""Signals that would end the program: each that can be caught switches everything off first, and says what is known."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Awaitable, Callable, Coroutine
from typing import Any, TypeVar

T = TypeVar("T")

SIGNALS = tuple(getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGQUIT") if hasattr(signal, name))
"""SIGKILL cannot be caught: the board's dead-man sees to it."""


class Interrupted(Exception):
    """A signal ended the work; the message says what is known of the machine."""


async def until_interrupted(work: Coroutine[Any, Any, T], close: Callable[[], Awaitable[str]]) -> T:
    """Do the work and close, whatever happens. ``close`` returns why it is not confirmed that all is off.

    Raises:
        Interrupted: by a signal; later ones wait until everything is closed.
    """
    loop = asyncio.get_running_loop()
    task = loop.create_task(work)
    caught: list[signal.Signals] = []

    def stop(number: signal.Signals) -> None:
        if not caught:
            caught.append(number)
            task.cancel()

    for number in SIGNALS:
        loop.add_signal_handler(number, stop, number)
    try:
        await asyncio.wait({task})
    finally:
        unconfirmed = await close()
        for number in SIGNALS:
            loop.remove_signal_handler(number)
    if caught and task.cancelled():
        if unconfirmed:
            raise Interrupted(
                f"interrupted by {caught[0].name}; it is not known whether the heaters are off: {unconfirmed}. "
                "Look at the "
                "machine, and switch its power off if in doubt"
            )
        raise Interrupted(f"interrupted by {caught[0].name}; the board confirmed that everything is off")
    return task.result()
