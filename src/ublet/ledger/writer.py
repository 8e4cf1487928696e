"""Writing runs beside the event loop: what is recorded goes into the file in its order, in chunks, from a thread."""

from __future__ import annotations

import contextlib
import json
import queue
import sqlite3
import threading
import zlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ublet.core.evidence import Dependency
from ublet.core.remedy import remedy_as_json
from ublet.core.run import Checkpoint, Finding, Option, Stream, TrialResult
from ublet.ledger.entries import AskedQuestion, RunPhase
from ublet.ledger.tables import connected

CHUNK_ROWS = 8192
"""Most rows written in one transaction."""

RETRY_S = 5.0
"""What could not be written is tried again after so long, and whenever more comes."""


@dataclass(frozen=True)
class Rows:
    """Rows (n x m) of a stream; title: its name in this run."""

    run: int
    stream: Stream
    title: str
    rows: NDArray[np.float64]

    def write(self, base: sqlite3.Connection) -> None:
        """Append them as a chunk."""
        stream = self.stream
        base.execute(
            "INSERT OR IGNORE INTO stream (run, name, columns, units, rate_hz, number) VALUES (?,?,?,?,?,?)",
            (
                *(self.run, self.title, json.dumps(stream.columns), json.dumps(stream.units)),
                *(stream.rate_hz, stream.number),
            ),
        )
        (number,) = base.execute("SELECT id FROM stream WHERE run = ? AND name = ?", (self.run, self.title)).fetchone()
        data = zlib.compress(np.ascontiguousarray(self.rows, dtype=f"<{stream.number}").tobytes(), 1)
        base.execute(
            "INSERT INTO chunk SELECT ?1, coalesce(max(place), -1) + 1, ?2, ?3 FROM chunk WHERE stream = ?1",
            (number, len(self.rows), data),
        )


@dataclass(frozen=True)
class QuestionEntry:
    """A question with its answer; place: which one it is in its run."""

    run: int
    place: int
    asked: AskedQuestion

    def write(self, base: sqlite3.Connection) -> None:
        """Enter it; an answer that came later takes the place of none."""
        asked = self.asked
        base.execute(
            "INSERT OR REPLACE INTO asked VALUES (?,?,?,?,?)",
            (self.run, self.place, asked.at_s, asked.text, asked.answer),
        )


@dataclass(frozen=True)
class Phase:
    """A run came to another phase."""

    run: int
    place: int
    passed: RunPhase

    def write(self, base: sqlite3.Connection) -> None:
        """Enter it."""
        passed = self.passed
        base.execute(
            "INSERT INTO phase VALUES (?,?,?,?,?)", (self.run, self.place, passed.at_s, passed.words, passed.fraction)
        )


@dataclass(frozen=True)
class Found:
    """Findings of a run that goes on, what it can propose already, and what it rests on so far."""

    run: int
    findings: tuple[Finding, ...]
    option: Option | None
    rests: tuple[Dependency, ...]

    def write(self, base: sqlite3.Connection) -> None:
        """Enter them behind those that are there; one takes the place of another with its id."""
        base.executemany(
            "DELETE FROM finding WHERE run = ? AND id = ?", [(self.run, finding.id) for finding in self.findings]
        )
        (first,) = base.execute("SELECT coalesce(max(place) + 1, 0) FROM finding WHERE run = ?", (self.run,)).fetchone()
        _enter(base, self.run, self.findings, first)
        if self.option is not None:
            row = (json.dumps([plain(self.option)]), self.option.name, self.run)
            base.execute("UPDATE run SET options=?, recommended=? WHERE id=?", row)
            _rest(base, self.run, self.rests)


@dataclass(frozen=True)
class Reached:
    """A checkpoint, and what the run rests on so far: the newest takes the place of the one before."""

    run: int
    checkpoint: Checkpoint
    rests: tuple[Dependency, ...]

    def write(self, base: sqlite3.Connection) -> None:
        """Enter it."""
        state = json.dumps(dict(self.checkpoint.state))
        base.execute("INSERT OR REPLACE INTO checkpoint VALUES (?,?,?)", (self.run, self.checkpoint.words, state))
        _rest(base, self.run, self.rests)


@dataclass(frozen=True)
class Ended:
    """How a run ended, what it found and what it rests on. whole: its recipe ended it, so nothing goes on from it, and
    what it found on the way is part of what it found.
    """

    run: int
    result: TrialResult
    duration_s: float
    rests: tuple[Dependency, ...]
    whole: bool

    def write(self, base: sqlite3.Connection) -> None:
        """Close the run."""
        result = self.result
        base.execute(
            "UPDATE run SET outcome=?, why=?, duration_s=?, conditions=?, options=?, recommended=?, remedies=? "
            "WHERE id=?",
            (
                *(result.outcome, result.why, self.duration_s, json.dumps(dict(result.conditions))),
                *(json.dumps([plain(option) for option in result.options]), result.recommended),
                *(json.dumps([remedy_as_json(remedy) for remedy in result.remedies]), self.run),
            ),
        )
        if self.whole:
            base.execute("DELETE FROM checkpoint WHERE run = ?", (self.run,))
        if self.whole or result.findings:
            base.execute("DELETE FROM finding WHERE run = ?", (self.run,))
            _enter(base, self.run, result.findings, 0)
        _rest(base, self.run, self.rests)


Operation = Rows | QuestionEntry | Phase | Found | Reached | Ended


def plain(option: Option) -> dict[str, object]:
    """An option as JSON."""
    proposals = [vars(proposal) for proposal in option.proposals]
    return {"name": option.name, "note": option.note, "proposals": proposals, "figures": dict(option.figures)}


def _rest(base: sqlite3.Connection, run: int, rests: Sequence[Dependency]) -> None:
    base.execute("DELETE FROM rest WHERE run = ?", (run,))
    rows = [(run, at, rest.kind, rest.path, json.dumps(rest.value), rest.tolerance) for at, rest in enumerate(rests)]
    base.executemany("INSERT INTO rest VALUES (?,?,?,?,?,?)", rows)


def _enter(base: sqlite3.Connection, run: int, findings: Sequence[Finding], first: int) -> None:
    base.executemany(
        "INSERT INTO finding VALUES (?,?,?,?,?,?,?,?,?,?,?)",
        [_finding(run, place, finding) for place, finding in enumerate(findings, start=first)],
    )


def _finding(run: int, place: int, finding: Finding) -> tuple[object, ...]:
    values = (finding.value, finding.uncertainty, finding.unit, finding.limit, finding.tolerance)
    return (run, place, finding.id, finding.what, json.dumps(dict(finding.subject)), finding.words, *values)


@dataclass
class Writer:
    """Writes operations in their order. threaded: from a thread of its own; otherwise at once, in the caller's.

    What fails stays at the head and is tried again; ``failure`` says why (empty: all is well).
    """

    path: Path
    threaded: bool
    failure: str = ""
    pending: list[Operation] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._lock = threading.Lock()
        self._wake: queue.SimpleQueue[bool] = queue.SimpleQueue()
        self._idle = threading.Event()
        self._idle.set()
        self._base: sqlite3.Connection | None = None
        self._thread: threading.Thread | None = None
        self.before_commit: Callable[[], None] = lambda: None
        """Called before every commit; a test fills the disk here."""

    def add(self, operations: Sequence[Operation]) -> None:
        """Take operations to write."""
        with self._lock:
            self.pending.extend(operations)
        self._idle.clear()
        if not self.threaded:
            self._work()
            return
        if self._thread is None:
            self._thread = threading.Thread(target=self._run, name="ledger", daemon=True)
            self._thread.start()
        self._wake.put(True)

    def retry(self) -> int:
        """Try again what failed; returns how many operations still wait."""
        if self.pending and not self.threaded:
            self._work()
        elif self.pending:
            self._idle.clear()
            self._wake.put(True)
            self._idle.wait(RETRY_S)
        return len(self.pending)

    def settle(self, seconds: float) -> bool:
        """Wait until everything is written or has failed; whether everything is written."""
        if self.threaded and self._thread is not None:
            self._idle.wait(seconds)
        return not self.pending

    def close(self) -> None:
        """A last try, and the connection is let go."""
        self.retry()
        if self._thread is not None:
            self._wake.put(False)
            self._thread.join(RETRY_S)
            self._thread = None
        if self._base is not None:
            self._base.close()
            self._base = None

    def _run(self) -> None:
        while True:
            try:
                if not self._wake.get(timeout=RETRY_S if self.pending else None):
                    return
            except queue.Empty:
                pass
            self._work()

    def _work(self) -> None:
        """Write what waits; stop at the first that fails."""
        try:
            while self.pending:
                self._write(self.pending[0])
                with self._lock:
                    self.pending.pop(0)
                self.failure = ""
        except sqlite3.Error as error:
            self.failure = str(error)
        finally:
            self._idle.set()

    def _write(self, operation: Operation) -> None:
        if self._base is None:
            self._base = connected(self.path, self.threaded)
        base = self._base
        base.execute("BEGIN IMMEDIATE")
        try:
            operation.write(base)
            self.before_commit()
            base.execute("COMMIT")
        except BaseException:
            with contextlib.suppress(sqlite3.Error):
                if base.in_transaction:
                    base.execute("ROLLBACK")
            raise
