"""Saving: board store and machine file change together, or neither; interrupted saves are settled."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from ublet.core.settings import Value
from ublet.core.trouble import Trouble
from ublet.ledger.book import Change, Intent, Ledger, LedgerError
from ublet.link.errors import BoardRefused, LinkLost
from ublet.session.connection import Connection
from ublet.session.document import Document, DocumentError, read_text
from ublet.session.files import prepare, put_in_place, write_atomically


class SaveFailed(Trouble):
    """Nothing was saved; the message says why and what to do."""


@dataclass(frozen=True)
class Saved:
    """One setting across its layers: what file and store hold, and the live value that a save puts in both."""

    setting: str
    file: Value
    stored: Value
    after: Value


def now() -> str:
    """The time for the ledger, UTC."""
    return datetime.now(UTC).isoformat(timespec="seconds")


async def save(
    document: Document,
    connection: Connection,
    ledger: Ledger,
    values: Mapping[str, Value],
    trial: int | None,
    kind: str = "save",
) -> None:
    """Put values into the board's store and the machine file, as one. None clears a stored value and leaves the file.

    Everything that can fail for lack of room is done first, beside the old content. Then the intent
    enters the ledger, the board stores and is read back, the file is renamed into place, and the
    ledger closes the save. A crash in between is settled by :func:`settle` at the next start.

    Raises:
        SaveFailed: with the reason; file and store hold what they held.
    """
    if document.changed_on_disk():
        raise SaveFailed(
            f"{document.path.name} was changed by another program since it was opened. Nothing was saved. "
            "What it says now is taken in within a second (kept values stay live on the board): then save again."
        )
    stored_before = {path: connection.layers[path].stored for path in values}
    changes = [
        *(Change(now(), kind, trial, p, "stored", stored_before[p], v) for p, v in values.items()),
        *(Change(now(), kind, trial, p, "file", document.value(p), v) for p, v in _given(values).items()),
    ]
    changes = [change for change in changes if change.before != change.after]
    try:
        text = document.with_values({p: v for p, v in _given(values).items() if document.value(p) != v})
        temporary = prepare(document.path, text)
    except (OSError, DocumentError) as error:
        raise SaveFailed(_file_trouble(document.path, error)) from error
    try:
        ledger.begin_save(Intent(now(), str(document.path), document.text, text, stored_before, dict(values)))
    except LedgerError as error:
        _discard(temporary)
        raise SaveFailed(f"Nothing was saved. {error}") from error
    try:
        await _store(connection, values)
        put_in_place(temporary, document.path)
    except (BoardRefused, SaveFailed, OSError) as error:
        await _undo(connection, ledger, stored_before, temporary)
        reason = _file_trouble(document.path, error) if isinstance(error, OSError) else str(error)
        raise SaveFailed(f"Nothing was saved: {reason}") from error
    except LinkLost as error:
        _discard(temporary)
        raise SaveFailed(
            f"The link was lost while saving ({error}). The machine file is unchanged; what the board "
            "stored is checked and settled at the next link."
        ) from error
    document.take(text)
    with contextlib.suppress(LedgerError):
        ledger.end_save(changes)


async def settle(document: Document, connection: Connection, ledger: Ledger) -> str | None:
    """Finish or undo a save that was interrupted; returns a sentence about it, or None.

    The board decides: if it stored the new values the file is brought to them, otherwise the intent
    is dropped and both are as before.
    """
    intent = ledger.pending_save()
    if intent is None:
        return None
    layers = connection.layers
    if any(path not in layers for path in intent.stored_after):
        return "An interrupted save waits for the board that it was meant for."
    arrived = all(layers[path].stored == value for path, value in intent.stored_after.items())
    _discard(document.path.with_name(f".{document.path.name}.new"))
    changes = []
    if arrived:
        if read_text(document.path) != intent.new_text:
            text = document.with_values(_given(intent.stored_after))
            write_atomically(document.path, text)
            document.take(text)
        changes = [
            Change(now(), "save", None, path, "stored", intent.stored_before.get(path), value)
            for path, value in intent.stored_after.items()
        ]
    elif read_text(document.path) == intent.new_text:
        write_atomically(document.path, intent.old_text)
        document.take(intent.old_text)
    ledger.end_save(changes)
    if arrived:
        return "A save was interrupted; it has been finished: board and file hold the new values."
    return "A save was interrupted before the board stored anything; board and file hold the old values."


async def _store(connection: Connection, values: Mapping[str, Value]) -> None:
    """Store on the board and read back."""
    await connection.call("settings.save", values=dict(values))
    await connection.read_settings(values)
    wrong = [path for path, value in values.items() if connection.layers[path].stored != value]
    if wrong:
        raise SaveFailed(f"the board reads back something else for {', '.join(wrong)}")


async def _undo(connection: Connection, ledger: Ledger, stored_before: Mapping[str, Value], temporary: Path) -> None:
    _discard(temporary)
    live = {path: connection.layers[path].live for path in stored_before}
    with contextlib.suppress(BoardRefused, LinkLost):
        await connection.call("settings.save", values=dict(stored_before))
        await connection.write_live(live)
    with contextlib.suppress(LedgerError):
        ledger.end_save([])


def _given(values: Mapping[str, Value]) -> dict[str, Value]:
    """The values that the file takes too."""
    return {path: value for path, value in values.items() if value is not None}


def _discard(temporary: Path) -> None:
    with contextlib.suppress(OSError):
        temporary.unlink(missing_ok=True)


def _file_trouble(path: Path, error: Exception) -> str:
    reason = (error.strerror or str(error)) if isinstance(error, OSError) else str(error)
    return (
        f"{path} could not be written ({reason}). The file and the board's store hold what they held; "
        "make room or give permission, then save again. The kept values are still live on the board."
    )
