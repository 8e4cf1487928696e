"""The drawing of a board: labels and leader lines never cross, every socket is there, arrows reach them all."""

from __future__ import annotations

import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import machine_text
from ublet.core.machine.wiring import plugs
from ublet.session.library import boards
from ublet.tui.machine.wiring_picture import draw_board, levels, neighbour

AT = plugs(tomllib.loads(machine_text()))


@given(st.lists(st.tuples(st.integers(1, 12), st.text("abcdef", min_size=1, max_size=14)), max_size=12))
def test_labels_and_leaders_never_cross(gaps: list[tuple[int, str]]) -> None:
    columns: list[int] = []
    for gap, _ in gaps:
        columns.append((columns[-1] if columns else 0) + gap)
    labels = [label for _, label in gaps]
    found = levels(columns, labels)
    cells: dict[tuple[int, int], int] = {}
    for number, (column, level) in enumerate(zip(columns, found, strict=True)):
        used = [(column, row) for row in range(level)]
        used += [(column + offset, level) for offset in range(len(labels[number]))]
        for cell in used:
            assert cells.setdefault(cell, number) == number


@pytest.mark.parametrize(("columns", "rows"), [(84, 16), (100, 22), (116, 34), (200, 60)])
@pytest.mark.parametrize("name", ["larch-6", "alder-4", "rowan-8"])
def test_every_socket_is_drawn_once_and_can_be_reached(name: str, columns: int, rows: int) -> None:
    board = boards()[name]
    lines, placed = draw_board(board, AT if name == "larch-6" else {}, "", columns, rows)
    text = "\n".join(line.plain for line in lines)
    assert all(len(line.plain) <= columns for line in lines)
    words = text.replace("●", " ").replace("○", " ").split()
    for socket in board.sockets:
        assert words.count(socket) == 1, socket
    assert len({(each.column, each.row) for each in placed}) == len(board.sockets)
    reached, todo = set(), [placed[0].name]
    while todo:
        here = todo.pop()
        if here not in reached:
            reached.add(here)
            todo += [neighbour(placed, here, dx, dy) for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1))]
    assert reached == set(board.sockets)


def test_what_is_plugged_in_is_named_and_a_double_use_marked() -> None:
    doubled = {**AT, "I1": AT["I1"] + AT["I2"]}
    lines, _ = draw_board(boards()["larch-6"], doubled, "M1", 116, 34)
    text = "\n".join(line.plain for line in lines)
    for words in ("Z right", "probe servo", "hotend fan", "extruder", "✗─├ X endstop, Y"):
        assert words.replace("✗─├", "I1 ✗├─") in text, words
