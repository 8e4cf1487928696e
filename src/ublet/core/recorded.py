"""Recorded data as tables: CSV with a header line; what is wrong is named by line and column, small flaws are noted."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.trouble import Trouble

FEWEST_ROWS = 2


class RecordError(Trouble):
    """A recorded table cannot be used; the message says where, what was found, what is allowed and how to mend it."""


@dataclass(frozen=True)
class Table:
    """Columns (n values each) by name, the file's comments, and what was noticed and put right."""

    columns: dict[str, Floats]
    comments: tuple[str, ...] = ()
    notes: tuple[str, ...] = field(default=())

    @property
    def rows(self) -> int:
        """How many rows it has."""
        return len(next(iter(self.columns.values())))


def parse_table(text: str, wanted: Sequence[str], name: str, optional: Sequence[str] = ()) -> Table:
    """Read a CSV text with a header line; other columns are ignored, lines that start with # are comments.

    A last line that was cut off is left out and noted.

    Raises:
        RecordError: no header, a missing column, a cell that is no number, too few rows.
    """
    lines = text.lstrip("\ufeff").splitlines()
    comments = tuple(line[1:].strip() for line in lines if line[:1] == "#")
    first = next((n for n, line in enumerate(lines) if line.strip() and line[:1] != "#"), None)
    if first is None:
        raise RecordError(f"{name} is empty: it needs a header line {','.join(wanted)} and rows of numbers below it.")
    header = [cell.strip().lower() for cell in lines[first].split(",")]
    present = [column for column in (*wanted, *optional) if column in header]
    missing = [column for column in wanted if column not in header]
    if missing:
        near = difflib.get_close_matches(missing[0], header, 1, 0.5)
        hint = f"; did you mean to rename “{near[0]}”?" if near else ""
        raise RecordError(
            f"{name}:{first + 1}: found the columns {', '.join(header)}; {', '.join(missing)} missing of "
            f"{', '.join(wanted)}{hint}"
        )
    notes = []
    rows = lines[first + 1 :]
    while rows and not rows[-1].strip():
        rows.pop()
    if rows and rows[-1][:1] != "#" and rows[-1].count(",") < len(header) - 1:
        notes.append(f"line {first + 1 + len(rows)} was cut off and is left out")
        rows.pop()
    if len(rows) < FEWEST_ROWS:
        raise RecordError(f"{name} has {len(rows)} rows of numbers: record more.")
    at = [header.index(column) for column in present]
    try:
        numbers = np.loadtxt(rows, delimiter=",", usecols=at, ndmin=2)
    except ValueError:
        numbers = None
    if numbers is None or not np.all(np.isfinite(numbers)):
        raise _first_bad_cell(rows, first + 2, header, at, name)
    return Table({column: numbers[:, n] for n, column in enumerate(present)}, comments, tuple(notes))


def _first_bad_cell(
    rows: Sequence[str], first: int, header: Sequence[str], at: Sequence[int], name: str
) -> RecordError:
    for number, line in enumerate(rows, start=first):
        if not line.strip() or line[:1] == "#":
            continue
        cells = line.split(",")
        for column in at:
            cell = cells[column].strip() if column < len(cells) else ""
            try:
                good = bool(np.isfinite(float(cell)))
            except ValueError:
                good = False
            if not good:
                shown = f"“{cell}”" if cell else "nothing"
                return RecordError(
                    f"{name}:{number}: {header[column]}: found {shown}; a number is needed. Mend or delete the line."
                )
    return RecordError(f"{name}: a cell is no number.")


def check_times(table: Table, column: str, name: str) -> None:
    """Times must rise; what holes mean is for whoever reads the record.

    Raises:
        RecordError: time goes back or stands still.
    """
    time_s = table.columns[column]
    steps = np.diff(time_s)
    if np.any(steps <= 0):
        row = int(np.argmax(steps <= 0))
        raise RecordError(
            f"{name}: row {row + 2}: {column} goes from {time_s[row]:g} to {time_s[row + 1]:g}: time must rise. "
            "Sort the rows, or cut the record there."
        )
