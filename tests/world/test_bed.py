"""The bed in the world: supports, screws and springs, warmth; and the probe over it."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.sockets import Pace, Steps, Until
from ublet.session.document import Document
from ublet.session.library import machine_path, scenario_path
from ublet.world.bed import Carried, TrueBed
from ublet.world.bed_parts import BedTruth, Knock, LiftTruth, ScrewTruth, WavePart
from ublet.world.scenario import load_scenario
from ublet.world.world import World

TERN = Document(machine_path("tern-280")).machine


def bed(truth: BedTruth, *knocks: Knock) -> TrueBed:
    return TrueBed(truth, TERN, knocks, np.random.default_rng(1))


def test_two_supports_carry_a_line_three_a_plane_four_give_way_to_a_share_of_a_twist() -> None:
    line = Carried([(0.0, 50.0), (200.0, 50.0)])
    assert line.at(line.terms([0.0, 1.0]), 100.0, 90.0) == pytest.approx(0.5)
    plane = Carried([(0.0, 0.0), (200.0, 0.0), (100.0, 200.0)])
    assert plane.at(plane.terms([0.0, 1.0, 2.0]), 100.0, 200.0) == pytest.approx(2.0)
    corners = [(0.0, 0.0), (200.0, 0.0), (200.0, 200.0), (0.0, 200.0)]
    for fraction in (1.0, 0.5):
        twisted = Carried(corners, fraction)
        terms = twisted.terms([1.0, -1.0, 1.0, -1.0])
        assert [twisted.at(terms, *place) for place in corners] == pytest.approx(
            [fraction, -fraction, fraction, -fraction]
        )
    assert Carried([]).at(Carried([]).terms([]), 3.0, 4.0) == 0.0


def test_a_lift_that_turns_alone_tilts_the_bed_and_all_together_do_not() -> None:
    one = bed(BedTruth())
    one.follow({"z.left": 5.0, "z.right": 5.0, "z.back": 5.0})
    assert one.height(20.0, 20.0) == pytest.approx(0.0, abs=1e-12)
    one.follow({"z.left": 5.3, "z.right": 5.0, "z.back": 5.0})
    assert one.height(-18.0, 30.0) - one.height(298.0, 30.0) == pytest.approx(-0.3), "its gap is wider"


def test_play_is_lost_once_when_a_lift_turns_back() -> None:
    one = bed(BedTruth(lifts={"left": LiftTruth(play_mm=0.02)}))
    places = [((0.0, 0.0, 0.0), 0.0)]
    for left in (1.0, 2.0, 1.0, 2.0):
        one.follow({"z.left": left, "z.right": 0.0, "z.back": 0.0})
        places.append(((left, 0.0, 0.0), one.lifts_mm["z.left"]))
    up, down = places[2][1], places[4][1]
    assert up == pytest.approx(down) and places[3][1] - places[1][1] == pytest.approx(0.02)


def test_a_screw_moves_its_corner_fully_and_its_neighbours_a_little() -> None:
    one = bed(BedTruth(neighbours=0.1, screws={name: ScrewTruth(spring_mm=4) for name in TERN.bed.screws}))
    one.turn_screw("left", -1.0)  # counter-clockwise raises
    at = {name: one.height(screw.x_mm, screw.y_mm) for name, screw in TERN.bed.screws.items()}
    assert at["left"] == pytest.approx(0.5) and at["right"] == pytest.approx(0.05) == at["back"]
    assert one.springs["left"][0] == pytest.approx(3.5)
    one.turn_screw("left", 100.0)
    assert one.springs["left"] == (9.0, 9.0), "its spring is flat: it goes no further"
    one.turn_screw("no such", 1.0)


def test_a_slack_corner_wanders_and_half_springs_hold() -> None:
    one = bed(BedTruth(screws={"left": ScrewTruth(spring_mm=0.0)}))
    heights = set()
    for _ in range(5):
        one.settle()
        heights.add(one.height(-18.0, 30.0))
    assert one.wanders and len(heights) == 5
    one.half_springs()
    before = one.height(-18.0, 30.0)
    one.settle()
    assert not one.wanders and one.height(-18.0, 30.0) == before


def test_warmth_bows_the_bed_at_once_and_raises_it_slowly() -> None:
    one = bed(BedTruth(bow_mm=0.1, bow_mm_k=0.002, rise_mm_k=0.001, frame_s=100))
    middle, corner = (140.0, 130.0), (0.0, 0.0)
    assert one.height(*middle) - one.height(*corner) == pytest.approx(0.1)
    one.pass_time(100.0, 40.0)
    assert one.height(*middle) - one.height(*corner) == pytest.approx(0.18)
    assert one.height(*corner) == pytest.approx(0.001 * 40 * (1 - np.exp(-1)))


def test_a_wave_and_a_knock_at_one_side() -> None:
    one = bed(BedTruth(waves=[WavePart(mm=0.2, along_x=1, along_y=0)]), Knock(after_touches=3, mm=0.4, at="right"))
    assert one.height(0.0, 50.0) == pytest.approx(0.2) and one.height(280.0, 50.0) == pytest.approx(-0.2)
    one.touched(2)
    assert one.height(280.0, 50.0) == pytest.approx(-0.2)
    one.touched(3)
    assert one.height(280.0, 50.0) == pytest.approx(0.2) and one.height(0.0, 50.0) == pytest.approx(0.2)


def test_the_probe_triggers_over_its_own_place_and_later_the_faster_it_comes() -> None:
    scenario = load_scenario(scenario_path("tern-280"))
    world = World(scenario, TERN)
    probe = world.probe
    assert probe is not None and probe.offset == (-36.5, -6.9)
    where = {"x": 150.0, "y": 120.0, "z": 5.0}
    place = (113.5, 113.1)
    assert probe.height(where) == pytest.approx(5.0 - world.bed.height(*place))
    probe.pass_time(1e6, 40.0)
    assert probe.triggers_at(where) == pytest.approx(1.6 + 0.0006 * 0.15 * 40, abs=0.01)
    at = {**where, "z": world.bed.height(*place) + probe.triggers_at(where) - 0.004}
    opened = probe.is_open_at(at)
    probe.towards_mm_s = 4.0
    assert probe.is_open_at(at) != opened, "coming down at 4 mm/s it goes on for 6 µm"


def test_a_touch_is_never_left_unpressed_by_rounding() -> None:
    """Where it was met the switch changes, so that the next touch scatters anew."""
    world = World(load_scenario(scenario_path("tern-280")), TERN)
    probe = world.probe
    assert probe is not None
    world.pin(down=True)
    lifts = ("M3", "M4", "M5")

    def go(mm: float, until: Until | None = None) -> float | None:
        direction = 1.0 if mm > 0 else -1.0
        return world.turn([Steps(each, direction * 800, 16, 0.9) for each in lifts], Pace(3.0, 0.0, abs(mm) / 3), until)

    heights = set()
    for _ in range(150):
        assert go(-400, Until(probe.part.socket, opens=True)) is not None and probe.pressed
        heights.add(world.mechanics.where["z"])
        go(1.37)
        assert not probe.pressed
    assert len(heights) == 150


def test_a_cold_nozzle_carries_a_drop_and_a_hot_one_is_longer() -> None:
    world = World(load_scenario(scenario_path("tern-280")), TERN)
    cold = world.gap_mm
    world.plants["hotend"].put_at(223.0)
    assert world.gap_mm - cold == pytest.approx(0.06 - 0.00035 * 200)
