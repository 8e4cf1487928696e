"""Finding entries by words: every word must occur in an entry, or in what the builder noted at it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from ublet.ledger.reading import Query

Kind = Literal["run", "change", "fact"]

TEXTS: dict[Kind, str] = {
    "run": "trial || ' ' || station || ' ' || subject || ' ' || outcome || ' ' || why",
    "change": "kind || ' ' || setting || ' ' || layer",
    "fact": "kind || ' ' || subject || ' ' || value",
}
"""What is searched of an entry."""


def numbers_with(query: Query, kind: Kind, words: Sequence[str], most: int) -> list[int]:
    """The newest entries of a kind that hold every word, by number, newest first."""
    terms, values = [], []
    for word in words:
        pattern = "%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        terms.append(
            f"(({TEXTS[kind]}) LIKE ? ESCAPE '\\' OR id IN "
            "(SELECT number FROM note WHERE what = ? AND text LIKE ? ESCAPE '\\'))"
        )
        values += [pattern, kind, pattern]
    where = f"WHERE {' AND '.join(terms)}" if terms else ""
    rows = query(f"SELECT id FROM {kind} {where} ORDER BY id DESC LIMIT ?", (*values, most))
    return [int(number) for (number,) in rows]
