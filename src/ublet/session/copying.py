"""A part copied from another machine: entered with what proved it there, and marked as not proven here."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ublet.core.machine.compare import Difference
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Change
from ublet.session.record import local_time
from ublet.session.saving import now
from ublet.session.session import beside_ledger


def enter_copied(ledger: Ledger, changes: Sequence[Difference], source: Path) -> None:
    """Enter settings that were copied from another machine's file, each with a note on where it was proven.

    Raises:
        DocumentError, LedgerError: of either machine.
    """
    at = now()
    ledger.add_changes([Change(at, "copy", None, one.path, "file", one.before, one.after) for one in changes])
    with beside_ledger(source) as other:
        name = other.document.machine.machine.name if other is not None else source.name
        for one in changes:
            entered = ledger.last_change(one.path, "copy")
            if entered is not None and entered.id:
                there = _proven_there(other.ledger, one.path) if other is not None else ""
                ledger.note("change", entered.id, at, f"from {name}: not proven here{there}")


def _proven_there(ledger: Ledger, path: str) -> str:
    """The run that found a setting on the machine that it comes from; empty: none did."""
    change = ledger.last_change(path, "save") or ledger.last_change(path, "keep")
    entry = ledger.run(change.run) if change is not None and change.run is not None else None
    return f"; there run {entry.id} ({entry.name}) of {local_time(entry.at)}" if entry is not None else ""
