"""Fast readings of the linked board, for a recipe."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from contextlib import AsyncExitStack, asynccontextmanager

from ublet.core.bench import Listening
from ublet.core.remedy import StartAgain
from ublet.core.run import TrialFailed
from ublet.core.streams import StreamKind
from ublet.link.errors import BoardRefused
from ublet.session.connection import Connection
from ublet.session.streams import streaming


class LinkStreams:
    """A :class:`ublet.core.bench.Streams` over a connection."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    def kinds(self) -> Mapping[str, StreamKind]:
        """Those that the board has."""
        return self._connection.controller.streams()

    @asynccontextmanager
    async def open(self, name: str, rate_hz: float, capture_s: float | None = None) -> AsyncIterator[Listening]:
        """Listen to one."""
        async with AsyncExitStack() as stack:
            try:
                run = await stack.enter_async_context(streaming(self._connection, name, rate_hz, capture_s))
            except BoardRefused as refused:
                raise TrialFailed(
                    f"The board does not stream: {refused}.", StartAgain("when the board streams to nobody else")
                ) from refused
            yield run
