"""Layers: which one wins, what is shadowed, and what each way of settling does."""

from __future__ import annotations

import pytest

from ublet.session.layers import LayerRow, Settling, settled_values


@pytest.mark.parametrize(
    ("file", "image", "stored", "live", "wins", "shadowed", "outdated"),
    [
        (1, 1, None, 1, "image", False, False),
        (2, 1, None, 1, "image", False, True),
        (1, 1, 3, 3, "stored", True, False),
        (3, 1, 3, 3, "stored", False, False),
        (2, 1, 3, 3, "stored", True, True),
        (1, 1, None, 5, "kept", False, False),
        (1, 1, 3, 5, "kept", True, False),
        (None, 1, 3, 3, "stored", False, True),
        (15, 15.0, None, 15.0000001, "image", False, False),
        (True, True, None, True, "image", False, False),
    ],
)
def test_the_layer_that_wins_and_what_it_hides(
    file: float | None,
    image: float,
    stored: float | None,
    live: float,
    wins: str,
    shadowed: bool,
    outdated: bool,
) -> None:
    row = LayerRow("a.b", file, image, stored, live, True)
    assert (row.wins, row.shadowed, row.outdated) == (wins, shadowed, outdated)
    assert row.differs is (shadowed or outdated or wins == "kept")


def test_what_a_board_does_not_hold_has_only_the_file() -> None:
    row = LayerRow("machine.note", "x")
    assert (row.wins, row.shadowed, row.outdated, row.differs) == ("file", False, False, False)


@pytest.mark.parametrize(
    ("row", "way", "values"),
    [
        (LayerRow("a", 1, 1, 3, 3, True), "file", {"a": None}),
        (LayerRow("a", 2, 1, 3, 3, True), "file", {"a": 2}),
        (LayerRow("a", 1, 1, 3, 3, True), "stored", {}),
        (LayerRow("a", 1, 1, 3, 3, True), "adopt", {"a": 3}),
    ],
)
def test_each_way_of_settling(row: LayerRow, way: Settling, values: dict[str, object]) -> None:
    assert settled_values({"a": way}, {"a": row}) == values
