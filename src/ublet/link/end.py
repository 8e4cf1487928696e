"""The end of a link on our side: what the house above needs of it, whatever language its lines speak."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine
from dataclasses import dataclass, field
from typing import Any, Protocol

from ublet.core.trouble import NoLink
from ublet.link.controller import Controller
from ublet.link.frames import Block, Message
from ublet.link.replies import EventReport, Hello, Sample
from ublet.link.transport import Transport


@dataclass
class LinkQuality:
    """Counts since the link was opened, and the last round trip in s."""

    round_trip_s: float = 0.0
    bad_sums: int = 0
    retries: int = 0
    recovered_samples: int = 0


@dataclass
class State:
    """The board's latest notification: mode is ready, halted or tripped; why is a sentence."""

    boot: int = 0
    mode: str = "ready"
    why: str = ""
    guard: str = ""


def _nothing(_: object) -> None:
    """Nobody listens."""


@dataclass
class LinkListeners:
    """Who is called: with each new state, samples (in order, each once), events, blocks of readings; once when the link
    is lost, with the reason; with each line that is said (``>``, ``<``). may_heat: why a temperature, °C, must not be
    held by a board that may stay on in a silence (empty: it may). attends: whether somebody follows each reading, as a
    trial does.
    """

    on_state: Callable[[State], None] = _nothing
    on_samples: Callable[[list[Sample]], None] = _nothing
    on_event: Callable[[EventReport], None] = _nothing
    on_block: Callable[[Block], None] = _nothing
    on_lost: Callable[[str], None] = _nothing
    on_talk: Callable[[str, Message], None] | None = field(default=None)
    may_heat: Callable[[float], str] = lambda celsius: ""
    attends: Callable[[], bool] = lambda: True


class LinkEnd(Protocol):
    """An open link. ``about`` is what the board says of itself, once it was greeted."""

    transport: Transport
    quality: LinkQuality
    state: State
    about: Hello | None

    async def hello(self, client: str = "ublet") -> Hello:
        """Greet the board, again after it restarted.

        Raises:
            Garbled, LinkLost, Malformed, BoardRefused.
        """

    async def call(self, method: str, params: dict[str, Any] | None = None) -> Any:
        """A request by its name on the wire, where the language has such names."""

    def signal_halt(self) -> None:
        """Halt from any thread."""

    def halt(self) -> None:
        """Halt at once, ahead of anything that waits to be sent."""

    def fall_silent(self, seconds: float) -> None:
        """Say nothing for so long; 0 ends it."""

    def close(self) -> None:
        """Let go of the port."""


class LinkWork:
    """What goes on beside an open link, and how it ends: a task of ours that fails ends the link, which must not go on
    half. Whoever inherits it has a ``transport``, and says what is switched off, what waits, and who is notified.
    """

    transport: Transport

    def __init__(self) -> None:
        self.lost_why: str | None = None
        self._tasks: set[asyncio.Task[None]] = set()

    def let_go(self) -> None:
        """Everything off, without waiting for an answer: before we hang up on the board."""
        raise NotImplementedError

    def _fail_waiting(self, why: str) -> None:
        """Whoever waits for an answer learns that none comes."""
        raise NotImplementedError

    def _announce_lost(self, why: str) -> None:
        """The listener learns that the link is gone."""
        raise NotImplementedError

    def close(self) -> None:
        """Stop what goes on beside it, and let go of the port."""
        self._stop("closed")
        self.transport.close()

    def spawn(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        """Something that goes on as long as the link does."""
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._ended)
        return task

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and (error := task.exception()) is not None:
            self._hang_up(fault_words(error))

    def _hang_up(self, why: str) -> None:
        """End the link from this end: the board is asked to switch off, in case it still listens."""
        if self.lost_why is None:
            self.let_go()
            self._lost(why)

    def _lost(self, why: str) -> None:
        if self.lost_why is None:
            self.transport.close()
            self._stop(why)
            self._announce_lost(why)

    def _stop(self, why: str) -> None:
        self.lost_why = why
        for task in list(self._tasks):
            task.cancel()
        self._fail_waiting(why)


def fault_words(error: BaseException) -> str:
    """Why a link is ended by what arrived: the board's fault by its own words, ours by its name."""
    if isinstance(error, NoLink):
        return str(error)
    return f"a fault in Ublet itself, while it took what the board sent ({str(error)[:200]})"


Speaker = Callable[[Transport, LinkListeners], tuple[LinkEnd, Controller]]
"""Makes the end of a link that speaks a language, and what the board can be asked for over it."""
