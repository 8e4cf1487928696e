"""Benches whose instrument shows what a run recorded: the running one, or the last that is in the ledger."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ublet.core.run import Series, TrialResult
from ublet.session.session import Session
from ublet.tui.trial.trial_bench import TrialBench

SeriesReader = Callable[[str], Series | None]
"""What was recorded of a stream; None: nothing."""


class RecordedBench(TrialBench):
    """Keeps the streams of the newest run, read once when it has ended. unread: kinds that no picture is made of."""

    unread: tuple[str, ...] = ()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.kept: Mapping[str, Series] = {}

    def reload(self) -> None:
        """Take the newest result and its record from the ledger."""
        super().reload()
        self.kept = self.session.ledger.streams(self.entry.id, self.unread) if self.entry is not None else {}
        self.beat()

    def read(self, stream: str) -> Series | None:
        """What the running trial recorded so far, else the last one."""
        return self.watched.series(stream) if self.watched is not None else self.kept.get(stream)

    @property
    def shown_result(self) -> TrialResult | None:
        """The last result; while a trial runs nothing older stands beside it."""
        return self.result if self.watched is None else None
