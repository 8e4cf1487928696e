"""The ledger's tables, opened for use."""

from __future__ import annotations

import contextlib
import secrets
import sqlite3
from pathlib import Path

from ublet.ledger.errors import LedgerError, unusable

VERSION = 7

SCHEMA = """
CREATE TABLE run (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, trial TEXT NOT NULL, station TEXT NOT NULL, subject TEXT NOT NULL,
    outcome TEXT NOT NULL, why TEXT NOT NULL, duration_s REAL NOT NULL, parameters TEXT NOT NULL,
    conditions TEXT NOT NULL, options TEXT NOT NULL, recommended TEXT NOT NULL,
    opening BLOB, goes_on_from INTEGER REFERENCES run(id), process TEXT NOT NULL,
    remedies TEXT NOT NULL DEFAULT '[]');
CREATE TABLE finding (
    run INTEGER NOT NULL REFERENCES run(id), place INTEGER NOT NULL, id TEXT NOT NULL, what TEXT NOT NULL,
    subject TEXT NOT NULL, words TEXT NOT NULL, value REAL NOT NULL, uncertainty REAL, unit TEXT NOT NULL, lim REAL,
    tolerance REAL, PRIMARY KEY (run, place)) WITHOUT ROWID;
CREATE TABLE rest (
    run INTEGER NOT NULL REFERENCES run(id), place INTEGER NOT NULL, kind TEXT NOT NULL, path TEXT NOT NULL,
    value TEXT NOT NULL, tolerance REAL NOT NULL, PRIMARY KEY (run, place)) WITHOUT ROWID;
CREATE TABLE stream (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES run(id), name TEXT NOT NULL, columns TEXT NOT NULL,
    units TEXT NOT NULL, rate_hz REAL, number TEXT NOT NULL, UNIQUE (run, name));
CREATE TABLE chunk (
    stream INTEGER NOT NULL REFERENCES stream(id), place INTEGER NOT NULL, count INTEGER NOT NULL, data BLOB NOT NULL,
    PRIMARY KEY (stream, place));
CREATE TABLE asked (
    run INTEGER NOT NULL REFERENCES run(id), place INTEGER NOT NULL, at_s REAL NOT NULL, text TEXT NOT NULL,
    answer TEXT, PRIMARY KEY (run, place)) WITHOUT ROWID;
CREATE TABLE phase (
    run INTEGER NOT NULL REFERENCES run(id), place INTEGER NOT NULL, at_s REAL NOT NULL, words TEXT NOT NULL,
    share REAL NOT NULL, PRIMARY KEY (run, place)) WITHOUT ROWID;
CREATE TABLE checkpoint (run INTEGER PRIMARY KEY REFERENCES run(id), words TEXT NOT NULL, state TEXT NOT NULL);
CREATE TABLE fact (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, value TEXT NOT NULL);
CREATE TABLE change (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, run INTEGER REFERENCES run(id),
    setting TEXT NOT NULL, layer TEXT NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL);
CREATE TABLE intent (
    id INTEGER PRIMARY KEY CHECK (id = 1), at TEXT NOT NULL, file TEXT NOT NULL,
    old_text TEXT NOT NULL, new_text TEXT NOT NULL, stored_before TEXT NOT NULL, stored_after TEXT NOT NULL,
    changes TEXT NOT NULL DEFAULT '[]');
CREATE TABLE seen (
    id INTEGER PRIMARY KEY CHECK (id = 1), at TEXT NOT NULL, live TEXT NOT NULL, boot INTEGER, board_s REAL);
CREATE TABLE mark (
    run INTEGER NOT NULL REFERENCES run(id), kind TEXT NOT NULL, value TEXT NOT NULL,
    PRIMARY KEY (run, kind)) WITHOUT ROWID;
CREATE TABLE note (
    what TEXT NOT NULL, number INTEGER NOT NULL, at TEXT NOT NULL, text TEXT NOT NULL,
    PRIMARY KEY (what, number)) WITHOUT ROWID;
CREATE TABLE loan (setting TEXT PRIMARY KEY, former TEXT NOT NULL, lent TEXT NOT NULL) WITHOUT ROWID;
CREATE INDEX run_by_trial ON run(trial, subject, outcome, id);
CREATE INDEX run_by_outcome ON run(trial, outcome, id);
CREATE INDEX run_unended ON run(id) WHERE outcome = 'running';
CREATE INDEX finding_by_id ON finding(id, run);
CREATE INDEX change_by_setting ON change(setting, kind, id);
CREATE INDEX change_by_path ON change(setting, id);
CREATE INDEX change_by_kind ON change(kind, id);
CREATE INDEX fact_by_kind ON fact(kind, subject, id);
"""

MARKS = (
    "CREATE TABLE mark (run INTEGER NOT NULL REFERENCES run(id), kind TEXT NOT NULL, value TEXT NOT NULL, "
    "PRIMARY KEY (run, kind)) WITHOUT ROWID;"
)
NOTES = (
    "CREATE TABLE note (what TEXT NOT NULL, number INTEGER NOT NULL, at TEXT NOT NULL, text TEXT NOT NULL, "
    "PRIMARY KEY (what, number)) WITHOUT ROWID;"
    "CREATE INDEX change_by_path ON change(setting, id);"
)
OLDER = {
    4: f"ALTER TABLE run ADD COLUMN remedies TEXT NOT NULL DEFAULT '[]';{MARKS}{NOTES}",
    5: f"{MARKS}{NOTES}",
    6: NOTES,
}
"""What brings a ledger of an older version to this one; nothing that it holds is lost."""


def opened(path: Path) -> sqlite3.Connection:
    """The file, with this version's tables.

    Raises:
        LedgerError: it cannot be used; the message says why.
    """
    try:
        base = connected(path)
        (version,) = base.execute("PRAGMA user_version").fetchone()
        if version == 0:
            base.executescript(f"BEGIN;{SCHEMA}PRAGMA user_version={VERSION};COMMIT;")
        elif version in OLDER:
            base.executescript(f"BEGIN;{OLDER[version]}PRAGMA user_version={VERSION};COMMIT;")
        elif version != VERSION:
            raise LedgerError(
                f"{path} was written by another version of Ublet (ledger {version}, this one reads "
                f"{VERSION}): update Ublet, or move the file away to begin a new ledger."
            )
    except (sqlite3.Error, ValueError) as error:
        base_error = error if isinstance(error, sqlite3.Error) else sqlite3.DatabaseError(str(error))
        raise LedgerError(unusable(path, base_error)) from error
    with contextlib.suppress(sqlite3.Error):  # one that cannot be written works, and is not found when it was moved
        if not base.execute("PRAGMA application_id").fetchone()[0]:
            base.execute(f"PRAGMA application_id={secrets.randbelow(2**31 - 1) + 1}")
    return base


def connected(path: Path, threaded: bool = False) -> sqlite3.Connection:
    """A connection with a write-ahead log; what it commits is on the disk."""
    base = sqlite3.connect(path, timeout=3, isolation_level=None, check_same_thread=not threaded)
    base.execute("PRAGMA journal_mode=WAL")
    base.execute("PRAGMA synchronous=FULL")
    base.execute("PRAGMA foreign_keys=ON")
    return base
