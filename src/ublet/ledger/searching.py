"""Finding entries by words: every word must occur in an entry, or in what the builder noted at it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from ublet.ledger.reading import Query

Kind = Literal["run", "change", "fact"]

TEXTS: dict[Kind, tuple[str, ...]] = {
    "run": ("trial", "station", "subject", "outcome", "why"),
    "change": ("setting", "kind", "layer"),
    "fact": ("kind", "subject", "value"),
}
"""The columns of an entry that are searched, each by itself: putting them together takes three times as long."""


def numbers_with(query: Query, kind: Kind, words: Sequence[str], most: int) -> list[int]:
    """The newest entries of a kind that hold every word, by number, newest first."""
    terms: list[str] = []
    values: list[object] = []
    noted = "id IN (SELECT number FROM note WHERE what = ? AND text LIKE ? ESCAPE '\\')"
    for word in words:
        pattern = "%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        terms.append(" OR ".join([f"{column} LIKE ? ESCAPE '\\'" for column in TEXTS[kind]] + [noted]))
        values += [*[pattern] * len(TEXTS[kind]), kind, pattern]
    where = f"WHERE {' AND '.join(f'({term})' for term in terms)}" if terms else ""
    rows = query(f"SELECT id FROM {kind} {where} ORDER BY id DESC LIMIT ?", (*values, most))
    return [int(number) for (number,) in rows]
