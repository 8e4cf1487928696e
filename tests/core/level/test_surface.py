"""Surfaces, reach, screws, lifts, offsets: against closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.level.coil.curve import must_go_on_reading
from ublet.core.level.probe.offset_trials import DROP_MM, DROP_U_MM, GaugeTouch, offset_of, side_words
from ublet.core.level.probe.place_trials import place_words, sits
from ublet.core.level.reach import must_reach, reach_of
from ublet.core.level.scatter import jump_of, pooled_u_mm, scatter_of
from ublet.core.level.support.lifts import answered, corrections, fault_of, spread_apart, standing_of
from ublet.core.level.support.screws import screw_heights, staying, tilt_over, turn_for, turn_words, turns_for
from ublet.core.level.surface import fit_surface
from ublet.core.machine.level_parts import Screw
from ublet.core.run import TrialFailed
from ublet.core.small_samples import student
from ublet.session.document import Document
from ublet.session.library import machine_path

CORNERS = ((0.0, 0.0), (200.0, 0.0), (200.0, 100.0), (0.0, 100.0))
slope = st.floats(-0.02, 0.02)


@given(slope, slope, st.floats(-3, 3))
def test_a_plane_is_found_again_and_leaves_nothing(a: float, b: float, c: float) -> None:
    places = [(x, y) for x in (0, 50, 200) for y in (0, 30, 100)]
    surface = fit_surface(places, [c + a * x + b * y for x, y in places])
    assert surface.slope == pytest.approx((a, b), abs=1e-9)
    assert surface.at((300, -40)) == pytest.approx(c + 300 * a - 40 * b, abs=1e-9)
    assert surface.left_range_mm < 1e-9
    assert tilt_over(surface, 200, 100) == pytest.approx((200 * a, 100 * b), abs=1e-9)


def test_a_twisted_plane_goes_through_four_corners_and_a_line_has_no_slope_across() -> None:
    twisted = fit_surface(CORNERS, [0.0, 0.2, -0.1, 0.3], "twisted")
    assert [twisted.at(place) for place in CORNERS] == pytest.approx([0.0, 0.2, -0.1, 0.3])
    line = fit_surface([(0.0, 50.0), (200.0, 50.0)], [0.1, 0.3], "line")
    assert line.slope == pytest.approx((0.001, 0.0)) and line.at((100.0, 0.0)) == pytest.approx(0.2)
    with pytest.raises(ValueError, match="two places"):
        fit_surface([(0.0, 0.0)], [1.0])


def test_the_uncertainty_of_a_plane_is_that_of_many_drawn_ones() -> None:
    places, random = [(x, y) for x in (0, 100, 200) for y in (0, 50, 100)], np.random.default_rng(3)
    drawn = [fit_surface(places, random.normal(0, 0.01, 9)) for _ in range(3000)]
    for place in ((0.0, 0.0), (260.0, 130.0)):
        claimed = drawn[0].uncertainty_at(place, 0.01)
        assert claimed == pytest.approx(np.std([each.at(place) for each in drawn]), rel=0.05)
    assert drawn[0].slope_u(0.01)[0] == pytest.approx(np.std([each.slope[0] for each in drawn]), rel=0.05)


def test_the_reach_is_travel_shifted_cut_with_the_bed() -> None:
    tern = Document(machine_path("tern-280")).machine
    reach = reach_of(tern)
    assert reach.x == pytest.approx((6.0, 247.5)) and reach.y == pytest.approx((6.0, 254.0))
    assert reach.nozzle((100.0, 100.0)) == (138.0, 106.5)
    assert len(reach.grid(3, 5)) == 15 and reach.grid(3, 5)[2][0] == reach.grid(3, 5)[3][0], "serpentine"
    with pytest.raises(TrialFailed, match=r"bed 270.0, 10.0 \(nozzle 308.0, 16.5\) is out of reach: along X"):
        must_reach(reach, (270.0, 10.0))
    far = tern.model_copy(update={"probe": tern.probe.model_copy(update={"offset_x_mm": -290.0})})  # type: ignore[union-attr]
    with pytest.raises(TrialFailed, match="reaches no place of the bed along X"):
        reach_of(far)


@pytest.mark.parametrize(
    ("clockwise", "raises", "way"),
    [("lowers", 0.25, False), ("lowers", -0.25, True), ("raises", 0.25, True), ("raises", -0.25, False)],
)
def test_a_screw_turns_the_way_that_its_thread_asks_for(clockwise: str, raises: float, way: bool) -> None:
    turn = turn_for(Screw(x_mm=0, y_mm=0, pitch_mm=0.5, clockwise=clockwise), raises)  # type: ignore[arg-type]
    assert turn.turns == 0.5 and turn.degrees == 180 and turn.clockwise is way
    assert f"1/2 turn {'clockwise' if way else 'counter-clockwise'} (6.0 h on the clock, 180°" in turn.words
    assert turn.words.endswith("raises 0.25 mm" if raises > 0 else "lowers 0.25 mm")


def test_turns_bring_a_tilted_plane_level_by_lowering_what_is_high() -> None:
    screws = {f"s{n}": Screw(x_mm=x, y_mm=y, pitch_mm=0.7) for n, (x, y) in enumerate(CORNERS)}
    surface = fit_surface(CORNERS, [0.0, 0.4, 0.6, 0.2])
    stays = staying({"s0": 0.0, "s1": 0.4})
    assert stays == "s0" and staying({"s0": 0.0, "s1": 0.4}, "s1") == "s1"
    turns = turns_for(screws, screw_heights(screws, surface), "s0")
    assert [turn.raises_mm for turn in turns.values()] == pytest.approx([0.0, -0.4, -0.6, -0.2])
    assert turns["s0"].rests and turns["s0"].words == "stays" and not turns["s3"].rests
    assert [turn_words(t) for t in (0.125, 1.25, 3.0, 0.03)] == ["1/8 turn", "1 1/4 turns", "3 turns", "0.03 turn"]


PIVOTS = {"left": (-18.0, 30.0), "right": (298.0, 30.0), "back": (140.0, 282.0)}
PLACES = ((6.0, 30.0), (240.0, 30.0), (140.0, 250.0))


def standing(left: float, right: float, back: float, u: float = 0.003):  # type: ignore[no-untyped-def]
    """A bed that stands so much too high at its lifts."""
    plane = fit_surface(list(PIVOTS.values()), [left, right, back])
    return standing_of(PIVOTS, PLACES, [plane.at(place) for place in PLACES], u)


def test_lifts_are_moved_by_the_surface_at_their_pivots_not_at_the_probe() -> None:
    stands = standing(0.3, -0.2, -0.1)
    assert stands.heights == pytest.approx({"left": 0.3, "right": -0.2, "back": -0.1}, abs=1e-9)
    assert stands.range_mm == pytest.approx(0.5) and stands.uncertainty_mm > 0.003, "extrapolated beyond the probe"
    assert corrections(stands, math.inf) == pytest.approx(stands.heights)
    small = corrections(stands, 0.15)
    assert max(map(abs, small.values())) == pytest.approx(0.15) and sum(small.values()) == pytest.approx(0.0, abs=1e-9)


@pytest.mark.parametrize(
    ("does", "words"),
    [
        ({"left": "right", "right": "left", "back": "back"}, "left and right are on each other's drivers"),
        ({"left": "left", "right": "back", "back": "right"}, "right and back are on each other's drivers"),
        ({"left": "-left", "right": "right", "back": "back"}, "left runs backwards"),
        (
            {"left": "right", "right": "back", "back": "left"},
            "the motors are plugged in a ring: left is on the driver of right, right is on the driver of back and back "
            "is on the driver of left",
        ),
    ],
)
def test_what_is_wrong_with_the_lifts_is_named_from_how_the_bed_moved(does: dict[str, str], words: str) -> None:
    before = standing(0.45, -0.3, -0.15)
    moves = spread_apart(corrections(before, 0.4))
    moved = {name: (-1 if what[0] == "-" else 1) * moves[what.lstrip("-")] for name, what in does.items()}
    after = standing(*(before.heights[name] - moved[name] for name in PIVOTS))
    assert not answered(moves, before, after)
    fault = fault_of(moves, before, after)
    assert fault is not None and fault.words == words
    plugged = {name: what for name, what in does.items() if what.lstrip("-") != name}
    assert dict(fault.exchanged) == plugged, "each socket is named once"


def test_lifts_that_go_twice_as_far_are_told_and_good_ones_are_not_accused() -> None:
    before = standing(0.45, -0.3, -0.15)
    moves = corrections(before, 0.3)
    twice = standing(*(before.heights[name] - 2 * moves[name] for name in PIVOTS))
    fault = fault_of(moves, before, twice)
    assert fault is not None and fault.words == "every lift moves twice the commanded distance"
    good = standing(*(before.heights[name] - 0.9 * moves[name] for name in PIVOTS))
    assert answered(moves, before, good)
    assert fault_of(dict.fromkeys(moves, 0.01), before, twice) is None, "too small a move tells nothing"


def test_scatter_drift_outliers_and_jumps_of_touches() -> None:
    random = np.random.default_rng(1)
    steady = random.normal(0.0, 0.005, 400)
    found = scatter_of(steady)
    assert found.deviation_mm == pytest.approx(0.005, rel=0.1) and not found.drifts and found.outliers == ()
    assert found.deviation_u_mm == pytest.approx(0.005 / math.sqrt(2 * 398), rel=0.2)
    drifting = scatter_of(steady[:20] + 0.004 * np.arange(20))
    assert drifting.drifts and drifting.drift_mm == pytest.approx(0.004, abs=2 * drifting.drift_u_mm)
    thrown = steady[:15].copy()
    thrown[4] += 0.2
    assert scatter_of(thrown).outliers == (4,)
    knocked = steady[:12].copy()
    knocked[7:] += 0.06
    jump = jump_of(knocked)
    assert jump is not None and jump.number == 7 and jump.mm == pytest.approx(0.06, abs=0.01)
    assert jump_of(steady[:12]) is None and jump_of(steady[:12] + 0.01 * np.arange(12)) is None
    with pytest.raises(ValueError, match="three"):
        scatter_of([0.1, 0.2])


@pytest.mark.parametrize("count", [5, 6, 8, 12, 20, 30])
def test_few_sound_touches_are_hardly_ever_called_outliers(count: int) -> None:
    random = np.random.default_rng(count)
    accused = sum(bool(scatter_of(random.normal(0.0, 0.004, count)).outliers) for _ in range(800))
    assert accused / 800 < 0.02


def test_students_factor_covers_as_it_claims() -> None:
    from scipy import stats

    for freedom in (1, 2, 3, 4, 5, 7, 12, 40):
        assert student(freedom) == pytest.approx(stats.t.ppf(0.97725, freedom) / 2.0, rel=0.005)


def test_pooled_touches_cover_their_mean_even_from_a_few() -> None:
    random, covered = np.random.default_rng(5), 0
    for _ in range(2000):
        series = random.normal(0.0, 0.006, (3, 2))
        covered += abs(series[0].mean()) <= 2 * pooled_u_mm(series.tolist()) / math.sqrt(2)
    assert 0.93 <= covered / 2000 <= 0.99


def test_the_offset_is_touch_less_gauge_less_trigger_and_more_negative_is_nearer() -> None:
    touches = [GaugeTouch(1.60, 0.02), GaugeTouch(1.61, 0.03), GaugeTouch(1.59, 0.01)]
    hot = offset_of(touches, 0.1, 0.01, hot=True)
    assert hot.mm == pytest.approx(-1.675) and hot.uncertainty_mm < 0.012
    cold = offset_of(touches, 0.1, 0.01, hot=False)
    assert cold.uncertainty_mm == pytest.approx(math.hypot(hot.uncertainty_mm, DROP_U_MM))
    assert cold.mm == pytest.approx(hot.mm - DROP_MM), "the drop drags first"
    without = offset_of([GaugeTouch(0.0, 0.15)], 0.1, 0.01, hot=True, former_mm=-0.2)
    assert without.mm == pytest.approx(-0.145)
    assert side_words(-0.12) == "0.120 mm nearer to the bed" and side_words(0.05).endswith("further from the bed")
    with pytest.raises(ValueError, match="no touches"):
        offset_of([], 0.1, 0.01, hot=True)


def test_where_the_probe_sits_is_said_in_words_and_covered() -> None:
    assert place_words(-38.0, -6.5) == "38.0 mm left of and 6.5 mm in front of the nozzle"
    assert place_words(0.0, 12.25) == "12.2 mm behind the nozzle" and place_words(0.0, 0.0) == "at the nozzle itself"
    random, covered = np.random.default_rng(2), 0
    for _ in range(1000):
        dots = random.uniform(-0.2, 0.2, (2, 4, 2))
        nozzle = [(100 + x, 50 + y) for x, y in dots[0]]
        pin = [(120 + x, 45 + y) for x, y in dots[1]]
        found = sits(nozzle, pin)
        covered += abs(found.x_mm + 20) <= 2 * found.x_u_mm
    assert 0.93 <= covered / 1000 <= 0.995
    with pytest.raises(ValueError, match="as many"):
        sits([(0.0, 0.0)], [])


@pytest.mark.parametrize("step_mm", [0.03, -0.05, 0.08])
@pytest.mark.parametrize("seed", range(5))
def test_a_knock_is_told_from_a_drift(step_mm: float, seed: int) -> None:
    random = np.random.default_rng(seed)
    noise = random.normal(0, 0.006, 20)
    jump = jump_of(noise + step_mm * (np.arange(20) >= 8))
    assert jump is not None and abs(jump.number - 8) <= 1 and jump.mm == pytest.approx(step_mm, abs=0.01)
    assert jump_of(noise + step_mm / 20 * np.arange(20)) is None, "a steady drift is none"
    assert jump_of(noise) is None


def test_readings_of_a_coil_that_stand_still_or_stop_are_none() -> None:
    random = np.random.default_rng(2)
    values = np.column_stack([random.normal(1e5, 30, 200), random.normal(1.2, 0.01, 200), np.full(200, 25.0)])
    must_go_on_reading(values)
    for spoilt in (np.s_[100:, :], np.s_[60:120, :]):
        zeros, still = values.copy(), values.copy()
        zeros[spoilt] = 0.0
        still[spoilt] = still[60]
        with pytest.raises(TrialFailed, match="stopped ringing"):
            must_go_on_reading(zeros)
        with pytest.raises(TrialFailed, match="stand still"):
            must_go_on_reading(still)
