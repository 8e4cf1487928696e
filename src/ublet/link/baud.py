"""The speed of a serial line: opening a port at the declared one, and finding the right one when only garbage comes."""

from __future__ import annotations

from collections.abc import Callable

from ublet.link.transport import Transport, open_transport

USUAL = (115_200, 250_000, 500_000, 1_000_000, 921_600, 230_400, 57_600, 38_400, 19_200, 9_600)
"""Rates to try, the likeliest first, baud."""


class PortOpener:
    """Opens a port at the declared rate; once another rate was found to be right, at that one."""

    def __init__(self, url: str, declared: Callable[[], int]) -> None:
        self.url = url
        self._declared = declared
        self.found: int | None = None

    @property
    def baud(self) -> int:
        """The rate at which it opens."""
        return self.found or self._declared()

    @property
    def declared(self) -> int:
        """The rate of the machine file."""
        return self._declared()

    @property
    def has_rate(self) -> bool:
        """Whether its speed means anything: a socket has none."""
        return not self.url.startswith("socket://")

    def others(self) -> tuple[int, ...]:
        """The usual rates besides the declared one."""
        return tuple(rate for rate in USUAL if rate != self._declared())

    async def __call__(self) -> Transport:
        """Open it.

        Raises:
            PortError: it cannot be opened.
        """
        return await self.at(self.baud)

    async def at(self, baud: int) -> Transport:
        """Open it at another rate.

        Raises:
            PortError: it cannot be opened, or not at that rate.
        """
        return await open_transport(self.url, baud)
