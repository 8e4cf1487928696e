"""Words of sentences: several names in a row, one or several of something."""

from __future__ import annotations

from collections.abc import Sequence


def several(names: Sequence[str]) -> str:
    """Names in a row.

    >>> several(["X"]), several(["X", "Y"]), several(["X", "Y", "Z"])
    ('X', 'X and Y', 'X, Y and Z')
    """
    return " and ".join([*([", ".join(names[:-1])] if len(names) > 1 else []), *names[-1:]])


def counted(count: int, thing: str) -> str:
    """A count with its noun.

    >>> counted(1, "setting"), counted(0, "edit")
    ('1 setting', '0 edits')
    """
    return f"{count} {thing}" if count == 1 else f"{count:,} {thing}s"
