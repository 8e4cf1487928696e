"""What a new part could hit: every end slowly, stopped where it binds, and a limit before that."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.session.test_wire_trials import RIGHT, run
from ublet.core.acts import ClearWay
from ublet.core.questions import Live
from ublet.session.library import scenario_path

WREN = scenario_path("wren-180").read_text(encoding="utf-8")


def found(report: dict[str, object]) -> dict[str, tuple[float, float]]:
    return {f["id"]: (f["value"], f["uncertainty"]) for f in report["findings"]}  # type: ignore[union-attr,index,attr-defined]


@pytest.mark.parametrize("text", [RIGHT, WREN])
def test_a_machine_that_touches_nothing_is_said_to_be_free(folder: Path, text: str) -> None:
    code, report = run("part-clearance", folder, text)
    assert (code, report["proposals"]) == (0, []) and "touch nothing" in report["why"]


@pytest.mark.parametrize(
    ("axis", "end", "mm", "path", "limit"),
    [
        ("x", "high_mm", 171.3, "axes.x.maximum_mm", 170.0),
        ("y", "high_mm", 150.2, "axes.y.maximum_mm", 149.0),
        ("z", "high_mm", 161.4, "axes.z.maximum_mm", 160.0),
    ],
)
def test_where_a_part_binds_becomes_a_limit_though_steps_were_lost(
    folder: Path, axis: str, end: str, mm: float, path: str, limit: float
) -> None:
    table = f"[carriages.{axis}]\n"
    text = WREN.replace(table, f"{table}{end} = {mm}\n") if table in WREN else f"{WREN}\n{table}{end} = {mm}\n"
    code, report = run("part-clearance", folder, text)
    value, u = found(report)[f"free_high.{axis}"]
    assert code == 1 and abs(value - mm) <= 2 * u + 0.5, "it was jogged back by half a millimetre at a time"
    (proposal,) = report["proposals"]
    assert proposal["setting"] == path and mm - 2.5 <= proposal["after"] <= mm - 0.5
    assert abs(proposal["after"] - limit) <= 0.51


def test_at_the_homed_end_no_limit_helps_and_what_bound_before_homing_is_kept(folder: Path) -> None:
    code, report = run("part-clearance", folder, WREN.replace("[carriages.x]\n", "[carriages.x]\nlow_mm = 6\n"))
    before, u = found(report)["bound_before_end.x"]
    assert code == 0 and abs(before - 6) <= 2 * u, report["why"]


def test_any_key_is_a_word_of_the_question_and_a_hand_clears_the_way() -> None:
    asked = Live("", ("it touches: stop",), any_key=True)
    assert asked.taken("it") == "it touches: stop"
    assert ClearWay("x", "low").by_hand
