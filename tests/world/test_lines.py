"""Lines as they come out: thick after slowing down, even at the right pressure advance, thin where it is too much."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from ublet.core.motion.patterns import Stroke, filament_for
from ublet.core.sockets import Pace
from ublet.world.extrude import ExtruderTruth, Filament
from ublet.world.laid import Laid
from ublet.world.line_truth import LineLaid, evenest_advance_s, laid_widths
from ublet.world.mechanics import MotorTruth, Stretch

MOTOR = MotorTruth("extruder", turn_mm=11.5, torque_nm_a=1.0)
MELT = (210.0, 0.7)
LINE = LineLaid(((25.0, 20.0), (40.0, 90.0), (25.0, 20.0)), filament_for(1.0, Stroke(0.55, 0.2), 1.75), 0.2, 1000.0)


def linear(spring_n_mm: float) -> ExtruderTruth:
    """A melt whose force is in proportion to its speed: it has one time constant, 4 N/(mm/s) over the spring."""
    return ExtruderTruth(bite_share=0.0, thinning=1.0, melts_mm_s=1e6, grip_n=1e4, spring_n_mm=spring_n_mm)


def at(rows: np.ndarray, low: float, high: float) -> float:
    inside = rows[(rows[:, 0] > low) & (rows[:, 0] < high)]
    return float(inside[:, 1].mean())


def test_a_line_is_as_wide_as_planned_where_nothing_changes() -> None:
    assert at(laid_widths(linear(60.0), MOTOR, MELT, LINE, 0.0), 15, 24) == pytest.approx(0.55, abs=0.005)


def test_too_little_bulges_after_slowing_down_and_too_much_is_thin_there() -> None:
    truth = linear(60.0)
    for advance_s, sign in ((0.0, 1), (0.15, -1)):
        rows = laid_widths(truth, MOTOR, MELT, LINE, advance_s)
        assert sign * (at(rows, 65, 68) - at(rows, 15, 24)) > 0.1, advance_s
        assert sign * (at(rows, 25, 28) - at(rows, 15, 24)) < -0.05, advance_s


@pytest.mark.parametrize("spring", [30.0, 60.0, 110.0])
def test_a_linear_melt_is_evenest_at_its_own_time_constant(spring: float) -> None:
    found = evenest_advance_s(linear(spring), MOTOR, MELT, LINE, 0.4)
    assert found == pytest.approx(4.0 / spring, rel=0.03)


def test_a_wall_laid_in_long_steady_pieces_is_as_wide_everywhere() -> None:
    laid = Laid(Filament(ExtruderTruth(), None, np.random.default_rng(1)))
    filament = 0.04 * 20
    for layer in range(4):
        stretch = Stretch(0.0, 20.0, {"x": 1.0}, {"extruder": 0.04})
        z = 0.2 + 0.2 * layer
        ends = ({"x": 0.0, "y": 10.0, "z": z}, {"x": 20.0, "y": 10.0, "z": z})
        pieces = [(1.0, filament)] if layer % 2 == 0 else [(0.05, filament / 20)] * 20
        laid.follow(stretch, Pace(20.0, 0.0, 1.0), 0.0, pieces, ends, z)
    widths = laid.region((0.0, 20.0), (9.7, 10.3), (0.1, 0.7))[:, 2]
    assert len(widths) >= 60 and np.ptp(widths) < 1e-6, "each layer lies on the one below"


def test_a_line_begins_with_the_pressure_of_the_one_before() -> None:
    truth = ExtruderTruth(bite_share=0.0, thinning=1.0, melts_mm_s=1e6, grip_n=1e4, spring_n_mm=4.0, play_mm=0.3)
    first, later = (laid_widths(truth, MOTOR, MELT, replace(LINE, drawn_mm=drawn), 0.0) for drawn in (None, 2.0))
    begins = at(first, 0, 10), at(later, 0, 10)
    assert begins[0] < 0.7 * begins[1], "cold, it would begin thin"


def test_what_lies_along_a_line_is_found_again_and_what_lies_elsewhere_is_not() -> None:
    laid = Laid(Filament(ExtruderTruth(), None, np.random.default_rng(1)))
    for y, filament in ((10.0, 0.04), (14.0, 0.08)):
        stretch = Stretch(0.0, 10.0, {"x": 1.0}, {"extruder": filament})
        ends = ({"x": 0.0, "y": y}, {"x": 10.0, "y": y})
        laid.follow(stretch, Pace(10.0, 0.0, 1.0), 0.0, [(0.05, filament / 2)] * 20, ends, 0.2)
    rows = laid.region((2.5, 6.5), (9.7, 10.3), (0.0, 1.0))[:, [0, 2, 3]]
    assert rows[:, 0].tolist() == pytest.approx([3.0, 3.5, 4.0, 4.5, 5.0, 5.5, 6.0, 6.5])
    section = 0.04 * np.pi * 1.75**2 / 4
    assert rows[0, 1] == pytest.approx(section / 0.2 + 0.2 * (1 - np.pi / 4))
