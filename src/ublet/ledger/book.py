"""The ledger: runs with all they recorded, changes of settings, facts, and the intent to save."""

from __future__ import annotations

import json
import sqlite3
import zlib
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any, Literal

from ublet.core.facts import Fact
from ublet.core.run import Series, Stream
from ublet.core.settings import Value, frozen, thawed
from ublet.ledger.entries import AskedQuestion, Change, Intent, Opening, RunEntry, RunPhase, subject_text
from ublet.ledger.errors import LedgerError, NotEntered, unwritable
from ublet.ledger.process import alive, this_process
from ublet.ledger.reading import change_of, checkpoint_of, entries_of, phases_of, questions_of, streams_of
from ublet.ledger.recording import Recorded
from ublet.ledger.searching import changes_with, facts_with, numbers_with, one_of_each
from ublet.ledger.tables import opened
from ublet.ledger.writer import Ended, Rows, Writer

CUT_OFF = "Cut off: the program ended while it ran. What it had recorded is kept."
SET_ASIDE = "set_aside"
"""The mark of a run that does not count any more: an earlier one was restored. It says why."""

NOT_SET_ASIDE = "NOT EXISTS (SELECT 1 FROM mark WHERE mark.run = run.id AND mark.kind = ?)"
NotedKind = Literal["run", "change", "fact"]
REMEMBERED = 400
"""Number of ended runs kept in memory: they do not change any more."""


class Ledger:
    """One ledger file (SQLite with a write-ahead log). Every method that writes is one transaction.

    Runs are written beside the event loop (``threaded``). What cannot be written (full disk, another program) stays in
    memory, is found like everything else, and is entered in its order by :meth:`enter_waiting`.
    """

    def __init__(self, path: Path, threaded: bool = True) -> None:
        self.path = path
        self._base = opened(path)
        self._writer = Writer(path, threaded)
        self._open: dict[int, Recorded] = {}
        self._waiting: list[tuple[Change, ...]] = []
        self._remembered: dict[int, RunEntry] = {}
        self.unreadable: Callable[[str], None] | None = None
        """Told when something cannot be read, which then reads as if it were not there; without it that raises."""
        self._close_cut()
        self._any_set_aside = bool(self.marks(SET_ASIDE))

    def close(self) -> None:
        """Close the file, after a last try to enter what waits."""
        for recorded in list(self._open.values()):
            recorded.flush()
        self._writer.close()
        self.enter_waiting()
        self._base.close()

    @property
    def identity(self) -> int:
        """The number that this ledger bears under any file name."""
        return next((int(number) for (number,) in self._rows("PRAGMA application_id")), 0)

    # runs

    def open_run(self, opening: Opening) -> Recorded:
        """Open a run, before anything moves.

        Raises:
            LedgerError: it could not be written: nothing is begun.
        """
        beginning = {
            "digest": opening.digest,
            "board": opening.board,
            "live": {path: thawed(value) for path, value in opening.live.items()},
            "facts": [asdict(fact) for fact in opening.facts],
            "room_c": opening.room_c,
            "soaked_s": dict(opening.soaked_s),
            "knowingly": opening.knowingly,
        }
        with self._transaction():
            cursor = self._base.execute(
                "INSERT INTO run (at, trial, station, subject, outcome, why, duration_s, parameters, conditions, "
                "options, recommended, opening, goes_on_from, process) "
                "VALUES (?,?,?,?,'running','It is running.',0,?,'{}','[]','',?,?,?)",
                (
                    *(opening.at, opening.trial, opening.station, subject_text(opening.subject)),
                    *(json.dumps(dict(opening.parameters)), zlib.compress(json.dumps(beginning).encode(), 1)),
                    *(opening.goes_on_from, this_process()),
                ),
            )
        number = int(cursor.lastrowid or 0)
        recorded = Recorded(number, opening, self._writer)
        self._open[number] = recorded
        return recorded

    def entered(self, recorded: Recorded, seconds: float = 0.0) -> str:
        """Wait for so long until a run that has ended is written; returns why it is not yet (empty: it is)."""
        if self._writer.settle(seconds):
            self._open.pop(recorded.number, None)
            return ""
        reason = unwritable(self.path, sqlite3.OperationalError(self._writer.failure or "busy"))
        return f"{reason} It is kept in memory and tried again."

    @property
    def run_count(self) -> int:
        """How many runs there are; none is ever taken out."""
        return next((int(number) for (number,) in self._rows("SELECT coalesce(max(id), 0) FROM run")), 0)

    def runs(
        self,
        trial: str | None = None,
        outcome: str | None = None,
        subject: Mapping[str, str] | None = None,
        most: int = -1,
        newest: int | None = None,
        counting: bool = False,
    ) -> list[RunEntry]:
        """Runs, newest first, without what they recorded; of one subject, at most a number of them, and none after a
        run, when asked for. counting: without those that were set aside.
        """
        wanted = subject_text(subject) if subject is not None else None
        terms = [("trial = ?", trial), ("subject = ?", wanted), ("outcome = ?", outcome), ("id <= ?", newest)]
        given: list[tuple[str, object]] = [(term, value) for term, value in terms if value is not None]
        if counting and self._any_set_aside:
            given.append((NOT_SET_ASIDE, SET_ASIDE))
        where = f"WHERE {' AND '.join(term for term, _ in given)}" if given else ""
        values = tuple(value for _, value in given)
        rows = self._rows(f"SELECT id FROM run {where} ORDER BY id DESC LIMIT ?", (*values, most))
        numbers = {number for (number,) in rows}
        held = [
            held_entry
            for held_entry in self._held()
            if _wanted(held_entry, trial, outcome, wanted) and (newest is None or held_entry.id <= newest)
        ]
        numbers |= {held_entry.id for held_entry in held}
        entries = [self.run(number) for number in sorted(numbers, reverse=True)]
        kept = [entry for entry in entries if entry is not None and _wanted(entry, trial, outcome, wanted)]
        return kept if most < 0 else kept[:most]

    def latest(
        self,
        trial: str,
        outcome: str | None = None,
        subject: Mapping[str, str] | None = None,
        newest: int | None = None,
        counting: bool = True,
    ) -> RunEntry | None:
        """The newest run of a trial that was not set aside (counting); none after a number, when asked for."""
        entries = self.runs(trial, outcome, subject, 1, newest, counting)
        return entries[0] if entries else None

    def concluded(
        self,
        trial: str,
        subject: Mapping[str, str] | None = None,
        newest: int | None = None,
        counting: bool = True,
    ) -> RunEntry | None:
        """The newest run of a trial that came to an answer: proven or failed; none after a number, when asked for."""
        entries = [self.latest(trial, outcome, subject, newest, counting) for outcome in ("proven", "failed")]
        return max((entry for entry in entries if entry is not None), key=lambda run_entry: run_entry.id, default=None)

    def run(self, number: int) -> RunEntry | None:
        """One run; None: there is none of that number."""
        if (held := next((held_entry for held_entry in self._held() if held_entry.id == number), None)) is not None:
            return held
        if number not in self._remembered:
            entries = entries_of(self._rows, [number])
            if not entries:
                return None
            if entries[0].running:
                return entries[0]
            if len(self._remembered) >= REMEMBERED:
                self._remembered.pop(next(iter(self._remembered)))
            self._remembered[number] = entries[0]
        return self._remembered[number]

    def _held(self) -> list[RunEntry]:
        """Runs that have ended and are not in the file yet."""
        return [recorded.entry for recorded in self._open.values() if recorded.entry is not None]

    def streams(self, number: int, leave: tuple[str, ...] = ()) -> dict[str, Series]:
        """What a run recorded: its streams by name, in the order in which they began. leave: kinds not to be read."""
        if (recorded := self._open.get(number)) is not None:
            recorded.flush()
            self._writer.settle(1.0)
        series = streams_of(self._rows, number, leave)
        for operation in list(self._writer.pending):
            if isinstance(operation, Rows) and operation.run == number and operation.title.split()[0] not in leave:
                series[operation.title] = _longer(series.get(operation.title), operation)
        return series

    def questions(self, number: int) -> tuple[AskedQuestion, ...]:
        """What was asked in a run, and answered."""
        if number in self._open:
            self._writer.settle(1.0)
        return questions_of(self._rows, number)

    def phases(self, number: int) -> tuple[RunPhase, ...]:
        """The phases that a run went through."""
        if number in self._open:
            self._writer.settle(1.0)
        return phases_of(self._rows, number)

    def checkpoint(self, number: int) -> Any:
        """Where a run could go on from; None: nowhere."""
        if number in self._open:
            self._writer.settle(1.0)
        return checkpoint_of(self._rows, number)

    def opening(self, number: int) -> dict[str, Any]:
        """What was known when a run began: settings, facts, room, digest of the machine file; empty for old runs."""
        rows = self._rows("SELECT opening FROM run WHERE id = ?", (number,))
        details: dict[str, Any] = json.loads(zlib.decompress(rows[0][0])) if rows and rows[0][0] else {}
        return details

    def followed(
        self, finding: str, most: int = 100, counting: bool = False
    ) -> list[tuple[RunEntry, float, float | None]]:
        """A finding over time, newest first: the run, the value and its uncertainty. counting: without runs that were
        set aside.
        """
        counting = counting and self._any_set_aside
        aside = f"AND {NOT_SET_ASIDE.replace('run.id', 'finding.run')}" if counting else ""
        rows = self._rows(
            f"SELECT run, value, uncertainty FROM finding WHERE id = ? {aside} ORDER BY run DESC LIMIT ?",
            (finding, *([SET_ASIDE] if counting else []), most),
        )
        return [(entry, value, u) for number, value, u in rows if (entry := self.run(number)) is not None]

    def _close_cut(self) -> None:
        """Close the runs of programs that are not there any more."""
        dead = [
            n
            for n, process in self._rows("SELECT id, process FROM run WHERE outcome = 'running'")
            if not alive(process)
        ]
        if not dead:
            return
        with self._transaction():
            self._base.executemany(
                "UPDATE run SET outcome = 'halted', why = ? WHERE id = ?", [(CUT_OFF, number) for number in dead]
            )

    # what a person says of a run afterwards

    def mark(self, run: int, kind: str, value: str) -> None:
        """Note something of a run, in place of what was noted of that kind; an empty value takes it away.

        Raises:
            LedgerError: it cannot be written.
        """
        with self._transaction():
            if value:
                self._base.execute("INSERT OR REPLACE INTO mark (run, kind, value) VALUES (?,?,?)", (run, kind, value))
            else:
                self._base.execute("DELETE FROM mark WHERE run = ? AND kind = ?", (run, kind))
        self._any_set_aside = bool(self.marks(SET_ASIDE))

    def found_runs(self, words: Sequence[str], most: int) -> list[RunEntry]:
        """The newest runs that hold every word, or whose note does."""
        numbers = numbers_with(self._rows, "run", words, most)
        return [entry for number in numbers if (entry := self.run(number)) is not None]

    def found_changes(self, words: Sequence[str], most: int) -> list[Change]:
        """The newest changes that hold every word, or whose note does."""
        return changes_with(self._rows, words, most)

    def found_facts(self, words: Sequence[str], most: int) -> list[Fact]:
        """The newest facts that hold every word, or whose note does."""
        return facts_with(self._rows, words, most)

    def newest_changes(self, until: str, since: str = "", layer: str | None = None) -> dict[str, Change]:
        """The newest change of each setting in a span of time (its end counts, its beginning does not), by its path."""
        where = "at <= ? AND at > ?" + (" AND layer = ?" if layer is not None else "")
        values = (until, since, *([layer] if layer is not None else []))
        return one_of_each(self._rows, "DESC", where, values)

    def first_changes(self, after: str, but: Collection[str] = ()) -> dict[str, Change]:
        """The first change of each setting after a time, by its path; of some it is not asked."""
        return one_of_each(self._rows, "ASC", "at > ?", (after,), but)

    def last_run_at(self, at: str) -> int:
        """The number of the last run that had begun by then; 0: none had."""
        rows = self._rows("SELECT id FROM run WHERE at <= ? ORDER BY id DESC LIMIT 1", (at,))
        return int(rows[0][0]) if rows else 0

    def saves(self) -> list[str]:
        """When something was saved, oldest first; a save's number is its place in this, from 1."""
        rows = self._rows("SELECT at FROM change WHERE kind = 'save' GROUP BY at ORDER BY min(id)")
        return [at for (at,) in rows]

    # what the builder notes

    def note(self, what: NotedKind, number: int, at: str, text: str) -> None:
        """Note something at an entry, in place of what was noted there; an empty text takes it away.

        Raises:
            LedgerError: it cannot be written.
        """
        with self._transaction():
            if text:
                self._base.execute("INSERT OR REPLACE INTO note VALUES (?,?,?,?)", (what, number, at, text))
            else:
                self._base.execute("DELETE FROM note WHERE what = ? AND number = ?", (what, number))

    def notes(self) -> dict[tuple[NotedKind, int], str]:
        """Every note, by the kind of its entry and that one's number."""
        return {(what, number): text for what, number, text in self._rows("SELECT what, number, text FROM note")}

    def marks(self, kind: str) -> dict[int, str]:
        """What is noted of that kind, by the run's number."""
        return dict(self._rows("SELECT run, value FROM mark WHERE kind = ?", (kind,)))

    # facts

    def report_fact(self, fact: Fact) -> Fact:
        """Enter a fact; returns it with its number.

        Raises:
            LedgerError: it could not be written.
        """
        with self._transaction():
            cursor = self._base.execute(
                "INSERT INTO fact (at, kind, subject, value) VALUES (?,?,?,?)",
                (fact.at, fact.kind, fact.subject, fact.value),
            )
        return replace(fact, id=int(cursor.lastrowid or 0))

    def fact(self, kind: str, subject: str = "") -> Fact:
        """What was reported last of something; a fact with number 0 and no words when nothing was."""
        rows = self._rows(
            "SELECT kind, subject, value, at, id FROM fact WHERE kind = ? AND subject = ? ORDER BY id DESC LIMIT 1",
            (kind, subject),
        )
        return Fact(*rows[0]) if rows else Fact(kind, subject, "")

    def facts(self, most: int = -1) -> list[Fact]:
        """Facts, newest first."""
        rows = self._rows("SELECT kind, subject, value, at, id FROM fact ORDER BY id DESC LIMIT ?", (most,))
        return [Fact(*row) for row in rows]

    def facts_in_force(self) -> list[Fact]:
        """The newest fact of each kind and subject."""
        rows = self._rows(
            "SELECT kind, subject, value, at, max(id) FROM fact GROUP BY kind, subject ORDER BY max(id) DESC"
        )
        return [Fact(*row) for row in rows]

    # changes

    def add_changes(self, changes: Iterable[Change]) -> None:
        """Enter changes of settings.

        Raises:
            NotEntered: they could not be written, and wait in memory.
        """
        rows = tuple(changes)
        try:
            if self._waiting and not self._enter_changes():
                raise LedgerError(f"The ledger {self.path} still cannot be written: make room on the disk.")
            with self._transaction():
                self._insert_changes(rows)
        except LedgerError as error:
            self._waiting.append(rows)
            raise NotEntered(f"{error} It is kept in memory and tried again.") from error

    @property
    def waiting(self) -> int:
        """How many entries wait in memory for room in the file: runs and groups of changes."""
        return len(self._waiting) + sum(1 for pending_entry in self._writer.pending if isinstance(pending_entry, Ended))

    @property
    def kept_back(self) -> bool:
        """Whether something could not be written: more than a write that is just under way."""
        return bool(self._waiting or self._writer.failure)

    def enter_waiting(self) -> int:
        """Try to enter what waits, in its order; returns how many were entered now."""
        before = self.waiting
        if self._writer.pending:
            self._writer.retry()
        if not self._writer.pending:
            self._open = {number: recorded for number, recorded in self._open.items() if recorded.entry is None}
            self._enter_changes()
        return before - self.waiting

    def _enter_changes(self) -> bool:
        while self._waiting:
            try:
                with self._transaction():
                    self._insert_changes(self._waiting[0])
            except LedgerError:
                return False
            self._waiting.pop(0)
        return True

    def changes(self, kind: str | None = None, run: int | None = None, most: int = -1) -> list[Change]:
        """Changes of settings, newest first; of one kind, or those that a run proposed, when asked for."""
        rows = self._rows(
            "SELECT at, kind, run, setting, layer, before, after, id FROM change "
            "WHERE (?1 IS NULL OR kind = ?1) AND (?2 IS NULL OR run = ?2) ORDER BY id DESC LIMIT ?3",
            (kind, run, most),
        )
        kept = [
            change
            for what in reversed(self._waiting)
            for change in reversed(what)
            if kind in (None, change.kind) and run in (None, change.run)
        ]
        return kept + [change_of(row) for row in rows]

    def last_change(self, setting: str, kind: str | None = None, layer: str | None = None) -> Change | None:
        """The newest change of a setting; of a kind (keep, save, ...), or in a layer, when asked for."""
        for what in reversed(self._waiting):
            for change in reversed(what):
                if change.setting == setting and kind in (None, change.kind) and layer in (None, change.layer):
                    return change
        rows = self._rows(
            "SELECT at, kind, run, setting, layer, before, after, id FROM change WHERE setting = ?1 "
            "AND (?2 IS NULL OR kind = ?2) AND (?3 IS NULL OR layer = ?3) ORDER BY id DESC LIMIT 1",
            (setting, kind, layer),
        )
        return change_of(rows[0]) if rows else None

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
        intents = self._rows("SELECT at, file, old_text, new_text, stored_before, stored_after, changes FROM intent")
        if not intents:
            return None
        at, file, old_text, new_text, before, after, changes = intents[0]
        rows = tuple(Change(**change) for change in json.loads(changes))
        return Intent(at, file, old_text, new_text, _values(before), _values(after), rows)

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
            "INSERT INTO change (at, kind, run, setting, layer, before, after) VALUES (?,?,?,?,?,?,?)",
            [(c.at, c.kind, c.run, c.setting, c.layer, json.dumps(c.before), json.dumps(c.after)) for c in changes],
        )

    # the board as it was seen last

    def note_seen(self, at: str, live: Mapping[str, Value], boot: int | None = None, board_s: float = 0.0) -> None:
        """Keep what the board's live settings were, for a time without a link; boot: which power-on it was, and by its
        clock how long ago.

        Raises:
            LedgerError: it could not be written.
        """
        with self._transaction():
            row = (at, json.dumps(dict(live)), boot, board_s)
            self._base.execute("INSERT OR REPLACE INTO seen VALUES (1,?,?,?,?)", row)

    def seen(self) -> tuple[str, dict[str, Value]]:
        """When the board was seen last, and its live settings then; no time when it never was."""
        rows = self._rows("SELECT at, live FROM seen")
        return (rows[0][0], _values(rows[0][1])) if rows else ("", {})

    def seen_clock(self) -> tuple[str, int, float] | None:
        """When the board was seen last, in which of its power-ons, and its clock then, s; None: nobody knows."""
        rows = self._rows("SELECT at, boot, board_s FROM seen WHERE boot IS NOT NULL")
        return rows[0] if rows else None

    # what is borrowed from the board

    def begin_loans(self, former: Mapping[str, Value], lent: Mapping[str, Value]) -> None:
        """Write down what settings return to, before they are borrowed; an earlier loan of the same setting stays.

        Raises:
            LedgerError: it could not be written: nothing may be borrowed.
        """
        with self._transaction():
            self._base.executemany(
                "INSERT OR IGNORE INTO loan VALUES (?,?,?)",
                [(path, json.dumps(value), json.dumps(lent[path])) for path, value in former.items()],
            )

    def end_loans(self, paths: Iterable[str]) -> None:
        """These settings were given back.

        Raises:
            LedgerError: it could not be written.
        """
        with self._transaction():
            self._base.executemany("DELETE FROM loan WHERE setting = ?", [(path,) for path in paths])

    def loans(self) -> dict[str, tuple[Value, Value]]:
        """Settings on loan: the value that each returns to, and the one that it was lent."""
        rows = self._rows("SELECT setting, former, lent FROM loan ORDER BY setting")
        return {path: (frozen(json.loads(former)), frozen(json.loads(lent))) for path, former, lent in rows}

    # the file

    def _rows(self, query: str, values: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
        try:
            return self._base.execute(query, values).fetchall()
        except sqlite3.Error as error:
            words = f"The ledger {self.path} could not be read ({error}): what was found before is not shown."
            if self.unreadable is None:
                raise LedgerError(words) from error
            self.unreadable(words)
            return []

    def _transaction(self) -> _Transaction:
        return _Transaction(self._base, self.path)


class _Transaction:
    def __init__(self, base: sqlite3.Connection, path: Path) -> None:
        self._base, self._path = base, path

    def __enter__(self) -> None:
        try:
            self._base.execute("BEGIN IMMEDIATE")
        except sqlite3.Error as error:
            raise unwritable(self._path, error) from error

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        try:
            if error is None:
                self._base.execute("COMMIT")
                return
        except sqlite3.Error as broken:
            self._undo()
            raise unwritable(self._path, broken) from broken
        self._undo()
        if isinstance(error, sqlite3.Error):
            raise unwritable(self._path, error) from error

    def _undo(self) -> None:
        if self._base.in_transaction:
            self._base.execute("ROLLBACK")


def _wanted(entry: RunEntry, trial: str | None, outcome: str | None, subject: str | None) -> bool:
    return (
        trial in (None, entry.name)
        and outcome in (None, "running" if entry.running else entry.result.outcome)
        and subject in (None, subject_text(entry.subject))
    )


def _longer(before: Series | None, more: Rows) -> Series:
    """A stream with rows that are not in the file yet."""
    from numpy import concatenate

    stream: Stream = more.stream
    rows = more.rows if before is None else concatenate([before.rows, more.rows])
    return Series(stream.columns, rows, stream.units)


def _values(text: str) -> dict[str, Value]:
    return {path: frozen(value) for path, value in json.loads(text).items()}
