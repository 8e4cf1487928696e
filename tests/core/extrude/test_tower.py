"""The tower: which value lies at which height, that it closes on itself, what marks its heights, what is refused."""

from __future__ import annotations

import math

import numpy as np
import pytest

from tests.conftest import tern
from tests.core.extrude.test_advance import wren
from ublet.core.extrude.advance_tower import (
    BAND_MM,
    NOTCH_MM,
    NOTCH_WIDE_MM,
    AdvanceTowerParameters,
    bands_done,
    tower_of,
    tower_program,
)
from ublet.core.extrude.pattern_print import must_lie_on_mesh
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.program import SetAdvance, To
from ublet.core.run import TrialFailed

START = {"x": 0.0, "y": 0.0, "z": 10.0}


@pytest.mark.parametrize("machine", [tern(), wren()], ids=["direct", "tube"])
def test_the_value_rises_with_height_as_it_is_said(machine: MachineFile) -> None:
    layout = tower_of(machine, AdvanceTowerParameters())
    program = tower_program(machine, layout)
    value, seen = 0.0, []
    for segment, end in zip(program.segments, program.ends(START), strict=True):
        if isinstance(segment, SetAdvance):
            value = segment.seconds
            assert value == pytest.approx(layout.first_s + layout.step_s_mm * end["z"], abs=1e-5)
            seen.append(end["z"])
    assert seen == sorted(seen) and len(seen) == layout.layers
    band = next(band for band in layout.bands if band.low_mm <= 12.2 < band.high_mm)
    assert band.value_s == pytest.approx(layout.value_at((band.low_mm + band.high_mm) / 2))
    assert layout.bands[-1].high_mm == pytest.approx(BAND_MM * len(layout.bands))


def test_every_layer_closes_and_a_notch_lies_in_front_every_five_millimetres() -> None:
    layout = tower_of(tern(), AdvanceTowerParameters())
    program = tower_program(tern(), layout)
    begins: dict[float, tuple[float, float]] = {}
    laid: dict[float, list[tuple[float, float]]] = {}
    here = (0.0, 0.0)
    for segment, end in zip(program.segments, program.ends(START), strict=True):
        if isinstance(segment, To) and segment.filament and end["y"] > layout.y[0] - 1:
            begins.setdefault(end["z"], here)
            laid.setdefault(end["z"], []).append((end["x"], end["y"]))
        here = (end["x"], end["y"])
    assert all(ways[-1] == pytest.approx(begins[z]) for z, ways in laid.items()), "closed"
    notched = [z for z, ways in laid.items() if ways[-1][1] == pytest.approx(layout.y[0] + NOTCH_MM)]
    assert [round(z / 5) for z in notched] == list(range(1, int(layout.high_mm / 5) + 1))
    assert max(abs(z - 5 * round(z / 5)) for z in notched) <= 0.15 + 1e-9
    middle = sum(layout.x) / 2
    for ways in laid.values():
        inside = [x for x, y in ways if layout.y[0] < y < layout.y[1]]
        assert all(abs(x - middle) <= NOTCH_WIDE_MM for x in inside), "nothing but the notch lies further in"
        assert {min(x for x, _ in ways), max(x for x, _ in ways)} == set(layout.x)


def test_sides_in_turn_are_slow_and_fast_and_filament_is_that_of_their_lines() -> None:
    layout = tower_of(tern(), AdvanceTowerParameters())
    sides = [
        segment
        for segment, end in zip(
            tower_program(tern(), layout).segments, tower_program(tern(), layout).ends(START), strict=True
        )
        if isinstance(segment, To) and segment.filament and 7.9 < end["z"] < 8.2
    ]
    assert [side.mm_s for side in sides] == [20.0, 90.0, 20.0, 90.0, 20.0]
    lengths = [layout.x[1] - layout.x[0], layout.y[1] - layout.y[0]]
    section = layout.stroke.section_mm2 / (math.pi * 1.75**2 / 4)
    assert sum(side.filament for side in sides) == pytest.approx(2 * sum(lengths) * section)


def test_what_was_printed_of_it_are_its_lower_bands() -> None:
    layout = tower_of(tern(), AdvanceTowerParameters())
    done = bands_done(layout, [band.place for band in layout.bands[:4]])
    assert [band.number for band in done] == [1, 2, 3, 4]


@pytest.mark.parametrize(
    ("changes", "words"),
    [({"first_s": 0.1, "last_s": 0.05}, "must be above"), ({"fast_mm_s": 22.0}, "not much faster")],
)
def test_a_tower_that_shows_nothing_is_refused(changes: dict[str, float], words: str) -> None:
    with pytest.raises(TrialFailed, match=words) as failed:
        tower_of(tern(), AdvanceTowerParameters(**changes))  # type: ignore[arg-type]
    assert failed.value.remedies


def test_a_pattern_off_the_mesh_is_refused_and_its_purge_line_may_be() -> None:
    program = tower_program(tern(), tower_of(tern(), AdvanceTowerParameters()))
    covers = Mesh(np.array([60.0, 220.0]), np.array([60.0, 220.0]), np.zeros((2, 2)))
    must_lie_on_mesh(program, covers, START)
    must_lie_on_mesh(program, None, START)
    beside = Mesh(np.array([10.0, 110.0]), np.array([60.0, 220.0]), np.zeros((2, 2)))
    with pytest.raises(TrialFailed, match="outside of the live mesh") as failed:
        must_lie_on_mesh(program, beside, START)
    assert "station bed mesh" in failed.value.remedies[0].words
