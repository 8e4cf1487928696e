"""Sensors at rest on the simulated board: odd ones are named, a wrong curve is found by a reference and mended."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.session.test_wire_trials import RIGHT, run


def test_sensors_that_agree_are_proven_and_nothing_is_proposed(tmp_path: Path) -> None:
    code, report = run("sensors-at-rest", tmp_path, RIGHT, "references=3")
    assert (code, report["proposals"]) == (0, []) and "agrees with the reference" in report["why"]


def test_a_wrong_curve_is_found_in_boiling_water_and_mended(tmp_path: Path) -> None:
    wrong = RIGHT.replace("beta_k = 4267", "beta_k = 3950")
    assert run("sensors-at-rest", tmp_path, wrong)[0] == 0, "at rest it reads right"
    code, report = run("sensors-at-rest", tmp_path, wrong, "references=3", "--keep", "--save")
    after = {p["setting"]: p["after"] for p in report["proposals"]}
    assert code == 0 and "more likely ntc-100k-3950" in report["why"] and report["saved"] == 2
    assert after["sensors.hotend.beta_k"] == pytest.approx(3950, rel=0.02)


def test_what_cannot_be_a_room_is_named(tmp_path: Path) -> None:
    t2 = '[sensors.T2]\nplant = "bed"\nr25_ohm = 100000'
    assert t2 in RIGHT
    cold = RIGHT.replace(t2, t2.removesuffix("0"))
    code, report = run("sensors-at-rest", tmp_path, cold)
    assert code == 1 and "The bed sensor reads" in report["why"]
    code, report = run("sensors-at-rest", tmp_path, RIGHT, "references=1", "sensor=tea")
    assert code == 1 and "No sensor “tea” is declared" in report["why"]


def test_a_sensor_that_no_beta_describes_gets_a_curve_of_its_own(tmp_path: Path) -> None:
    bent = RIGHT.replace(
        "beta_k = 4267", "beta_k = 4267\nsteinhart_a = 9.5e-4\nsteinhart_b = 1.62e-4\nsteinhart_c = 3.0e-7", 1
    ).replace("[builder]", "[builder]\nthermometer_c = 0.1")
    if "[builder]" not in bent:
        bent += "\n[builder]\nthermometer_c = 0.1\n"
    words = ("references=4", "error=0.1", "apart=10")
    code, report = run("sensors-at-rest", tmp_path, bent, *words, "--keep", "--save")
    after = {p["setting"]: p["after"] for p in report["proposals"]}
    assert code == 0 and "A beta curve does not fit" in report["why"]
    assert after["sensors.hotend.kind"] == "steinhart" and report["saved"] == 4
    assert after["sensors.hotend.steinhart_b"] == pytest.approx(1.62e-4, rel=0.2)
    code, report = run("sensors-at-rest", tmp_path, bent, *words, "choose=beta")
    assert code == 1 and "more than the reference" in report["why"]


def test_what_was_heated_a_while_ago_is_waited_for_and_a_wrong_curve_is_not(tmp_path: Path) -> None:
    warm = RIGHT.replace("[plants.hotend]\n", "[plants.hotend]\nstart_c = 90\n")
    code, report = run("sensors-at-rest", tmp_path, warm)
    assert code == 0 and report["duration_s"] > 120, report["why"]
    warm_bed = RIGHT.replace("[plants.bed]\n", "[plants.bed]\nstart_c = 34\n")
    code, report = run("sensors-at-rest", tmp_path, warm_bed)
    assert code == 0 and report["duration_s"] > 120, report["why"]
    wrong = RIGHT.replace("r25_ohm = 100000", "r25_ohm = 47000", 1)
    assert wrong != RIGHT
    code, report = run("sensors-at-rest", tmp_path, wrong)
    assert code == 1 and report["duration_s"] < 60 and "wrong curve" in report["why"]
