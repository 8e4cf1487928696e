"""The record of a run, for its recipe: rows, checkpoints, and what earlier runs found."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import fields

import numpy as np
from numpy.typing import NDArray

from ublet.core.evidence import Trace
from ublet.core.run import Checkpoint, Finding, Option, TrialResult
from ublet.core.trial import TrialSpec
from ublet.ledger.entries import RunEntry
from ublet.ledger.recording import Recorded
from ublet.session.bench.watcher import Watcher

DRAWN_HZ = 50.0
"""Of what flows so many rows a second are drawn."""

Earlier = Callable[[str, dict[str, str]], RunEntry | None]
"""The last proven run of a trial and a subject."""


class LinkRecord:
    """A :class:`ublet.core.bench.Recording`. recorded: None for what is not entered in the ledger."""

    def __init__(
        self,
        spec: TrialSpec,
        watcher: Watcher,
        recorded: Recorded | None,
        trace: Trace,
        earlier: Earlier,
        going_on: Checkpoint | None,
    ) -> None:
        self._spec = spec
        self._watcher = watcher
        self._recorded = recorded
        self._trace = trace
        self._earlier = earlier
        self.going_on = going_on
        self.left_out: list[str] = []

    def row(self, stream: str, row: tuple[float, ...], of: str = "") -> None:
        """Record a row and let it be drawn."""
        declared, title = self._spec.stream(stream), f"{stream} {of}".strip()
        self._watcher.row(title, declared.columns, row)
        if self._recorded is not None:
            self._recorded.row(declared, title, row)

    def rows(self, stream: str, rows: Iterable[tuple[float, ...]], of: str = "") -> None:
        """Record many rows."""
        if self._recorded is not None:
            self._recorded.rows(self._spec.stream(stream), f"{stream} {of}".strip(), rows)

    def flow(self, stream: str, times_s: NDArray[np.float64], values: NDArray[np.float64], of: str = "") -> None:
        """Record readings as they come; as many are drawn as a chart can show."""
        declared, title = self._spec.stream(stream), f"{stream} {of}".strip()
        rows = np.column_stack([times_s, values])
        if self._recorded is not None:
            self._recorded.rows(declared, title, rows)
        for row in rows[:: max(1, round((declared.rate_hz or 0.0) / DRAWN_HZ))].tolist():
            self._watcher.row(title, declared.columns, tuple(row))

    def found(self, *findings: Finding, option: Option | None = None) -> None:
        """Found on the way."""
        if self._recorded is not None:
            self._recorded.found(findings, option, self._trace.rests)

    def checkpoint(self, checkpoint: Checkpoint) -> None:
        """From here it could go on another time."""
        if self._recorded is not None:
            self._recorded.checkpoint(checkpoint, self._trace.rests)

    def knowingly(self, words: str) -> None:
        """The builder left this out."""
        self.left_out.append(words)

    def earlier(self, trial: str, **subject: str) -> TrialResult | None:
        """The last proven result of another trial; what is looked up in it is noted."""
        entry = self._earlier(trial, subject)
        return _Traced.of(entry, trial, self._trace) if entry is not None else None


class _Traced(TrialResult):
    """A result that notes every finding that is looked up in it."""

    @classmethod
    def of(cls, entry: RunEntry, trial: str, trace: Trace) -> _Traced:
        """The same result, traced."""
        values = {field.name: getattr(entry.result, field.name) for field in fields(TrialResult)}
        finding = cls(**values)
        object.__setattr__(finding, "_noting", (trial, trace))
        return finding

    def all_of(self, what: str, **subject: str) -> tuple[Finding, ...]:
        """The findings, each noted with what it may move by."""
        trial, trace = getattr(self, "_noting")  # noqa: B009 a frozen dataclass knows no such field
        findings = super().all_of(what, **subject)
        for finding in findings:
            trace.note("finding", f"{trial}/{finding.id}", finding.value, finding.may_move)
        return findings
