"""Contradictions between parts: each one planted fault gives one problem, at its place, naming the other."""

from __future__ import annotations

import pytest

from tests.conftest import machine_text
from ublet.core.machine.check import check_text
from ublet.core.machine.edit import GONE, Edit, edited
from ublet.core.machine.problem import Problem
from ublet.session.library import DATA, boards


def problems(edits: dict[str, Edit], text: str | None = None) -> tuple[Problem, ...]:
    return check_text(edited(text or machine_text(), edits), boards()).problems


@pytest.mark.parametrize(
    ("edits", "key", "words"),
    [
        ({"endstops.y.socket": "I1"}, "endstops.y.socket", "'I1', which endstops.x.socket (line"),
        ({"heaters.bed.sensor": "hotend"}, "heaters.bed.sensor", "which heaters.hotend.sensor (line"),
        ({"axes.y.homing.endstop": "x"}, "axes.y.homing.endstop", "an endstop of its own"),
        ({"axes.x.homing.endstop": "q"}, "axes.x.homing.endstop", "a declared endstop (x, y)"),
        ({"axes.x.homing.endstop": GONE}, "axes.x.homing.endstop", "the endstop at its low end"),
        ({"axes.x.homing.end": "probe"}, "axes.x.homing.end", "Only Z homes with the probe"),
        ({"axes.z.homing.order": 2}, "axes.z.homing.order", "after X and Y"),
        ({"axes.z.homing.over_x_mm": 300}, "axes.z.homing.over_x_mm", "0 to 280 mm, over the bed"),
        ({"axes.x.homing.slow_mm_s": 50}, "axes.x.homing.slow_mm_s", "at most fast_mm_s = 40"),
        ({"axes.x.maximum_mm": 100, "axes.x.minimum_mm": 200, "mesh": GONE}, "axes.x.maximum_mm", "more than 200 mm"),
        (
            {"axes.z.maximum_feed_mm_s": 600},
            "axes.z.maximum_feed_mm_s",
            "at most 500 mm/s: larch-6 makes 400,000",
        ),
        ({"axes.z.motors.right.microsteps": 32}, "axes.z.motors.right.microsteps", "as axes.z.motors.left (line"),
        ({"axes.x.motors.a.run_a": 2.5}, "axes.x.motors.a.run_a", "at most 2 A, what driver socket M1 stands"),
        ({"axes.x.motors.a.idle_a": 1.5}, "axes.x.motors.a.idle_a", "at most run_a"),
        ({"axes.x.steps_per_mm": 80.0}, "axes.x.steps_per_mm", "-50 % off"),
        ({"axes.z.motors.back.pivot_x_mm": GONE}, "axes.z.motors.back.pivot_x_mm", "every lift"),
        ({"mesh.margin_mm": 20}, "mesh.margin_mm", "Make the margin at least 32 mm"),
        ({"probe.servo_socket": GONE}, "probe.servo_socket", "kind pin needs one"),
        (
            {"heaters.hotend.maximum_c": 300},
            "heaters.hotend.maximum_c",
            "at most 290 °C, the limit of its sensor",
        ),
        ({"heaters.hotend.gains.old-block.at_c": 290}, "heaters.hotend.gains.old-block.at_c", "285 °C (line"),
        (
            {"heaters.hotend.gains.old-block.material": "abs"},
            "heaters.hotend.gains.old-block.material",
            "pla, petg, asa",
        ),
        ({"axes.z.homing.preheat_nozzle_c": 295}, "axes.z.homing.preheat_nozzle_c", "hotend's maximum"),
        ({"fans.hotend.heater": GONE}, "fans.hotend.heater", "the heater that it follows"),
        ({"sensors.bed.beta_k": GONE}, "sensors.bed.kind", "beta, but beta_k is missing"),
        ({"sensors.bed.kind": "curve", "sensors.bed.curve": "ntc-100k-3951"}, "sensors.bed.curve", "“ntc-100k-3950”"),
        ({"sensors.bed.kind": "points"}, "sensors.bed.kind", "three [sensors.bed.points.NAME]"),
        ({"sensors.bed.pullup_ohm": 1000}, "sensors.bed.pullup_ohm", "the pull-up of socket T2"),
        ({"machine.kinematics": "cartesian", "lifts": GONE}, "", ""),
        (
            {f"modules.{name}": True for name in ("picture", "language", "shaping", "advance", "arcs", "resume")},
            "board.model",
            "overflows by",
        ),
    ],
)
def test_a_contradiction_is_one_problem_that_names_both_places(edits: dict[str, Edit], key: str, words: str) -> None:
    found = problems(edits)
    assert [problem.key for problem in found] == ([key] if key else [])
    if key:
        assert words in found[0].sentence("tern.toml")


def test_a_corexy_has_one_motor_for_x_and_the_same_belt_for_both() -> None:
    second = problems({"axes.x.motors.c.socket": "M6", "extruder": GONE})
    assert [p.key for p in second] == ["axes.x.motors"] and "1 on a corexy machine" in second[0].allowed
    belt = problems({"axes.y.pulley_teeth": 16})
    assert [p.key for p in belt] == ["axes.y.drive"] and "both motors move both axes" in belt[0].allowed


def test_homing_by_a_probe_that_is_not_there() -> None:
    keys = [problem.key for problem in problems({"probe": GONE, "mesh": GONE})]
    assert keys == ["axes.z.homing.end"]


@pytest.mark.parametrize("path", sorted((DATA / "machines").glob("*.toml")), ids=lambda path: path.stem)
def test_every_preset_is_good_and_has_no_warning(path: object) -> None:
    from pathlib import Path

    assert isinstance(path, Path)
    assert check_text(path.read_text(encoding="utf-8"), boards()).problems == ()


def test_the_same_file_for_another_board_names_every_socket_that_it_lacks() -> None:
    found = [problem for problem in problems({"board.model": "alder-4"}) if problem.key.endswith("socket")]
    assert len(found) == 21 and all("alder-4" in problem.allowed for problem in found)


@pytest.mark.parametrize(
    ("supply", "bed", "severity", "words"),
    [
        (240, 140, None, ""),
        (210, 140, "warning", "Take a supply of 212 W, lower heaters.bed.power_limit to 0.98"),
        (150, 140, "error", "all heaters at once take 180"),
        (150, 0, None, "one of its own does not count"),
    ],
)
def test_all_heaters_at_once_are_within_the_supply(supply: int, bed: int, severity: str | None, words: str) -> None:
    text = (DATA / "machines" / "wren-180.toml").read_text(encoding="utf-8")
    text = edited(text, {"supply.watts": supply, "heaters.bed.watts": bed})
    wrong = [problem for problem in problems({}, text) if problem.key == "supply.watts"]
    assert [problem.severity for problem in wrong] == ([severity] if severity else [])
    assert not severity or words in f"{wrong[0].found}. {wrong[0].mend}"


def test_a_display_has_room_for_so_many_materials_and_a_driver_is_not_quiet_for_ever() -> None:
    text = (DATA / "machines" / "wren-180.toml").read_text(encoding="utf-8")
    more = "".join(f"\n[materials.m{n}]\nnozzle_c = 200\nbed_c = 50\n" for n in range(6))
    (crowded,) = [problem for problem in problems({}, text + more) if problem.key.endswith("on_display")]
    assert crowded.severity == "warning" and "7 materials on a text display" in crowded.found
    off = more.replace("[materials.m5]\n", "[materials.m5]\non_display = false\n")
    assert not [problem for problem in problems({}, text + off) if problem.key.endswith("on_display")]
    (quiet,) = problems({"axes.x.motors.a.quiet_to_mm_s": 400})
    assert quiet.severity == "warning" and "always run quietly" in quiet.mend
    assert not problems({"axes.x.motors.a.quiet_to_mm_s": 120})
