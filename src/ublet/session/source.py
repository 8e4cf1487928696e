"""What looks at a machine's evidence need to have of it: its file, its ledger and what things are now."""

from __future__ import annotations

from typing import Protocol

from ublet.ledger.book import Ledger
from ublet.session.document import Document
from ublet.session.presence import Presence


class Source(Protocol):
    """A machine file with its ledger, with or without a board."""

    @property
    def document(self) -> Document:
        """The machine file."""

    @property
    def ledger(self) -> Ledger:
        """Its ledger."""

    @property
    def presence(self) -> Presence:
        """What things are now."""
