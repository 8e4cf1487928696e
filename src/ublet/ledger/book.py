"""The ledger's file: trials with their raw data, changes of settings, and the intent to save."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.settings import Value
from ublet.core.trial import Finding, Option, Proposal, Series, TrialResult
from ublet.core.trouble import Trouble

VERSION = 2

_SCHEMA = """
CREATE TABLE trial (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, name TEXT NOT NULL, station TEXT NOT NULL,
    outcome TEXT NOT NULL, why TEXT NOT NULL, duration_s REAL NOT NULL, parameters TEXT NOT NULL,
    conditions TEXT NOT NULL, findings TEXT NOT NULL, options TEXT NOT NULL, recommended TEXT NOT NULL);
CREATE TABLE series (
    trial INTEGER NOT NULL REFERENCES trial(id), name TEXT NOT NULL, columns TEXT NOT NULL,
    count INTEGER NOT NULL, rows BLOB NOT NULL, PRIMARY KEY (trial, name));
CREATE TABLE change (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, trial INTEGER REFERENCES trial(id),
    setting TEXT NOT NULL, layer TEXT NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL);
CREATE TABLE intent (
    id INTEGER PRIMARY KEY CHECK (id = 1), at TEXT NOT NULL, file TEXT NOT NULL,
    old_text TEXT NOT NULL, new_text TEXT NOT NULL, stored_before TEXT NOT NULL, stored_after TEXT NOT NULL,
    changes TEXT NOT NULL DEFAULT '[]');
CREATE INDEX trial_by_name ON trial(name, id);
"""


_FROM_1 = "ALTER TABLE intent ADD COLUMN changes TEXT NOT NULL DEFAULT '[]';"
"""Version 2: a save that is settled later enters all its rows."""


class LedgerError(Trouble):
    """The ledger cannot be opened or written; the message says what to do."""


class NotEntered(LedgerError):
    """Something could not be written yet; it is kept in memory under ``number`` and tried again."""

    def __init__(self, message: str, number: int = 0) -> None:
        super().__init__(message)
        self.number = number


@dataclass(frozen=True)
class _Run:
    """A trial that was run, as it is entered."""

    at: str
    name: str
    station: str
    parameters: dict[str, Value]
    result: TrialResult
    duration_s: float


@dataclass(frozen=True)
class TrialEntry:
    """A trial in the ledger."""

    id: int
    at: str
    name: str
    station: str
    duration_s: float
    parameters: dict[str, Value]
    result: TrialResult


@dataclass(frozen=True)
class Change:
    """A setting changed in a layer (live, stored, file) by keep, drop or save."""

    at: str
    kind: str
    trial: int | None
    setting: str
    layer: str
    before: Value
    after: Value


@dataclass(frozen=True)
class Intent:
    """A save that was begun: everything that is needed to finish it or to undo it; changes: the rows it enters."""

    at: str
    file: str
    old_text: str
    new_text: str
    stored_before: dict[str, Value]
    stored_after: dict[str, Value]
    changes: tuple[Change, ...] = ()


LEAST_ROOM = 1 << 20
"""Less free space than this is none, bytes."""

NUMBERS_IN_MEMORY = 1 << 40
"""What waits in memory is numbered from here: newer than everything that is in the file."""


class Ledger:
    """One ledger file (SQLite with a write-ahead log). Every method that writes is one transaction.

    What cannot be written (full disk, another program) stays in memory, is found like everything else, and is entered
    in its order by :meth:`enter_waiting`.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._waiting: list[tuple[int, _Run | tuple[Change, ...]]] = []
        self._entered: dict[int, int] = {}  # numbers that were given in memory, and those they got in the file
        self._next_in_memory = NUMBERS_IN_MEMORY
        try:
            self._base = sqlite3.connect(path, timeout=3, isolation_level=None)
            self._base.execute("PRAGMA journal_mode=WAL")
            self._base.execute("PRAGMA synchronous=FULL")
            self._base.execute("PRAGMA foreign_keys=ON")
            (version,) = self._base.execute("PRAGMA user_version").fetchone()
            if version == 0:
                self._base.executescript(f"BEGIN;{_SCHEMA}PRAGMA user_version={VERSION};COMMIT;")
            elif version == 1:
                self._copy_old(version)
                self._base.executescript(f"BEGIN;{_FROM_1}PRAGMA user_version={VERSION};COMMIT;")
            elif version != VERSION:
                raise LedgerError(
                    f"{path} was written by another version of Ublet (ledger {version}, this one reads "
                    f"{VERSION}): update Ublet, or move the file away to begin a new ledger."
                )
        except sqlite3.Error as error:
            raise LedgerError(_unusable(path, error)) from error

    def close(self) -> None:
        """Close the file, after a last try to enter what waits."""
        self.enter_waiting()
        self._base.close()

    def add_trial(
        self,
        at: str,
        name: str,
        station: str,
        parameters: Mapping[str, Value],
        result: TrialResult,
        duration_s: float,
    ) -> int:
        """Enter a trial with its raw data; returns its number.

        Raises:
            NotEntered: it could not be written (full disk); the ledger is as it was, and the trial waits in memory.
        """
        run = _Run(at, name, station, dict(parameters), result, duration_s)
        return self._enter(run)

    def add_changes(self, changes: Iterable[Change]) -> None:
        """Enter changes of settings.

        Raises:
            NotEntered: they could not be written, and wait in memory.
        """
        self._enter(tuple(changes))

    @property
    def waiting(self) -> int:
        """How many entries wait in memory for room in the file."""
        return len(self._waiting)

    def enter_waiting(self) -> int:
        """Try to enter what waits, in its order; returns how many were entered now."""
        before = len(self._waiting)
        while self._waiting:
            number, what = self._waiting[0]
            try:
                with self._transaction():
                    entered = self._insert(what)
            except LedgerError:
                break
            if isinstance(what, _Run):
                self._entered[number] = entered
            self._waiting.pop(0)
        return before - len(self._waiting)

    def _enter(self, what: _Run | tuple[Change, ...]) -> int:
        try:
            if self._waiting and not self.enter_waiting():
                raise LedgerError(f"The ledger {self.path} still cannot be written: make room on the disk.")
            with self._transaction():
                return self._insert(what)
        except LedgerError as error:
            self._next_in_memory += 1
            self._waiting.append((self._next_in_memory, what))
            raise NotEntered(f"{error} It is kept in memory and tried again.", self._next_in_memory) from error

    def _insert(self, what: _Run | tuple[Change, ...]) -> int:
        if not isinstance(what, _Run):
            self._insert_changes(what)
            return 0
        result = what.result
        cursor = self._base.execute(
            "INSERT INTO trial (at, name, station, outcome, why, duration_s, parameters, conditions, "
            "findings, options, recommended) VALUES (?,?,?,?,?,?,?,?,?,?,?)",
            (
                what.at,
                what.name,
                what.station,
                result.outcome,
                result.why,
                what.duration_s,
                json.dumps(what.parameters),
                json.dumps(dict(result.conditions)),
                json.dumps([asdict(finding) for finding in result.findings]),
                json.dumps([_plain(option) for option in result.options]),
                result.recommended,
            ),
        )
        number = int(cursor.lastrowid or 0)
        for title, series in result.series.items():
            data = zlib.compress(np.ascontiguousarray(series.rows, dtype="<f8").tobytes(), 6)
            self._base.execute(
                "INSERT INTO series VALUES (?,?,?,?,?)",
                (number, title, json.dumps(series.columns), len(series.rows), data),
            )
        return number

    def _copy_old(self, version: int) -> None:
        """A copy of a ledger of an older version, beside it."""
        copy = sqlite3.connect(self.path.with_name(f"{self.path.name}.version-{version}"))
        try:
            self._base.backup(copy)
        finally:
            copy.close()

    def trials(
        self,
        name: str | None = None,
        outcome: str | None = None,
        heater: str | None = None,
        most: int = -1,
    ) -> list[TrialEntry]:
        """Trials, newest first, without raw data; of one heater, and no more than so many, when asked for."""
        kept = [
            TrialEntry(number, run.at, run.name, run.station, run.duration_s, run.parameters, run.result)
            for number, run in reversed(self._waiting)
            if isinstance(run, _Run)
            and name in (None, run.name)
            and outcome in (None, run.result.outcome)
            and heater in (None, run.parameters.get("heater"))
        ]
        rows = self._rows(
            "SELECT id, at, name, station, outcome, why, duration_s, parameters, conditions, findings, "
            "options, recommended FROM trial WHERE (?1 IS NULL OR name = ?1) AND (?2 IS NULL OR outcome = ?2) "
            "AND (?3 IS NULL OR json_extract(parameters, '$.heater') = ?3) ORDER BY id DESC LIMIT ?4",
            (name, outcome, heater, most),
        )
        found = [*kept, *(_entry(row) for row in rows)]
        return found if most < 0 else found[:most]

    def latest(self, name: str, outcome: str | None = None, heater: str | None = None) -> TrialEntry | None:
        """The newest trial of a name, of one heater when asked for."""
        found = self.trials(name, outcome, heater, 1)
        return found[0] if found else None

    def series(self, trial: int) -> dict[str, Series]:
        """The raw data of a trial."""
        found: dict[str, Series] = {}
        for number, run in self._waiting:
            if number == trial and isinstance(run, _Run):
                return dict(run.result.series)
        trial = self._entered.get(trial, trial)
        for name, columns, count, blob in self._rows(
            "SELECT name, columns, count, rows FROM series WHERE trial = ? ORDER BY rowid", (trial,)
        ):
            titles = tuple(json.loads(columns))
            rows = np.frombuffer(zlib.decompress(blob), dtype="<f8").reshape(count, len(titles))
            found[name] = Series(titles, rows)
        return found

    def changes(self, kind: str | None = None) -> list[Change]:
        """Changes of settings, newest first."""
        rows = self._rows(
            "SELECT at, kind, trial, setting, layer, before, after FROM change "
            "WHERE ?1 IS NULL OR kind = ?1 ORDER BY id DESC",
            (kind,),
        )
        kept = [
            change
            for _, what in reversed(self._waiting)
            if not isinstance(what, _Run)
            for change in reversed(what)
            if kind in (None, change.kind)
        ]
        return kept + [
            Change(at, kind, trial, setting, layer, json.loads(before), json.loads(after))
            for at, kind, trial, setting, layer, before, after in rows
        ]

    def begin_save(self, intent: Intent) -> None:
        """Write down what a save is about to do, before it does anything.

        Raises:
            LedgerError: it could not be written, or another save is unfinished.
        """
        with self._transaction():
            self._base.execute(
                "INSERT INTO intent VALUES (1,?,?,?,?,?,?,?)",
                (
                    intent.at,
                    intent.file,
                    intent.old_text,
                    intent.new_text,
                    json.dumps(intent.stored_before),
                    json.dumps(intent.stored_after),
                    json.dumps([asdict(change) for change in intent.changes]),
                ),
            )

    def pending_save(self) -> Intent | None:
        """The save that was begun and neither finished nor undone."""
        found = self._rows("SELECT at, file, old_text, new_text, stored_before, stored_after, changes FROM intent")
        if not found:
            return None
        at, file, old_text, new_text, before, after, changes = found[0]
        rows = tuple(Change(**change) for change in json.loads(changes))
        return Intent(at, file, old_text, new_text, json.loads(before), json.loads(after), rows)

    def end_save(self, changes: Iterable[Change]) -> None:
        """Finish a save: its changes enter and the intent goes, together.

        Raises:
            LedgerError: it could not be written; the intent stays for the next start.
        """
        with self._transaction():
            self._insert_changes(changes)
            self._base.execute("DELETE FROM intent")

    def _insert_changes(self, changes: Iterable[Change]) -> None:
        self._base.executemany(
            "INSERT INTO change (at, kind, trial, setting, layer, before, after) VALUES (?,?,?,?,?,?,?)",
            [
                (c.at, c.kind, self._in_file(c.trial), c.setting, c.layer, json.dumps(c.before), json.dumps(c.after))
                for c in changes
            ],
        )

    def _in_file(self, trial: int | None) -> int | None:
        """A trial's number in the file; None while it only is in memory."""
        if trial is None or trial < NUMBERS_IN_MEMORY:
            return trial
        return self._entered.get(trial)

    def _rows(self, query: str, values: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
        try:
            return self._base.execute(query, values).fetchall()
        except sqlite3.Error as error:
            raise LedgerError(f"The ledger {self.path} could not be read ({error}).") from error

    def _transaction(self) -> _Transaction:
        return _Transaction(self._base, self.path)


class _Transaction:
    def __init__(self, base: sqlite3.Connection, path: Path) -> None:
        self._base, self._path = base, path

    def __enter__(self) -> None:
        try:
            self._base.execute("BEGIN IMMEDIATE")
        except sqlite3.Error as error:
            raise self._error(error) from error

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        try:
            if error is None:
                self._base.execute("COMMIT")
                return
        except sqlite3.Error as broken:
            self._undo()
            raise self._error(broken) from broken
        self._undo()
        if isinstance(error, sqlite3.Error):
            raise self._error(error) from error

    def _undo(self) -> None:
        if self._base.in_transaction:
            self._base.execute("ROLLBACK")

    def _error(self, error: sqlite3.Error) -> LedgerError:
        return LedgerError(
            f"The ledger {self._path} could not be written ({error}): "
            "make room on the disk or close the other program that uses it, then try again."
        )


def _plain(option: Option) -> dict[str, Any]:
    return {
        "name": option.name,
        "note": option.note,
        "proposals": [asdict(proposal) for proposal in option.proposals],
        "figures": dict(option.figures),
    }


def _entry(row: tuple[Any, ...]) -> TrialEntry:
    number, at, name, station, outcome, why, duration, parameters, conditions, findings, options, best = row
    result = TrialResult(
        outcome,
        why,
        json.loads(conditions),
        tuple(Finding(**item) for item in json.loads(findings)),
        tuple(
            Option(
                item["name"],
                item["note"],
                tuple(Proposal(**proposal) for proposal in item["proposals"]),
                item["figures"],
            )
            for item in json.loads(options)
        ),
        best,
    )
    return TrialEntry(number, at, name, station, duration, json.loads(parameters), result)


def _unusable(path: Path, error: sqlite3.Error) -> str:
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
    if "locked" in str(error):
        return f"{path} is being written by another program for longer than 3 s: close that one (another Ublet?)."
    if "full" in str(error) or shutil.disk_usage(folder).free < LEAST_ROOM:
        return f"{path}: the disk is full ({error}): make room."
    return f"{path} cannot be used as a ledger ({error}): move it away to begin a new one."
