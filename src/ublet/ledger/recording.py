"""A run that is being recorded: rows gathered into chunks, questions, checkpoints, and its end."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from ublet.core.evidence import Dependency
from ublet.core.run import Checkpoint, Finding, Option, Progress, Stream, TrialResult
from ublet.ledger.entries import AskedQuestion, Opening, RunEntry, RunPhase
from ublet.ledger.writer import CHUNK_ROWS, Ended, Found, Operation, Phase, QuestionEntry, Reached, Rows, Writer

FLUSH_S = 0.5
"""Rows are handed to the writer at least this often: that is the most that a sudden end takes."""

FLUSH_ROWS = 2048


class Recorded:
    """One open run. ``entry`` is what it was once it has ended."""

    def __init__(self, number: int, opening: Opening, writer: Writer) -> None:
        self.number = number
        self.opening = opening
        self.entry: RunEntry | None = None
        self._writer = writer
        self._gathered: dict[str, tuple[Stream, list[tuple[float, ...]]]] = {}
        self._flushed = time.monotonic()
        self._questions = self._phases = 0
        self._phase = ""
        self._found: tuple[Finding, ...] = ()
        self._option: Option | None = None

    def row(self, stream: Stream, title: str, row: Sequence[float]) -> None:
        """Take a row.

        Raises:
            ValueError: it has another number of columns than its stream.
        """
        if len(row) != len(stream.columns):
            raise ValueError(f"the stream “{stream.name}” has {len(stream.columns)} columns, its row {len(row)}")
        rows = self._gathered.setdefault(title, (stream, []))[1]
        rows.append(tuple(row))
        if len(rows) >= FLUSH_ROWS:
            self.flush()
        self.tick()

    def rows(self, stream: Stream, title: str, rows: Iterable[tuple[float, ...]] | np.ndarray) -> None:
        """Take many rows (n x m)."""
        self.flush()
        block = np.asarray(rows if isinstance(rows, np.ndarray) else list(rows), dtype=np.float64)
        block = block.reshape(-1, len(stream.columns))
        starts = range(0, len(block), CHUNK_ROWS)
        self._writer.add([Rows(self.number, stream, title, block[at : at + CHUNK_ROWS]) for at in starts])

    def tick(self) -> None:
        """Hand over what was gathered when it is time."""
        if self._gathered and time.monotonic() - self._flushed >= FLUSH_S:
            self.flush()

    def flush(self) -> None:
        """Hand over what was gathered."""
        self._flushed = time.monotonic()
        gathered, self._gathered = self._gathered, {}
        self._writer.add([Rows(self.number, s, title, np.array(rows)) for title, (s, rows) in gathered.items()])

    def asked(self, at_s: float, text: str) -> int:
        """A question was put; returns its place."""
        self.flush()
        self._questions += 1
        self._add(QuestionEntry(self.number, self._questions, AskedQuestion(at_s, text, None)))
        return self._questions

    def answered(self, place: int, at_s: float, text: str, answer: str) -> None:
        """It was answered."""
        self._add(QuestionEntry(self.number, place, AskedQuestion(at_s, text, answer)))

    def phase(self, at_s: float, progress: Progress) -> None:
        """It is in this phase; entered when that is another one than before."""
        self.tick()
        if progress.phase != self._phase:
            self._phase = progress.phase
            self._phases += 1
            self._add(Phase(self.number, self._phases, RunPhase(at_s, progress.phase, progress.fraction)))

    def found(self, findings: Sequence[Finding], option: Option | None, rests: tuple[Dependency, ...]) -> None:
        """It found these and can propose this, and goes on."""
        known = {finding.id for finding in findings}
        self._found = (*(stored for stored in self._found if stored.id not in known), *findings)
        self._option = option if option is not None else self._option
        self.flush()
        self._add(Found(self.number, tuple(findings), option, rests))

    def checkpoint(self, checkpoint: Checkpoint, rests: tuple[Dependency, ...]) -> None:
        """From here it could go on another time; rests: what it rests on so far."""
        self.flush()
        self._add(Reached(self.number, checkpoint, rests))

    def end(
        self, result: TrialResult, duration_s: float, rests: tuple[Dependency, ...], whole: bool = True
    ) -> RunEntry:
        """It has ended; whole: by itself, and nothing goes on from it."""
        opening = self.opening
        self.flush()
        if not whole and not result.findings:
            result = replace(result, findings=self._found)
        if not whole and not result.options and self._option is not None:
            result = replace(result, options=(self._option,), recommended=self._option.name)
        self.entry = RunEntry(
            self.number,
            opening.at,
            opening.trial,
            opening.station,
            duration_s,
            opening.parameters,
            result,
            opening.subject,
            rests,
            goes_on_from=opening.goes_on_from,
        )
        self._add(Ended(self.number, result, duration_s, rests, whole))
        return self.entry

    def _add(self, operation: Operation) -> None:
        self._writer.add([operation])
