"""Finding entries: by words, every one of which must occur in an entry or in what the builder noted at it; and the
first change of each setting in a span of time.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any, Literal

from ublet.core.facts import Fact
from ublet.ledger.entries import Change
from ublet.ledger.reading import Query, change_of

Kind = Literal["run", "change", "fact"]

TEXTS: dict[Kind, tuple[str, ...]] = {
    "run": ("trial", "station", "subject", "outcome", "why"),
    "change": ("setting", "kind", "layer"),
    "fact": ("kind", "subject", "value"),
}
"""The columns of an entry that are searched, each by itself: putting them together takes three times as long."""


def numbers_with(query: Query, kind: Kind, words: Sequence[str], most: int) -> list[int]:
    """The newest entries of a kind that hold every word, by number, newest first."""
    if kind == "change" and any(_nowhere(query, word) for word in words):
        return []
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


CHANGED_BY = ("keep", "drop", "save", "settle", "edit", "restore", "copy", "write", "live", "stored", "file", "image")
"""What changes a setting, and where: words that many changes hold."""


def _nowhere(query: Query, word: str) -> bool:
    """Whether no change can hold a word: neither a setting that was ever changed, nor a note, nor what all hold. The
    few settings are looked up in an index, where the many changes need not be read.
    """
    folded = word.lower()
    if any(folded in known for known in CHANGED_BY):
        return False
    path = ""
    while (path := query("SELECT min(setting) FROM change WHERE setting > ?", (path,))[0][0]) is not None:
        if folded in path.lower():
            return False
    noted = query("SELECT text FROM note WHERE what = 'change'", ())
    return not any(folded in text.lower() for (text,) in noted)


def changes_with(query: Query, words: Sequence[str], most: int) -> list[Change]:
    """The newest changes that hold every word, or whose note does."""
    of_each = [_changes_by(query, "id = ?", (number,)) for number in numbers_with(query, "change", words, most)]
    return [change for changes in of_each for change in changes]


def facts_with(query: Query, words: Sequence[str], most: int) -> list[Fact]:
    """The newest facts that hold every word, or whose note does."""
    select = "SELECT kind, subject, value, at, id FROM fact WHERE id = ?"
    of_each = [query(select, (number,)) for number in numbers_with(query, "fact", words, most)]
    return [Fact(*row) for rows in of_each for row in rows]


def one_of_each(
    query: Query, order: str, where: str, values: tuple[Any, ...], but: Collection[str] = ()
) -> dict[str, Change]:
    """The first change of each setting in an order by number; a look into an index for each setting."""
    changes: dict[str, Change] = {}
    path = ""
    while (path := query("SELECT min(setting) FROM change WHERE setting > ?", (path,))[0][0]) is not None:
        if path in but:
            continue
        for change in _changes_by(query, f"setting = ? AND {where} ORDER BY id {order} LIMIT 1", (path, *values)):
            changes[path] = change
    return changes


def _changes_by(query: Query, where: str, values: tuple[Any, ...]) -> list[Change]:
    select = f"SELECT at, kind, run, setting, layer, before, after, id FROM change WHERE {where}"
    return [change_of(row) for row in query(select, values)]
