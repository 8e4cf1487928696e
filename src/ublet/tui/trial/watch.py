"""Looking on while a trial runs: rows collected for the charts, questions put to the builder."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

import numpy as np

from ublet.core.questions import Live, Question
from ublet.core.run import Progress, Series
from ublet.session.timing import Expected, TimeLeft


class TrialWatch:
    """Collects what a running trial shows; the bench draws from here a few times a second."""

    def __init__(
        self,
        ask: Callable[[Question], Awaitable[str]],
        undo: Callable[[Question], bool],
        now_s: Callable[[], float],
        plan: Expected | None = None,
    ) -> None:
        self._ask, self._undo, self._now_s = ask, undo, now_s
        self.time = TimeLeft(plan)
        self._rows: dict[str, list[tuple[float, ...]]] = {}
        self._columns: dict[str, tuple[str, ...]] = {}
        self.latest: Progress | None = None
        self.fresh = False

    async def answer(self, question: Question) -> str:
        """Ask the builder; the time that this takes is not the machine's."""
        waits = not isinstance(question, Live)
        if waits:
            self.time.asking(self._now_s(), True)
        try:
            return await self._ask(question)
        finally:
            if waits:
                self.time.asking(self._now_s(), False)

    @property
    def left_s(self) -> float | None:
        """Seconds left at the machine; None: not known yet."""
        return self.time.left(self._now_s(), self.latest)

    @property
    def gone_s(self) -> float:
        """Seconds at the machine since it began."""
        return self.time.gone(self._now_s())

    @property
    def waits(self) -> bool:
        """Whether it waits for an answer."""
        return self.time.asks

    async def undo(self, question: Question) -> bool:
        """What a trial that was cut off left to be done by hand: the demonstration's hands do it."""
        return self._undo(question)

    def progress(self, progress: Progress) -> None:
        """Keep where the trial is."""
        self.latest = progress
        self.fresh = True

    def row(self, series: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        """Keep a row."""
        self._columns[series] = columns
        self._rows.setdefault(series, []).append(row)
        self.fresh = True

    def series(self, name: str) -> Series | None:
        """What was collected of a series so far."""
        rows = self._rows.get(name)
        return Series(self._columns[name], np.array(rows, dtype=np.float64)) if rows else None
