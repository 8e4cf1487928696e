"""Whoever looks on while a trial runs, and answers its questions."""

from __future__ import annotations

from typing import Protocol

from ublet.core.questions import Question
from ublet.core.run import Progress


class Watcher(Protocol):
    """The screen, a terminal, a file of answers, or the scripted builder."""

    async def answer(self, question: Question) -> str:
        """Answer for the builder: what the question takes. Live controls are asked again after each use."""

    async def undo(self, question: Question) -> bool:
        """What a trial that was cut off left to be done by hand: do it where nobody need be asked; whether it was."""

    def progress(self, progress: Progress) -> None:
        """The trial is here now."""

    def row(self, stream: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        """A row of raw data came."""
