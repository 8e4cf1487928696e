"""A board drawn in characters: its outline, its sockets on the edges, and what is plugged where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rich.text import Text

from ublet.core.machine.boards import BoardKind
from ublet.core.machine.wiring import Plug, state_of
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells

SIDE_COLUMNS, NARROW_SIDE_COLUMNS = 18, 15
"""Room for the labels at the left and at the right of the board; narrow: below NARROW columns in all."""

NARROW = 100
SOCKET_COLUMNS = 6
"""Columns from one socket to the next at the least, along the upper and lower edge."""

MARKS = {"free": "○", "used": "●", "doubly used": "✗", "wrong kind": "✗"}


@dataclass(frozen=True)
class Placed:
    """A socket with its place in the drawing: the cell of its mark."""

    name: str
    column: int
    row: int


def levels(columns: Sequence[int], labels: Sequence[str]) -> list[int]:
    """How far out each label stands, 0 nearest, so that labels written to the right of their leader lines cross none.

    columns must rise. A label that reaches over the next leader must stand further out than that one's label.
    """
    rows = [0] * len(columns)
    for number in range(len(columns) - 1, -1, -1):
        reach = columns[number] + len(labels[number]) + 1
        over = [rows[other] for other in range(number + 1, len(columns)) if columns[other] <= reach]
        rows[number] = 1 + max(over) if over else 0
    return rows


def draw_board(
    board: BoardKind, at: Mapping[str, list[Plug]], chosen: str, columns: int, rows: int
) -> tuple[list[Text], list[Placed]]:
    """The drawing in that many columns and rows, and where each socket stands in it."""
    side = SIDE_COLUMNS if columns >= NARROW else NARROW_SIDE_COLUMNS
    left, right = side, columns - side - 1
    top_names = _on(board, "top")
    bottom_names = _on(board, "bottom")
    labels = {name: ", ".join(plug.words for plug in at.get(name, [])) or "–" for name in board.sockets}
    top_columns = _along(board, top_names, left + 2, right - 5, SOCKET_COLUMNS)
    bottom_columns = _along(board, bottom_names, left + 2, right - 5, SOCKET_COLUMNS)
    sides = {edge: _on(board, edge) for edge in ("left", "right")}
    least = max(len(names) for names in sides.values()) + 3
    top_levels = levels(top_columns, [labels[name] for name in top_names])
    bottom_levels = levels(bottom_columns, [labels[name] for name in bottom_names])
    if max(top_levels, default=0) + max(bottom_levels, default=0) + least + 4 > rows:
        # no room to stand further out: each label keeps to the place up to the next one
        for names, places in ((top_names, top_columns), (bottom_names, bottom_columns)):
            for name, place, following in zip(names, places, [*places[1:], columns], strict=True):
                labels[name] = labels[name][: max(1, following - place - 1)]
        top_levels, bottom_levels = [0] * len(top_names), [0] * len(bottom_names)
    top = max(top_levels, default=0) + 2
    bottom = max(top + least, rows - max(bottom_levels, default=0) - 2)
    drawing = Cells(columns, max(rows, bottom + max(bottom_levels, default=0) + 2))
    roomy = bottom - top > least + 3
    line = Ink.faint
    drawing.put(left, top, "╭" + "─" * (right - left - 1) + "╮", line)
    for row in range(top + 1, bottom):
        drawing.put(left, row, "│", line)
        drawing.put(right, row, "│", line)
    drawing.put(left, bottom, "╰" + "─" * (right - left - 1) + "╯", line)
    size = f"{board.name}   {board.width_mm:g} x {board.height_mm:g} mm"
    middle, centre = (top + bottom) // 2, (left + right) // 2
    drawing.put(centre - len(size) // 2, middle, size, Ink.dim)
    placed: list[Placed] = []

    def style(name: str) -> str:
        state = state_of(name, at, board)
        if state in ("doubly used", "wrong kind"):
            return f"bold {Ink.stop}"
        return Ink.quiet if state == "free" else Ink.text

    def socket(name: str, column: int, row: int, before: bool) -> None:
        mark = MARKS[state_of(name, at, board)]
        words = f" {name} {mark}" if before else f"{mark} {name}"
        here = f"bold {Ink.ground} on {Ink.focus}" if name == chosen else style(name)
        drawing.put(column - len(words) + 1 if before else column, row, words, here)
        placed.append(Placed(name, column, row))

    for name, column, level in zip(top_names, top_columns, top_levels, strict=True):
        for row in range(top - 1 - level, top):
            drawing.put(column, row, "│", line)
        drawing.put(column, top, "┴", line)
        drawing.put(column, top - 1 - level, labels[name], style(name))
        socket(name, column, top + 1, False)
    for name, column, level in zip(bottom_names, bottom_columns, bottom_levels, strict=True):
        for row in range(bottom + 1, bottom + 1 + level):
            drawing.put(column, row, "│", line)
        drawing.put(column, bottom, "┬", line)
        drawing.put(column, bottom + 1 + level, labels[name], style(name))
        socket(name, column, bottom - 1, False)
    for names, places, row in ((top_names, top_columns, top + 2), (bottom_names, bottom_columns, bottom - 2)):
        for name, column in _firsts(board, names, places) if roomy else ():
            drawing.put(column, row, _kinds(board, name), Ink.quiet)
    for edge, before in (("left", False), ("right", True)):
        inset = 3 if roomy else 2
        places = _along(board, sides[edge], top + inset, bottom - inset, 1)
        for name, row in zip(sides[edge], places, strict=True):
            label = labels[name]
            if edge == "left":
                label = label[: side - 3]
                drawing.put(left - 2 - len(label), row, label, style(name))
                drawing.put(left - 1, row, "─┤", line)
                socket(name, left + 1, row, before)
                drawing.put(left + 5 + len(name), row, board.sockets[name].kind, Ink.quiet)
            else:
                drawing.put(right, row, "├─", line)
                drawing.put(right + 3, row, label[: side - 3], style(name))
                socket(name, right - 1, row, before)
                kind = board.sockets[name].kind
                drawing.put(right - 4 - len(name) - len(kind), row, kind, Ink.quiet)
    return [drawing.line(row) for row in range(drawing.height)], placed


def neighbour(placed: Sequence[Placed], chosen: str, across: int, down: int) -> str:
    """The next socket in a direction (-1, 0, 1 across and down); the same one when there is none."""
    here = next((socket for socket in placed if socket.name == chosen), None)
    if here is None:
        return placed[0].name if placed else chosen
    best, least = chosen, float("inf")
    for socket in placed:
        dx, dy = socket.column - here.column, 2 * (socket.row - here.row)
        ahead, aside = (dx * across, abs(dy)) if across else (dy * down, abs(dx))
        if ahead > 0 and ahead + 2.5 * aside < least:
            best, least = socket.name, ahead + 2.5 * aside
    return best


def _firsts(board: BoardKind, names: Sequence[str], columns: Sequence[int]) -> list[tuple[str, int]]:
    """The first of each run of sockets of one kind."""
    firsts: list[tuple[str, int]] = []
    for name, column in zip(names, columns, strict=True):
        if not firsts or board.sockets[firsts[-1][0]].kind != board.sockets[name].kind:
            firsts.append((name, column))
    return firsts


def _kinds(board: BoardKind, name: str) -> str:
    """The kind of a socket in words, as a heading over several."""
    kind = board.sockets[name].kind
    return kind if len(board.of_kind(kind)) == 1 else f"{kind}s"


def _on(board: BoardKind, edge: str) -> list[str]:
    names = [name for name, socket in board.sockets.items() if socket.edge == edge]
    return sorted(names, key=lambda name: board.sockets[name].at)


def _along(board: BoardKind, names: Sequence[str], first: int, last: int, apart: int) -> list[int]:
    """Cells of the sockets of an edge, true to their place, pushed apart where they would touch."""
    if len(names) > 1:
        apart = max(1, min(apart, (last - first) // (len(names) - 1)))
    cells = [first + round(board.sockets[name].at * (last - first)) for name in names]
    for number in range(1, len(cells)):
        cells[number] = max(cells[number], cells[number - 1] + apart)
    for number in range(len(cells) - 1, -1, -1):
        most = last if number == len(cells) - 1 else cells[number + 1] - apart
        cells[number] = min(cells[number], most)
    return cells
