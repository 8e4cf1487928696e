"""What can be wrong with a ledger's file, in sentences."""

from __future__ import annotations

import os
import shutil
import sqlite3
from pathlib import Path

from ublet.core.trouble import Trouble

LEAST_ROOM = 1 << 20
"""Less free space than this is none, bytes."""


class LedgerError(Trouble):
    """The ledger cannot be opened, read or written; the message says what to do."""


class NotEntered(LedgerError):
    """Something could not be written yet; it is kept in memory and tried again. number: of the run, if it is one."""

    def __init__(self, message: str, number: int = 0) -> None:
        super().__init__(message)
        self.number = number


def unusable(path: Path, error: sqlite3.Error) -> str:
    """Why a ledger cannot be opened, and what would mend that."""
    folder = path.parent
    if not folder.is_dir():
        return f"{path} cannot be used as a ledger: {folder} is not there."
    if not os.access(folder, os.W_OK):
        return (
            f"{path}: {folder} may not be written, and the ledger lives beside the machine file: give permission, or "
            "copy the file to a folder of yours."
        )
    if path.exists() and not os.access(path, os.R_OK | os.W_OK):
        return f"{path} may not be read and written by you ({error}): give permission."
    if _code(error) in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return f"{path} is being written by another program for longer than 3 s: close that one (another Ublet?)."
    if _code(error) == sqlite3.SQLITE_FULL or shutil.disk_usage(folder).free < LEAST_ROOM:
        return f"{path}: the disk is full ({error}): make room."
    return f"{path} cannot be used as a ledger ({error}): move it away to begin a new one."


def _code(error: sqlite3.Error) -> int:
    """SQLite's primary result code; 0 for what is none of its own errors."""
    return getattr(error, "sqlite_errorcode", 0) & 0xFF


def unwritable(path: Path, error: sqlite3.Error) -> LedgerError:
    """It could not be written just now."""
    if _code(error) in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB):
        return LedgerError(f"The ledger {path} is damaged ({error}): move it away, and a new one is begun.")
    return LedgerError(
        f"The ledger {path} could not be written ({error}): "
        "make room on the disk or close the other program that uses it, then try again."
    )
