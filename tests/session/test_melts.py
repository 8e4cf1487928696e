"""Flow limit, retraction and the measured cube on whole machines: truths, what is named, what is offered."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from ublet.benchmark.cubes import CAUSES, CubeMachine
from ublet.benchmark.melts import made_up_melt
from ublet.session.headless import run_on_scenario
from ublet.session.library import scenario_path
from ublet.session.orders import order_for


def ran(trial: str, scenario: Path, seed: int, *words: str) -> dict[str, Any]:
    order = order_for(trial, list(words), keep=False, save=False)
    report: dict[str, Any] = run_on_scenario(order, scenario, None, seed, lambda progress: None).report
    return report


def of(report: dict[str, Any], what: str) -> dict[str, Any]:
    return next(finding for finding in report["findings"] if finding["id"].split(".")[0] == what)


@pytest.mark.parametrize("machine", ["tern-280", "wren-180"])
def test_both_machines_find_their_flow_limit_and_propose_less(machine: str) -> None:
    report = ran("flow-limit", scenario_path(machine), 1)
    limit, true = of(report, "flow_limit"), report["truth"]["flow_limit.pla"]
    assert report["outcome"] == "proven", report["why"]
    assert abs(limit["value"] / true - 1) < 0.08 and abs(limit["value"] - true) <= 3 * limit["uncertainty"]
    (proposal,) = report["proposals"]
    assert proposal["setting"] == "materials.pla.largest_flow_mm3_s" and proposal["after"] < limit["value"]
    assert "mm/s at 0.45 x 0.2 mm" in report["why"]


@pytest.mark.parametrize(
    ("torque", "grip", "words"), [(0.12, 200, "the motor stalls"), (2.0, 30, "More current does not help")]
)
def test_a_motor_that_stalls_is_told_from_a_hob_that_slips(
    torque: float, grip: float, words: str, tmp_path: Path
) -> None:
    path, _ = made_up_melt(tmp_path, 2)
    text = re.sub(r"torque_nm_a = 0\.4", f"torque_nm_a = {torque}", path.read_text(encoding="utf-8"))
    path.write_text(re.sub(r"grip_n = [\d.]+", f"grip_n = {grip}", text), encoding="utf-8")
    report = ran("flow-limit", path, 2)
    assert report["outcome"] == "proven" and words in report["why"], report["why"]


def test_a_second_temperature_gives_what_ten_degrees_add(tmp_path: Path) -> None:
    path, _ = made_up_melt(tmp_path, 4)
    report = ran("flow-limit", path, 4, "hotter_c=20")
    gain = of(report, "gain")
    true = (report["truth"]["flow_limit_hotter.pla"] - report["truth"]["flow_limit.pla"]) / 2
    assert abs(gain["value"] - true) <= 3 * gain["uncertainty"] and "10 °C more add" in report["why"]


def test_a_limit_that_is_not_reached_and_a_hotend_that_cannot_be_hotter_are_said() -> None:
    report = ran("flow-limit", scenario_path("tern-280"), 1, "most_mm3_s=7")
    assert report["outcome"] == "failed" and "nothing falls short" in report["why"]
    assert any("most_mm3_s" in way for way in report["ways_out"])
    hotter = ran("flow-limit", scenario_path("wren-180"), 1, "hotter_c=60")
    assert hotter["outcome"] == "failed" and "allows" in hotter["why"]


def test_the_shortest_clean_retraction_is_proposed_for_machine_and_material(tmp_path: Path) -> None:
    path, _ = made_up_melt(tmp_path, 1)
    report = ran("retraction", path, 1)
    assert report["outcome"] == "proven", report["why"]
    assert 1.0 <= of(report, "retraction")["value"] <= 4.0
    assert [proposal["setting"] for proposal in report["proposals"]] == [
        "extruder.retract_mm",
        "materials.pla.retract_mm",
    ]
    assert of(report, "taken")["value"] == pytest.approx(of(report, "predicted")["value"], rel=0.03)


def test_a_nozzle_that_drips_whatever_is_done_is_no_question_of_length(tmp_path: Path) -> None:
    path, _ = made_up_melt(tmp_path, 0)
    text = re.sub(r"drips_mm_s = [\d.]+", "drips_mm_s = 1.5", path.read_text(encoding="utf-8"))
    path.write_text(re.sub(r"drip_holds_mm = [\d.]+", "drip_holds_mm = 15", text), encoding="utf-8")
    report = ran("retraction", path, 0)
    assert report["outcome"] == "failed" and not report["proposals"] and report["ways_out"], report["why"]


def with_print(folder: Path, skew_deg: float, shrinks_percent: float) -> Path:
    path, _ = made_up_melt(folder, 0)
    text = path.read_text(encoding="utf-8")
    path.write_text(
        f"{text}\n[printed]\nskew_deg = {skew_deg}\nshrinks_percent = {shrinks_percent}\n", encoding="utf-8"
    )
    return path


def test_a_cube_shows_skew_and_shrinkage_apart_and_sends_each_where_it_is_mended(tmp_path: Path) -> None:
    report = ran("piece-measured", with_print(tmp_path, 0.4, 0.6), 3, "size_mm=20", "repeats=4")
    skew, shrinks = of(report, "skew"), of(report, "shrinks")
    assert report["outcome"] == "failed" and abs(skew["value"] - 0.4) <= 2.5 * skew["uncertainty"]
    assert abs(shrinks["value"] - 0.006) <= 3 * shrinks["uncertainty"]
    assert "square the frame" in report["ways_out"][0] and "no steps error" in report["why"]
    settings = {proposal["setting"]: proposal["after"] for proposal in report["proposals"]}
    assert settings.keys() == {"motion.skew_deg", "materials.pla.shrinks_percent"}
    assert settings["motion.skew_deg"] == pytest.approx(skew["value"], abs=0.001)


def test_a_good_cube_is_left(tmp_path: Path) -> None:
    made = CubeMachine(tmp_path, 0)
    report = ran("piece-measured", made.path, 3, "size_mm=12")
    assert report["outcome"] == "proven" and "Leave it" in report["why"], report["why"]
    assert report["truth"] == {"shrinks": 0.0, "skew": 0.0}


@pytest.mark.parametrize(
    ("cause", "way"),
    [
        ("lost steps", "set screws of the pulleys"),
        ("advance too low", "trial advance-lines"),
        ("flow", "station extruder steps"),
        ("ringing", "station input shaper"),
    ],
)
def test_what_walls_look_like_leads_to_what_mends_them(cause: str, way: str, tmp_path: Path) -> None:
    plant, words = CAUSES[cause]
    made = CubeMachine(tmp_path, 1001)
    plant(made)
    report = ran("piece-measured", made.path, 1, "size_mm=20")
    assert report["outcome"] == "failed" and words in report["why"], report["why"]
    assert any(way in mends for mends in report["ways_out"])
    if cause == "lost steps":
        assert not report["proposals"] and "skewed" not in report["why"], "its lengths say nothing"


def test_a_flat_frame_shows_skew_three_times_as_sharply_and_motion_then_corrects_it(tmp_path: Path) -> None:
    made = CubeMachine(tmp_path, 2)
    made.printed(0.3, 0.4)
    first = ran("piece-measured", made.path, 1, "shape=flat frame", "size_mm=70", "looks=false")
    skew = of(first, "skew")
    assert abs(skew["value"] - 0.3) <= 3 * skew["uncertainty"] < 0.08
    made.edit({"motion.skew_deg": 0.3})
    then = ran("piece-measured", made.path, 2, "shape=flat frame", "size_mm=70", "looks=false")
    left = of(then, "skew")
    assert abs(left["value"]) <= 2.5 * left["uncertainty"] and then["truth"]["skew"] == pytest.approx(0.0)
    assert not any(proposal["setting"] == "motion.skew_deg" for proposal in then["proposals"])
