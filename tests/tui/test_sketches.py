"""What a station shows that has measured nothing yet, and what stands on a graph's edge."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from ublet.core.motion.planner import LinearMove, duration
from ublet.core.trial import Need
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph
from ublet.tui.shake.sketches import put_shapers, put_stops, put_times, square_s
from ublet.tui.trial.bench import needs_lines


@pytest.mark.parametrize("put", [put_shapers, put_stops, lambda cells, top: put_times(cells, top, 40.0, 100.0)])
def test_a_sketch_says_what_it_is_and_leaves_out_what_has_no_room(put: Callable[[Cells, int], None]) -> None:
    cells = Cells(84, 16)
    put(cells, 2)
    shown = cells.text().plain.split("\n")
    assert "what to expect, a sketch" in shown[-1] and len(shown[-1].rstrip()) < 84
    assert sum(bool(line.strip()) for line in shown[2:-1]) >= 3
    small = Cells(84, 10)
    put(small, 2)
    assert not small.text().plain.strip()


@pytest.mark.parametrize("mm_s2", [300.0, 1000.0, 12_000.0])
def test_the_squares_time_is_the_planners(mm_s2: float) -> None:
    sides = [
        LinearMove({axis: way}, 40.0, 100.0, mm_s2) for axis, way in (("x", 1.0), ("y", 1.0), ("x", -1.0), ("y", -1.0))
    ]
    planned = duration(sides, lambda before, after: 0.0)
    assert square_s(40.0, 100.0, np.array([mm_s2]))[0] == pytest.approx(planned, rel=1e-9)


def test_a_number_at_the_edge_of_a_graph_is_whole() -> None:
    cells = Cells(60, 20)
    graph(cells, 0, 0, (60, 20), (0.0, 20_000.0), (0.0, 1.0), ("", ""))
    assert "20000" in cells.text().plain


def test_a_need_that_its_line_has_no_room_for_begins_the_next() -> None:
    needs = [
        Need("from room, 23 °C", True),
        Need("below the maximum of 120 °C", True),
        Need("plate sensor reads", False),
    ]
    lines = needs_lines(needs, 52).plain.split("\n")
    assert [line.rstrip() for line in lines] == [
        "✓ from room, 23 °C   ✓ below the maximum of 120 °C",
        "✗ plate sensor reads",
    ]
    assert needs_lines([Need("x" * 60, True)], 40).plain.count("\n") == 0, "one that fits into no line stays"
