"""A print's plan: the same times as the planner's, layers, and what does not fit, by line."""

from __future__ import annotations

import random
from itertools import pairwise

import numpy as np
import pytest

from ublet.core.machine.effective import effective
from ublet.core.motion.caps import Caps
from ublet.core.motion.many_lines import corner_speeds, many_lines, seconds_of
from ublet.core.motion.print_plan import MeltLimits, PrintPlan, plan_of, reader_for, resumed, timetable_of
from ublet.core.motion.program import Program, Push, To, timetable
from ublet.session.document import Document
from ublet.session.library import DEMOS, machine_path

MELT = MeltLimits("pla", 180.0, 8.0, 215.0)
START = {"x": 5.0, "y": 5.0, "z": 10.0}


def planned(text: str, stem: str = "tern-280", melt: MeltLimits = MELT) -> PrintPlan:
    document = Document(machine_path(stem))
    caps = Caps(effective(document.machine), document.board.steps_per_s)
    start = tuple(START.values())
    read = reader_for(document.machine, start).read(line.encode() for line in text.splitlines())
    return plan_of(read, document.machine, caps, start, melt)


@pytest.mark.parametrize("stem", DEMOS.values())
@pytest.mark.parametrize("cornering", ["jerk", "deviation"])
def test_many_lines_at_once_take_as_long_as_one_by_one(stem: str, cornering: str) -> None:
    """Against the planner that the board follows: other code, the same definitions."""
    document = Document(machine_path(stem))
    values = {**effective(document.machine), "motion.cornering": cornering}
    caps, rng = Caps(values, document.board.steps_per_s), random.Random(4)
    segments: list[To | Push] = []
    here = dict(START)
    for _ in range(300):
        at = {axis: min(150.0, max(5.0, here[axis] + rng.uniform(-1, 1) * rng.choice([0.2, 2, 30]))) for axis in "xy"}
        at |= {"z": rng.uniform(0, 20)} if rng.random() < 0.05 else {}
        segments.append(To(at, rng.choice([20.0, 80.0, 400.0]), rng.choice([0.0, 0.25])))
        here |= at
        segments += [Push(-0.8, 30.0)] if rng.random() < 0.05 else []
    program = Program("any", tuple(segments))
    expected = timetable(program, START, caps)
    ends = [START, *program.ends(START)]
    travel = np.array([[b[axis] - a[axis] for axis in "xyz"] for a, b in pairwise(ends)])
    pushed = np.array([segment.filament for segment in segments])
    feed = np.array([segment.mm_s for segment in segments])
    lines = many_lines(np.column_stack([travel, pushed]), feed, caps)
    seconds = seconds_of(lines, corner_speeds(lines, caps))
    assert np.allclose(seconds, [timed.seconds for timed in expected.segments], atol=1e-9)
    assert lines.capped == expected.capped


def test_layers_spans_filament_and_time() -> None:
    text = "F1200\nG0 X20 Y20 Z0.2\nG1 X60 E1\nG1 Y60 E2\nG0 Z1\nG0 X20 Y20\nG0 Z0.4\nG1 X60 E3\nG4 P2\nG1 Y60 E4"
    plan = planned(text)
    assert [(layer.first, layer.z_mm) for layer in plan.layers] == [(1, 0.2), (6, 0.4)]
    assert plan.span_mm == {"x": (20, 60), "y": (20, 60), "z": (0.2, 1)} and plan.filament_mm == pytest.approx(4)
    assert plan.duration_s > 2 + (4 * 40) / 20 and plan.fits
    assert [plan.layer_at(move) for move in (0, 1, 5, 6)] == [-1, 0, 0, 1]
    table = timetable_of(plan, "print")
    places = [segment.place for segment in table.program.segments]
    assert places[0] == "begin" and places[1] == "layer 1 of 2" and places[6] == "layer 2 of 2"
    caps = Caps(effective(Document(machine_path("tern-280")).machine))
    again = timetable(Program("same", tuple(table.program.segments)), START, caps)
    assert again.seconds == pytest.approx(table.seconds, rel=1e-3), "as segments they are the same print"


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("F600\nG0 X20\nG1 X999 E1\nG1 X998 E2", 3, "X 999 mm is above its limits"),
        ("F600\nG0 Z-20", 2, "is below its limits"),
        ("F9000\nG0 X20 Z0.2\nG1 X60 E9", 3, "mm³/s are pushed: pla melts 8 at the most"),
        ("", 1, "no move stands in it"),
    ],
)
def test_what_does_not_fit_is_named_by_line(text: str, line: int, words: str) -> None:
    plan = planned(text)
    assert not plan.fits
    assert (plan.problems[0].line, words in plan.problems[0].text) == (line, True), plan.problems


def test_colder_than_the_material_is_named_and_the_mesh_is_advice() -> None:
    cold = planned("F600\nG0 X20 Z0.2\nG1 X60 E1", melt=MeltLimits("asa", 210.0, None, 200.0))
    assert "filament at 200 °C: asa is pushed from 210 °C on" in cold.problems[0].text
    counted = "\n".join(
        ["F600", "G0 X20 Y20 Z0.2", *(f"G1 X{20 + n % 50} Y{20 + n % 40} E{0.5 - n % 2 * 0.2}" for n in range(60))]
    )
    assert "may be counted from where it stands" in planned(counted).advice[0].text


def test_a_print_that_is_gone_on_with_begins_over_its_layer() -> None:
    text = "F1200\nG0 X20 Y20 Z0.2\nG1 X60 E1\nG0 X20 Y20 Z0.4\nG1 X60 E2\nG1 Y60 E3"
    plan = planned(text)
    table = resumed(plan, plan.layers[1].first, 10.0, 0.8)
    segments = table.program.segments
    assert segments[0] == To({"z": 10.4}, 60.0, place="over the print") and segments[1].at == {"x": 20.0, "y": 20.0}  # type: ignore[union-attr]
    assert segments[3] == Push(1.8, 5.0) and segments[4].place == "layer 2 of 2" and len(segments) == 6
    assert table.segments[4].begins_s == pytest.approx(10.0)
