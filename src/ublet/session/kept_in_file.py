"""Values that were kept and that no board holds: screws' places, materials, what the machine file alone knows.

They are live for this program as a board's are on the board, until they are saved into the machine file or dropped. The
ledger holds them meanwhile, so that they outlive the program.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from ublet.core.machine.compare import same
from ublet.core.settings import Value
from ublet.ledger.book import Ledger
from ublet.session.document import Document

LOOKED_AT = 200
"""Number of the newest keeps that are searched for values that were not saved."""


class KeptInFile(dict[str, Value]):
    """The values by their paths. held: whether the board of this machine holds a setting."""

    def __init__(self, held: Callable[[str], bool]) -> None:
        super().__init__()
        self._held = held

    def take_up(self, ledger: Ledger, document: Document) -> None:
        """Those that an earlier session kept and neither saved nor dropped, where the file still says what it said."""
        for change in ledger.changes("keep", most=LOOKED_AT):
            path = change.setting
            if self._held(path) or path in self:
                continue
            newest = ledger.last_change(path)
            now = document.value(path)
            if newest == change and same(now, change.before) and not same(now, change.after):
                self[path] = change.after

    def saved(self, paths: Iterable[str]) -> None:
        """These stand in the file now, or were dropped."""
        for path in paths:
            self.pop(path, None)
