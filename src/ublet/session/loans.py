"""Settings borrowed from the board for a trial: entered in the ledger before, given back whatever happens."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping

from ublet.core.machine.compare import same
from ublet.core.settings import Value
from ublet.core.words import several
from ublet.ledger.book import Ledger
from ublet.ledger.errors import LedgerError
from ublet.link.errors import BoardRefused, LinkLost
from ublet.session.connection import Connection


class Loans(Mapping[str, Value]):
    """The settings on loan now, each with the value that it returns to.

    Loans of a program that was killed are in the ledger: they are known from the start, and count as given back
    wherever a setting is shown, saved or rested on.
    """

    def __init__(self, ledger: Ledger, connection: Connection) -> None:
        self._ledger = ledger
        self._connection = connection
        entered = ledger.loans()
        self._former = {path: former for path, (former, _) in entered.items()}
        self._lent = {path: lent for path, (_, lent) in entered.items()}

    def __getitem__(self, path: str) -> Value:
        return self._former[path]

    def __iter__(self) -> Iterator[str]:
        return iter(self._former)

    def __len__(self) -> int:
        return len(self._former)

    async def borrow(self, values: Mapping[str, Value]) -> None:
        """Borrow settings that are not on loan yet, or change what is lent of those that are.

        Raises:
            LedgerError: it could not be entered; nothing is borrowed. LinkLost, BoardRefused.
        """
        former = {path: self._live(path) for path in values if path not in self._former}
        self._ledger.begin_loans(former, values)
        self._former.update(former)
        self._lent.update(values)
        await self._connection.lend(values)

    async def give_back(self, paths: list[str]) -> None:
        """The trial is through with these: they are live again as they were before.

        Raises:
            LinkLost, BoardRefused: they stay entered, and are given back at the next link.
        """
        await self._connection.give_back({path: self._former[path] for path in paths})
        self._forget(paths)

    async def settle(self, left: list[str]) -> str:
        """At a new link: what was left on loan by the last one is as before; returns a sentence (empty: nothing was).

        A board that lends has taken it back by itself; on another one it is written. What was lent as it was is lent to
        a program that changes it on its way: any value may be live then.
        """
        about, layers = self._connection.about, self._connection.layers
        returned = set(about.returned) if about is not None else set()
        kept = {
            path: self._former[path]
            for path in left
            if path in self._former
            and path in layers
            and not same(layers[path].live, self._former[path])
            and (same(layers[path].live, self._lent[path]) or same(self._former[path], self._lent[path]))
        }
        if not (names := sorted(returned | set(left))):
            return ""
        try:
            if kept:
                await self._connection.write_live(kept)
        except (LinkLost, BoardRefused) as error:
            return f"A trial was cut off that had borrowed {several(names)}, and the board keeps it: {error}"
        self._forget(left)
        return f"A trial was cut off that had borrowed {several(names)}: the board has its own values again."

    def _live(self, path: str) -> Value:
        layers = self._connection.layers.get(path)
        return layers.live if layers else None

    def _forget(self, paths: list[str]) -> None:
        for path in paths:
            self._former.pop(path, None)
            self._lent.pop(path, None)
        with contextlib.suppress(LedgerError):  # entered once more at the next link: then there is nothing to write
            self._ledger.end_loans(paths)
