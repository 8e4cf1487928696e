"""Pressure advance from picks and widths against known values; where the lines lie, and which ranges make none."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import tern
from ublet.core.extrude.advance import (
    AdvanceEstimate,
    NoZero,
    evenest,
    finer_range,
    from_pick,
    from_widths,
    together,
    uneven_mm,
)
from ublet.core.extrude.advance_lines import (
    DIRECT_LINE,
    TUBE_LINE,
    LineKind,
    LinesParameters,
    layout_of,
    lines_program,
    proposed_range,
    values_of,
)
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.patterns import filament_for
from ublet.core.motion.program import SetAdvance, To, timetable
from ublet.core.run import TrialFailed
from ublet.session.document import Document
from ublet.session.library import machine_path

VALUES = [0.005 * number for number in range(21)]


def wren() -> MachineFile:
    return Document(machine_path("wren-180")).machine


def test_what_looks_even_is_centred_on_the_value_and_an_end_is_said() -> None:
    one, two = from_pick(VALUES, 8, 8), from_pick(VALUES, 10, 6)
    assert one.advance_s == two.advance_s == pytest.approx(0.04)
    assert 0.0025 < one.uncertainty_s < two.uncertainty_s < 0.006
    assert (one.at_end, from_pick(VALUES, 0, 2).at_end, from_pick(VALUES, 18, 20).at_end) == (0, -1, 1)


def test_several_looks_make_a_narrower_value_unless_they_disagree() -> None:
    first = AdvanceEstimate(0.04, 0.004)
    agreed, apart = together([first, AdvanceEstimate(0.041, 0.004)]), together([first, AdvanceEstimate(0.06, 0.004)])
    assert agreed.advance_s == pytest.approx(0.0405) and agreed.uncertainty_s < 0.003
    assert apart.advance_s == pytest.approx(0.05) and apart.uncertainty_s == pytest.approx(0.01)


def test_widths_cross_zero_at_the_true_value_and_two_uncertainties_cover_it() -> None:
    random, inside = np.random.default_rng(3), []
    for _ in range(300):
        values = np.linspace(0.02, 0.09, 6)
        differences = -4.0 * (values - 0.053) + random.uniform(-0.03, 0.03, 6) - random.uniform(-0.03, 0.03, 6)
        estimate = from_widths(values.tolist(), differences.tolist(), np.sqrt(2) * 0.03 / np.sqrt(3))
        inside.append(abs(estimate.advance_s - 0.053) <= 2 * estimate.uncertainty_s)
    assert 0.9 <= np.mean(inside) <= 0.995


@pytest.mark.parametrize(
    ("differences", "words"),
    [((0.1, 0.0), "three lines"), ((-0.2, 0.0, 0.2), "grow"), ((0.01, -0.01, 0.01), "do not change")],
)
def test_widths_that_contradict_one_another_make_no_value(differences: tuple[float, ...], words: str) -> None:
    with pytest.raises(NoZero, match=words):
        from_widths([0.02 * number for number in range(len(differences))], differences, 0.02)


SLOPES = np.array([0.1, 0.9, -0.4, -1.6, -1.2, -0.3])


def widths_at(values: np.ndarray, true_s: float, kind: LineKind) -> np.ndarray:
    """Widths whose variance is least at a value, though no two of them are alike there."""
    counts = np.array([place.counts_mm for place in kind.places]) / sum(place.counts_mm for place in kind.places)
    slopes = SLOPES - counts @ SLOPES
    left = np.array([0.02, -0.01, 0.01, 0.0, -0.02, 0.03])
    left = left - (counts * left) @ slopes / ((counts * slopes) @ slopes) * slopes
    return 0.55 + left + np.outer(values - true_s, SLOPES)


@pytest.mark.parametrize("kind", [DIRECT_LINE, TUBE_LINE], ids=["direct", "tube"])
def test_the_value_of_least_variance_is_found_and_two_uncertainties_cover_it(kind: LineKind) -> None:
    random, inside = np.random.default_rng(4), []
    values = np.linspace(0.3, 0.8, 6)
    plain = widths_at(values, 0.53, kind)
    exact = evenest(values.tolist(), plain.tolist(), kind.places, 0.0173, 0.0)
    assert exact.advance_s == pytest.approx(0.53)
    assert int(np.argmin([uneven_mm(row, kind.places) for row in plain])) == 2
    for _ in range(300):
        read = plain + random.uniform(-0.03, 0.03, plain.shape)
        estimate = evenest(values.tolist(), read.tolist(), kind.places, 0.0173, 0.0)
        inside.append(abs(estimate.advance_s - 0.53) <= 2 * estimate.uncertainty_s)
    assert 0.9 <= np.mean(inside) <= 0.995


@pytest.mark.parametrize(("factor", "words"), [(-1.0, "grow"), (0.0, "do not change")])
def test_places_that_contradict_one_another_make_no_value(factor: float, words: str) -> None:
    values = np.linspace(0.3, 0.8, 6)
    widths = 0.55 + factor * (widths_at(values, 0.53, TUBE_LINE) - 0.55)
    with pytest.raises(NoZero, match=words):
        evenest(values.tolist(), widths.tolist(), TUBE_LINE.places, 0.0173)
    with pytest.raises(NoZero, match="three lines"):
        evenest(values[:2].tolist(), widths[:2].tolist(), TUBE_LINE.places, 0.0173)


def test_a_finer_bracket_lies_around_the_value_and_never_below_zero() -> None:
    low, high, step = finer_range(AdvanceEstimate(0.05, 0.004))
    assert low < 0.04 and high > 0.06 and step < 0.005
    assert finer_range(AdvanceEstimate(0.004, 0.004))[0] == 0.0
    assert AdvanceEstimate(0.05, 0.004).worth_finer and not AdvanceEstimate(0.05, 0.001).worth_finer


def test_the_range_follows_drive_tube_and_material() -> None:
    direct, tube = tern(), wren()
    assert proposed_range(direct, "") == (0.1, 0.005)
    last, step = proposed_range(tube, "")
    assert last == 1.5 and step == 0.05
    soft = direct.materials["pla"].model_copy(update={"soft": True})
    bends = direct.model_copy(update={"materials": {"pla": soft}})
    assert proposed_range(bends, "pla")[0] == pytest.approx(0.25)


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"first_s": 0.1, "last_s": 0.05}, "must be above"),
        ({"last_s": 0.01, "step_s": 0.01}, "makes 2 lines"),
        ({"last_s": 3.0, "step_s": 0.005}, "makes 601 lines"),
        ({"fast_mm_s": 25.0}, "not much faster"),
    ],
)
def test_a_range_that_makes_no_lines_is_refused_with_what_would(changes: dict[str, float], words: str) -> None:
    with pytest.raises(TrialFailed, match=words) as failed:
        layout_of(tern(), LinesParameters(**changes))  # type: ignore[arg-type]
    assert failed.value.remedies


def test_more_lines_than_the_bed_has_room_for_are_refused() -> None:
    with pytest.raises(TrialFailed, match="has room for"):
        layout_of(wren(), LinesParameters(last_s=1.6, step_s=0.04))


@pytest.mark.parametrize("machine", [tern(), wren()], ids=["direct", "tube"])
def test_lines_lie_on_the_bed_carry_their_values_and_push_what_a_line_takes(machine: MachineFile) -> None:
    aim = LinesParameters()
    layout = layout_of(machine, aim)
    program, margin = lines_program(machine, layout), machine.bed.margin_mm
    for end in program.ends({"x": 0.0, "y": 0.0, "z": 10.0}):
        assert end["x"] == 0.0 or margin <= end["x"] <= machine.bed.width_mm - margin
        assert end["y"] == 0.0 or margin <= end["y"] <= machine.bed.depth_mm - margin
    values = [segment.seconds for segment in program.segments if isinstance(segment, SetAdvance)]
    assert values == list(values_of(machine, aim)) and len(set(values)) == len(layout.lines)
    line = layout.lines[4]
    mine = [s for s in program.segments if isinstance(s, To) and s.mm_s2 and s.at["y"] == line.y]
    assert [s.mm_s for s in mine] == [layout.slow_mm_s, layout.fast_mm_s, layout.slow_mm_s]
    assert sum(s.filament for s in mine) == pytest.approx(filament_for(line.x[3] - line.x[0], layout.stroke, 1.75))
    assert layout.lines[4].x[3] > layout.lines[3].x[3], "every fifth sticks out"
    heights = {True: set[float](), False: set[float]()}
    for segment, end in zip(program.segments, program.ends({"x": 0.0, "y": 0.0, "z": 10.0}), strict=True):
        if isinstance(segment, To) and segment.filament:
            heights[segment.mm_s2 > 0].add(end["z"])
    assert heights == {True: {2 * layout.stroke.height_mm}, False: {layout.stroke.height_mm}}, "each on a plain one"


def test_the_larger_the_value_the_more_gently_its_line_is_followed() -> None:
    machine = wren()
    caps = Caps(effective(machine))
    assert caps.with_advance(0.5).led_acceleration_mm_s2(0.04) == pytest.approx(3.0 / (0.5 * 0.04))
    layout = layout_of(machine, LinesParameters())
    program = lines_program(machine, layout)
    table = timetable(program, {"x": 0.0, "y": 0.0, "z": 10.0}, caps)
    seconds: dict[float, float] = {}
    now = 0.0
    for segment, timed in zip(program.segments, table.segments, strict=True):
        if isinstance(segment, SetAdvance):
            now = segment.seconds
        elif isinstance(segment, To) and segment.mm_s2 and segment.filament:
            seconds[now] = seconds.get(now, 0.0) + timed.seconds
    assert seconds[0.0] == pytest.approx(seconds[0.05], rel=0.01), "gentle on purpose: small values cost nothing"


def test_lines_are_no_faster_than_the_material_melts() -> None:
    machine = tern()
    slow = machine.materials["pla"].model_copy(update={"largest_flow_mm3_s": 6.0})
    hot = machine.model_copy(update={"materials": {"pla": slow}})
    layout = layout_of(hot, LinesParameters())
    section = filament_for(1.0, layout.stroke, 1.75) * np.pi * 1.75**2 / 4
    assert 5.8 < layout.fast_mm_s * section <= 6.0 < layout_of(machine, LinesParameters()).fast_mm_s * section
