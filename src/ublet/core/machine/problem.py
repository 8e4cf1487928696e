"""One thing wrong in a file: where, what was found, what is allowed, how to mend it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

KeyLines = dict[tuple[str, ...], int]
"""Line (from 1) of each key and table by its path."""

Severity = Literal["error", "warning"]


@dataclass(frozen=True)
class Problem:
    """One thing wrong in a file. An error keeps the file from being used; a warning does not."""

    line: int
    key: str
    found: str
    allowed: str
    mend: str
    severity: Severity = "error"

    def sentence(self, file: str) -> str:
        """``file:line: key: found ..., allowed ...; mend``."""
        key = f"{self.key}: " if self.key else ""
        return f"{file}:{self.line}: {key}found {self.found}; allowed: {self.allowed}. {self.mend}"


def short(text: str) -> str:
    """A found value, cut where it is too long for a message."""
    return text if len(text) <= 60 else text[:57] + "…"


def nearest(word: str, known: Iterable[str]) -> list[str]:
    """The known word that is most like another one, as a list of one or none."""
    import difflib  # here: most files have no such fault

    return difflib.get_close_matches(word, list(known), 1, 0.5)
