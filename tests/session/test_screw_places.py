"""Where the screws stand: found by jogging over them, or with a rule where the head does not get."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.session.test_wire_trials import RIGHT, run
from ublet.session.library import scenario_path

WREN = scenario_path("wren-180").read_text(encoding="utf-8")


def test_a_screw_that_stands_elsewhere_is_found_and_the_others_stay(folder: Path) -> None:
    code, report = run("screw-places", folder, WREN)
    found = {f["id"]: (f["value"], f["uncertainty"]) for f in report["findings"]}
    assert code == 0
    for place, truth in (("screw_x.left-back", 11.5), ("screw_y.left-back", 151.0), ("screw_x.right-front", 172.0)):
        value, u = found[place]
        assert abs(value - truth) <= 2 * u
    assert {p["setting"] for p in report["proposals"]} == {
        "bed.screws.left-back.x_mm",
        "bed.screws.left-back.y_mm",
    }
    assert "left-back stands" in report["why"] and "station bed corners" in report["ways_out"][0]


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_beyond_the_heads_reach_a_rule_finds_it(folder: Path, seed: int) -> None:
    there = RIGHT.replace("[bed.screws.right]\n", "[bed.screws.right]\nx_mm = 303\ny_mm = 26\n")
    assert there != RIGHT
    code, report = run("screw-places", folder, there, seed=seed)
    found = {f["id"]: (f["value"], f["uncertainty"]) for f in report["findings"]}
    assert code == 0
    assert abs(found["screw_x.right"][0] - 303) <= 2 * found["screw_x.right"][1]
    assert abs(found["screw_y.right"][0] - 26) <= 2 * found["screw_y.right"][1]
