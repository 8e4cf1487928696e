"""Saving: board store and machine file change together, or neither; interrupted saves are settled."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from ublet.core.machine.compare import same
from ublet.core.settings import Value
from ublet.core.trouble import Trouble
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Change, Intent
from ublet.ledger.errors import LedgerError
from ublet.link.errors import BoardRefused, LinkLost
from ublet.session.connection import Connection
from ublet.session.document import Document, DocumentError, read_text
from ublet.session.files import Prepared, clear_leftovers, prepare, write_atomically


class SaveFailed(Trouble):
    """It was not saved; the message says what stands where now, why, and what to do."""


class LinkGone(SaveFailed):
    """The link was lost in the middle of a save."""

    exit_code = 3


@dataclass(frozen=True)
class Saved:
    """One setting across its layers: what file and store hold, and the live value that a save puts in both."""

    setting: str
    file: Value
    stored: Value
    after: Value


def now() -> str:
    """The time for the ledger, UTC."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


async def save(
    document: Document,
    connection: Connection,
    ledger: Ledger,
    values: Mapping[str, Value],
    runs: Mapping[str, int | None],
    kind: str = "save",
) -> str:
    """Put values into the board's store and the machine file, as one; what no board holds into the file alone. None
    clears a stored value and leaves the file.

    runs: the run that proposed each value. Everything that can fail for lack of room is done first, beside the old
    content. Then the intent enters the ledger, the board stores and is read back, the file is renamed into place, and
    the ledger closes the save. A crash in between is settled by :func:`settle` at the next start.

    Returns what could not be made sure of, as a sentence (empty: everything was).

    Raises:
        SaveFailed: with the reason, and what file and store hold.
    """
    if document.changed_on_disk():
        raise SaveFailed(
            f"{document.path.name} was changed by another program since it was opened. Nothing was saved. "
            "What it says now is taken in within a second (kept values stay live on the board): then save again."
        )
    on_board = connection.held(values)
    stored_before = {path: connection.layers[path].stored for path in on_board}
    stamp = now()
    changes = [
        *(Change(stamp, kind, runs.get(p), p, "stored", stored_before[p], v) for p, v in on_board.items()),
        *(Change(stamp, kind, runs.get(p), p, "file", document.value(p), v) for p, v in _given(values).items()),
    ]
    changes = [change for change in changes if change.before != change.after]
    try:
        text = document.with_values({p: v for p, v in _given(values).items() if document.value(p) != v})
        prepared = prepare(document.path, text)
    except (OSError, DocumentError) as error:
        raise SaveFailed(f"Nothing was saved: {_file_trouble(document.path, error)}") from error
    intent = Intent(stamp, str(document.path), document.text, text, stored_before, on_board, tuple(changes))
    try:
        ledger.begin_save(intent)
    except LedgerError as error:
        prepared.discard()
        raise SaveFailed(f"Nothing was saved. {error}") from error
    note = await _both(document, connection, ledger, intent, prepared)
    document.take(text)
    with contextlib.suppress(LedgerError):  # the intent stays, and is settled with its rows at the next link
        ledger.end_save(changes)
    return note


async def _both(document: Document, connection: Connection, ledger: Ledger, intent: Intent, prepared: Prepared) -> str:
    """The board's store, then the file; when the second fails the first is undone, and what stands where is
    reported.
    """
    try:
        await _store(connection, intent.stored_after)
        return prepared.put_in_place()
    except (BoardRefused, SaveFailed, OSError) as error:
        prepared.discard()
        reason = _file_trouble(document.path, error) if isinstance(error, OSError) else str(error)
        left = await _undo(connection, ledger, intent.stored_before)
        if not left:
            raise SaveFailed(f"Nothing was saved: {reason}") from error
        raise SaveFailed(
            f"Half saved: {reason} The board could not be brought back ({left}): its store holds the new values, the "
            "file the old ones. It is settled at the next link."
        ) from error
    except LinkLost as error:
        prepared.discard()
        raise LinkGone(
            f"The link was lost while saving ({error}). The machine file is unchanged; what the board "
            "stored is checked and settled at the next link."
        ) from error
    finally:
        prepared.release()


async def settle(document: Document, connection: Connection, ledger: Ledger) -> str | None:
    """Finish or undo a save that was interrupted; returns a sentence about it, or None.

    The board decides: if it stored the new values the file is brought to them, otherwise the intent
    is dropped and both are as before.

    Raises:
        DocumentError, LedgerError: it could not be settled now; the message says what stands where.
    """
    intent = ledger.pending_save()
    if intent is None:
        clear_leftovers(document.path)
        return None
    layers = connection.layers
    if any(path not in layers for path in intent.stored_after):
        return "An interrupted save waits for the board that it was meant for."
    arrived = all(same(layers[path].stored, value) for path, value in intent.stored_after.items())
    clear_leftovers(document.path)
    try:
        if arrived and read_text(document.path) != intent.new_text:
            filed = {change.setting: change.after for change in intent.changes if change.layer == "file"}
            text = document.with_values({**_given(intent.stored_after), **filed})
            write_atomically(document.path, text)
            document.take(text)
        elif not arrived and read_text(document.path) == intent.new_text:
            write_atomically(document.path, intent.old_text)
            document.take(intent.old_text)
    except OSError as error:
        held = (
            "the new values, the file still the old ones" if arrived else "the old values, the file still the new ones"
        )
        raise DocumentError(
            f"A save was interrupted, and {document.path} cannot be written now ({error.strerror or error}): the board "
            f"holds {held}. Make room or give permission; it is tried again at the next link."
        ) from error
    ledger.end_save(intent.changes if arrived else ())
    if arrived:
        return "A save was interrupted; it has been finished: board and file hold the new values."
    return "A save was interrupted before the board stored anything; board and file hold the old values."


async def _store(connection: Connection, values: Mapping[str, Value]) -> None:
    """Store on the board and read back. Boards that keep 32-bit numbers read back the same to 1 in 10^6."""
    if not values:
        return
    await connection.controller.save(values)
    await connection.read_settings(values)
    wrong = [path for path, value in values.items() if not same(connection.layers[path].stored, value)]
    if wrong:
        raise SaveFailed(f"the board reads back something else for {', '.join(wrong)}.")


async def _undo(connection: Connection, ledger: Ledger, stored_before: Mapping[str, Value]) -> str:
    """Bring the store back; returns why that did not work (empty: it did). The intent stays until it is known."""
    live = {path: connection.layers[path].live for path in stored_before}

    def differs() -> bool:
        return any(not same(connection.layers[path].stored, value) for path, value in stored_before.items())

    try:
        await connection.read_settings(stored_before)
        if differs():  # a board that refused has stored nothing
            await connection.controller.save(stored_before)
            await connection.write_live(live)
    except (BoardRefused, LinkLost) as error:
        return str(error)
    if differs():
        return "it reads back something else"
    with contextlib.suppress(LedgerError):
        ledger.end_save([])
    return ""


def _given(values: Mapping[str, Value]) -> dict[str, Value]:
    """The values that the file takes too."""
    return {path: value for path, value in values.items() if value is not None}


def _file_trouble(path: Path, error: Exception) -> str:
    reason = (error.strerror or str(error)) if isinstance(error, OSError) else str(error)
    return (
        f"{path} could not be written ({reason}). The file and the board's store hold what they held; "
        "make room or give permission, then save again. The kept values are still live on the board."
    )
