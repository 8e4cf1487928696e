"""A finding over its runs, drawn: values with twice their standard uncertainty, and what was fitted."""

from __future__ import annotations

from rich.text import Text

from ublet.session.trends import FindingHistory
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import Graph, graph

ROWS = 16
LEAST_COLUMNS = 24


def trend_picture(one: FindingHistory, width: int) -> Text:
    """The picture in a number of columns; nothing where there is no room for it."""
    if width < LEAST_COLUMNS:
        return Text()
    ups = [2 * (u or 0.0) for u in one.uncertainties]
    low = min(value - u for value, u in zip(one.values, ups, strict=True))
    high = max(value + u for value, u in zip(one.values, ups, strict=True))
    room = 0.1 * (high - low) or max(1e-9, 0.1 * abs(high))
    cells = Cells(width, ROWS)
    last = len(one.values)
    drawn = graph(cells, 0, 0, (width, ROWS), (0.5, last + 0.5), (low - room, high + room), ("", "runs, oldest first"))
    for number, (value, u) in enumerate(zip(one.values, ups, strict=True), start=1):
        if u:
            drawn.line((number, number), (value - u, value + u), Ink.dim)
    _fitted(drawn, one)
    for number, value in enumerate(one.values, start=1):
        drawn.mark(number, value, "●", Ink.focus)
    return cells.text()


def _fitted(drawn: Graph, one: FindingHistory) -> None:
    """The line, or both sides of the step, that was fitted."""
    what, last = one.trend, len(one.values)
    if what is not None and what.kind == "creeps":
        tail = one.values[-what.count :]
        mean, first = sum(tail) / what.count, last - what.count + 1
        half = what.slope * (what.count - 1) / 2
        drawn.line((first, last), (mean - half, mean + half), Ink.proposal)
    elif what is not None and what.kind == "stepped":
        tail = one.values[-what.count :]
        first, split = last - what.count + 1, last - what.count + what.at
        for begins, ends, values in ((first, split, tail[: what.at]), (split + 1, last, tail[what.at :])):
            mean = sum(values) / len(values)
            drawn.line((begins - 0.3, ends + 0.3), (mean, mean), Ink.proposal)
