"""What the benchmark makes up, and that its checks can fail."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from ublet.benchmark import hours
from ublet.benchmark.plants import analysing, made_up_scenario, possible_s
from ublet.firmware.guards import HeaterGuard
from ublet.world.heat import Plant, holding_w, linearise
from ublet.world.scenario import load_scenario


@pytest.mark.parametrize("seed", range(6))
def test_a_made_up_bed_has_a_sheet_for_odd_seeds_and_reaches_its_target_easily(tmp_path: Path, seed: int) -> None:
    path, target = made_up_scenario(tmp_path, "bed", seed)
    truth = load_scenario(path).plants["bed"].truth()
    assert (truth.surface_j_k > 0) == bool(seed % 2)
    assert holding_w(truth, target, 0, 23) < 0.6 * truth.power_w
    assert 240 <= linearise(truth, target, 23).time_constant_s <= 1200
    again, same = made_up_scenario(tmp_path, "bed", seed)
    assert (load_scenario(again).plants["bed"].truth(), same) == (truth, target)


def test_the_time_that_the_power_makes_possible_is_that_of_full_power(tmp_path: Path) -> None:
    path, target = made_up_scenario(tmp_path, "hotend", 2)
    plant, possible = Plant(load_scenario(path).plants["hotend"].truth(), 23.0), possible_s(path, "hotend", target)
    for _ in range(round(possible / 0.05) - 1):
        plant.step(1.0, 0.0, 23.0)
    assert plant.sensor_c < target - 1
    plant.step(1.0, 0.0, 23.0)
    assert plant.sensor_c >= target - 1


def test_hours_of_normal_use_trip_nothing_and_a_guard_that_is_too_tight_is_counted(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    assert hours.false_trips(2)["false_trips"] == 0
    watch = HeaterGuard.watch

    def tight(guard: HeaterGuard, limits, *arguments):  # type: ignore[no-untyped-def]
        return watch(guard, replace(limits, rise_c=60.0), *arguments)

    monkeypatch.setattr(HeaterGuard, "watch", tight)
    found = hours.false_trips(2)
    assert found["false_trips"] == 2 and found["which"] == ["bed: no rise", "hotend: no rise"]


def test_an_hour_of_records_gives_back_its_model() -> None:
    found = analysing(1)
    assert found["samples"] == 36_000
    assert abs(found["gain_error"]) < 0.01 and abs(found["time_constant_error"]) < 0.02
