"""The board's settings, guards and clock, for recipes."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from functools import partial
from pathlib import Path
from typing import Any

from ublet.core.motion.print_plan import PrintPlan
from ublet.core.remedies import LINK
from ublet.core.remedy import ChangeParameter, StartAgain
from ublet.core.run import TrialFailed
from ublet.core.settings import Value
from ublet.ledger.errors import LedgerError
from ublet.session.bench.resting import Resting
from ublet.session.connection import Connection
from ublet.session.loans import Loans
from ublet.session.printing import PrintError, read_plan

Compute = Callable[..., Awaitable[Any]]
"""Runs a long computation beside everything else."""

NEWS_S = 0.25
"""A state comes ten times a second, and takes its way, s."""


class LinkSettings:
    """A :class:`ublet.core.bench.Settings` over a connection."""

    def __init__(self, connection: Connection, resting: Resting, loans: Loans) -> None:
        self._connection = connection
        self._resting = resting
        self._loans = loans

    def live(self, path: str) -> Value:
        """The live value, noted."""
        self._resting.note(path)
        return self.shown(path)

    def shown(self, path: str) -> Value:
        """The live value; None when the board has no such setting."""
        return self._resting.shown(path)

    @asynccontextmanager
    async def borrowed(self, values: Mapping[str, Value]) -> AsyncIterator[None]:
        """Other live settings for a while; inside another such block they are then as that one has them.

        Raises:
            TrialFailed: the loan could not be entered in the ledger; nothing was changed.
        """
        outer = {path: self.shown(path) for path in values if path in self._loans}
        ours = [path for path in values if path not in self._loans]
        try:
            try:
                await self._loans.borrow(values)
            except LedgerError as error:
                raise TrialFailed(
                    f"Nothing was borrowed from the board: {error}", StartAgain("when the ledger can be written")
                ) from error
            yield
        finally:
            if outer:
                await self._loans.borrow(outer)
            if lent := [path for path in ours if path in self._loans]:
                await self._loans.give_back(lent)


class LinkClock:
    """A :class:`ublet.core.bench.Clock` over a connection."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    @property
    def news_s(self) -> float:
        """How late we may learn of something: longer by an accelerated board's clock."""
        about = self._connection.about
        return NEWS_S * about.clock if about is not None else NEWS_S

    def now_s(self) -> float:
        """The board's clock."""
        return self._connection.board_time

    async def rest(self, seconds: float) -> None:
        """Wait until the board's clock has gone on by so much."""
        end = self._connection.board_time + seconds
        while self._connection.board_time < end:
            if not self._connection.linked:
                raise TrialFailed(self._connection.why, LINK)
            await self._connection.next_samples()


class LinkPrints:
    """A :class:`ublet.core.bench.PrintAccess` over a connection: texts are read beside everything else."""

    def __init__(self, connection: Connection, resting: Resting, steps_per_s: float, compute: Compute) -> None:
        self._connection, self._resting = connection, resting
        self._steps_per_s, self._compute = steps_per_s, compute

    async def plan(self, file: str, material: str) -> PrintPlan:
        """A text read, checked and timed by what is live."""
        live = {path: layer.live for path, layer in self._connection.layers.items()}
        with self._resting.trace.aside():
            machine = self._resting.machine
            read = partial(read_plan, Path(file).expanduser(), machine, live, self._steps_per_s, material)
            try:
                plan: PrintPlan = await self._compute(read)
            except PrintError as error:
                raise TrialFailed(f"{error} Nothing moved.", ChangeParameter("file", "a text of ISO 6983")) from error
        return plan


class LinkGuards:
    """A :class:`ublet.core.bench.Guarding` over a connection."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    @property
    def simulated(self) -> bool:
        """Whether the board says of itself that it is a simulated one."""
        return self._connection.about is not None and self._connection.about.simulated

    @property
    def heartbeat_window_s(self) -> float:
        """How long the board heats without hearing from us, by its own clock."""
        about = self._connection.about
        return about.heartbeat_window_s * about.clock if about is not None and about.switches_off else 0.0

    @property
    def language(self) -> str:
        """The dialect that the board speaks."""
        about = self._connection.about
        return about.language if about is not None else ""

    @property
    def host_watches(self) -> tuple[str, ...]:
        """Guards that the host keeps for the board."""
        about = self._connection.about
        return tuple(about.host_guards) if about is not None else ()

    def tripped(self) -> tuple[bool, str, float]:
        """Whether it tripped; the time is that of the first sample in which nothing was driven any more."""
        state = self._connection.state
        if state.mode == "ready" or self._connection.about is None:
            return False, "", 0.0
        channels = self._connection.about.channels
        targets = [2 + at for at, name in enumerate(channels) if name.endswith(".target_c")]
        when = self._connection.board_time
        for sample in reversed(self._connection.samples):
            if any(sample[at] is not None for at in targets):
                break
            when = sample[1] or 0.0
        return True, state.guard or state.mode, when

    async def release(self) -> None:
        """Leave the tripped state."""
        await self._connection.controller.release()

    def fall_silent(self, seconds: float) -> None:
        """Send no heartbeat for a while."""
        about = self._connection.about
        self._connection.fall_silent(seconds / about.clock if about is not None else seconds)
