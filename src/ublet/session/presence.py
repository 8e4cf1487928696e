"""What things are now that findings rest on: by the link, or as they were when it was there last."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Mapping

from ublet.core.evidence import Dependency, Now, stale_reasons
from ublet.core.facts import Fact
from ublet.core.settings import Value
from ublet.ledger.book import Ledger
from ublet.ledger.errors import LedgerError
from ublet.session.connection import Connection
from ublet.session.document import Document
from ublet.session.saving import now


class Presence:
    """The present state of settings, parts, findings and facts.

    as_of: when the board was seen last, while there is no link; empty while there is one.
    """

    def __init__(
        self,
        ledger: Ledger,
        connection: Connection,
        document: Callable[[], Document],
        lent: Mapping[str, Value],
        kept: Mapping[str, Value],
    ) -> None:
        self._ledger = ledger
        self._connection = connection
        self._document = document
        self._lent, self._kept = lent, kept
        self._seen_at, self._seen = ledger.seen()

    @property
    def as_of(self) -> str:
        """When the board was seen last, if there is no link now; “never” when it never was."""
        if self._connection.linked:
            return ""
        return self._seen_at[:16].replace("T", " ") or "never"

    def note_seen(self) -> None:
        """Keep what the board's settings are, for a time without a link."""
        if not self._connection.layers:
            return
        self._seen_at, self._seen = now(), dict(self.settings())
        with contextlib.suppress(LedgerError):
            about = self._connection.about
            boot = about.boot if about is not None else None
            self._ledger.note_seen(self._seen_at, self._seen, boot, self._connection.board_time)

    def settings(self) -> Mapping[str, Value]:
        """The live settings, of the board now or when it was seen last, and those that were kept and no board holds;
        what is borrowed counts as before.
        """
        layers = self._connection.layers
        if layers:
            return {path: layer.live for path, layer in layers.items()} | dict(self._lent) | dict(self._kept)
        return {**self._seen, **self._kept}

    def reasons(
        self,
        rests: tuple[Dependency, ...],
        supposed: Iterable[Fact] = (),
        changed: Mapping[str, Value] | None = None,
    ) -> tuple[str, ...]:
        """Why findings that rest on these no longer hold. supposed: facts taken as if they had been reported; changed:
        settings taken as if they had these values.
        """
        live = {**self.settings(), **(changed or {})}
        facts: dict[str, Fact] = {}
        if any(rest.kind == "fact" for rest in rests):
            facts = {fact.path: fact for fact in (*self._ledger.facts_in_force(), *supposed)}
        return stale_reasons(rests, lambda rest: self._now(rest, live, facts))

    def _now(self, rest: Dependency, live: Mapping[str, Value], facts: Mapping[str, Fact]) -> Now:
        if rest.kind == "setting":
            return self._setting(rest.path, live)
        if rest.kind == "parts":
            return self._parts(rest.path)
        if rest.kind == "part":
            return Now(any(path.startswith(f"{rest.path}.") for path in self._document().values))
        if rest.kind == "finding":
            return self._finding(rest)
        kind, _, subject = rest.path.partition(".")
        fact = facts.get(rest.path, Fact(kind, subject, ""))
        when = f" on {fact.at[:10]}" if fact.at else ""
        return Now(fact.counts_as, words=f"{fact.words}{when}")

    def _setting(self, path: str, live: Mapping[str, Value]) -> Now:
        if path in live:
            return Now(live[path])
        written = self._document().values
        if path in written:
            return Now(written[path])
        if not live:
            return Now(unknown=True)
        return Now(None) if self._declared(path) else Now(gone=True)

    def _declared(self, path: str) -> bool:
        """Whether the part is still there that a setting belongs to; then it is only not given."""
        root = path.rpartition(".")[0]
        return any(value.startswith(f"{root}.") for value in self._document().values)

    def _parts(self, path: str) -> Now:
        root = f"{path}."
        names = {value.removeprefix(root).split(".")[0] for value in self._document().values if value.startswith(root)}
        return Now(", ".join(sorted(names)))

    def _finding(self, rest: Dependency) -> Now:
        """The newest proven value of a finding; a finding of a heater is looked for among that heater's."""
        trial, _, finding = rest.path.partition("/")
        for entry, value, _ in self._ledger.followed(finding, LOOKED_AT, True):
            if entry.name == trial and entry.result.outcome == "proven":
                return Now(value)
        return Now(unknown=True)


LOOKED_AT = 20
"""Number of the newest findings of an id that are searched for a proven one."""
