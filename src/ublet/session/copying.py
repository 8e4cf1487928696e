"""A part copied from another machine: entered with what proved it there, and marked as not proven here."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Sequence
from pathlib import Path

from ublet.core.machine.compare import Difference
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Change
from ublet.ledger.errors import LedgerError
from ublet.session.document import DocumentError
from ublet.session.record import local_time
from ublet.session.saving import now
from ublet.session.session import Session, beside_ledger


def enter_copied(ledger: Ledger, changes: Sequence[Difference], source: Path) -> None:
    """Enter settings that were copied from another machine's file, each with a note on where it was proven.

    Raises:
        DocumentError, LedgerError: of either machine.
    """
    at = now()
    ledger.add_changes([Change(at, "copy", None, one.path, "file", one.before, one.after) for one in changes])
    note_copied(ledger, [one.path for one in changes], source, "copy")


def note_copied(ledger: Ledger, paths: Iterable[str], source: Path, kind: str) -> None:
    """Note at the newest change of each setting, which is of a kind, where it was proven.

    Raises:
        DocumentError, LedgerError: of either machine.
    """
    at = now()
    with beside_ledger(source) as other:
        name = other.document.machine.machine.name if other is not None else source.name
        for path in paths:
            entered = ledger.last_change(path, kind)
            if entered is not None and entered.id:
                there = _proven_there(other.ledger, path) if other is not None else ""
                ledger.note("change", entered.id, at, f"from {name}: not proven here{there}")


def write_draft(session: Session) -> int:
    """Write the draft to the machine file, with a note at each setting that was taken from another machine; returns how
    many settings changed.

    Raises:
        DocumentError: nothing was written.
    """
    copied = session.draft.copied()
    count = session.write_draft()
    for source, changes in copied.items():
        with contextlib.suppress(DocumentError, LedgerError):  # the settings are written: only the note is missing
            note_copied(session.ledger, [one.path for one in changes], source, "edit")
    return count


def _proven_there(ledger: Ledger, path: str) -> str:
    """The run that found a setting on the machine that it comes from; empty: none did."""
    change = ledger.last_change(path, "save") or ledger.last_change(path, "keep")
    entry = ledger.run(change.run) if change is not None and change.run is not None else None
    return f"; there run {entry.id} ({entry.name}) of {local_time(entry.at)}" if entry is not None else ""
