"""Heater control on plants that it has never seen: recommended gains hold their limits on each."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from tests.conftest import truths, word
from ublet.benchmark.plants import made_up_scenario, possible_s
from ublet.ledger.book import Ledger
from ublet.session.headless import run_on_scenario
from ublet.session.library import DATA
from ublet.session.orders import order_for
from ublet.session.session import ledger_path
from ublet.world.heat import holding_w
from ublet.world.scenario import load_scenario


@pytest.mark.parametrize(("part", "seed"), [("hotend", 11), ("bed", 21)])
def test_gains_found_on_any_plant_hold_their_limits(folder: Path, part: str, seed: int) -> None:
    scenario, target = made_up_scenario(folder, part, seed)
    order = order_for(f"{part}-control", [f"target={target:g}"], keep=True, save=False)
    done = run_on_scenario(order, scenario, None, seed, lambda progress: None)
    assert done.outcome == "proven", done.report["why"]
    found = {word(finding["id"]): finding["value"] for finding in done.report["findings"]}
    seen = {word(finding["id"]): finding["value"] for finding in done.report["verify"]["findings"]}
    assert found["gain"] == pytest.approx(truths(done.report)["gain"], rel=0.02)
    limits = (2, 0.5) if part == "hotend" else (1, 0.3)
    assert seen["overshoot"] < limits[0] and seen["ripple"] < limits[1]
    assert abs(seen["overshoot_against_prediction"]) < 1
    assert seen["settle"] == pytest.approx(seen["predicted_settle"], rel=0.1)
    assert seen["settle"] < 1.3 * possible_s(scenario, part, target)
    if part == "hotend":
        assert found["fan_loss_ratio"] == pytest.approx(truths(done.report)["fan_loss_ratio"], rel=0.05)
        assert seen["fan_recovery"] < 60


@pytest.mark.parametrize(("part", "power", "target", "longest_s"), [("hotend", 15, 215, 300), ("bed", 90, 80, 900)])
def test_a_heater_too_weak_for_its_target_is_told_early(
    folder: Path, part: str, power: float, target: float, longest_s: float
) -> None:
    shutil.copytree(DATA / "machines", folder / "machines")
    (folder / "scenarios").mkdir()
    text = (DATA / "scenarios" / "tern-280.toml").read_text(encoding="utf-8")
    head, table, rest = text.partition(f"[plants.{part}]")
    path = folder / "scenarios" / "weak.toml"
    path.write_text(head + table + re.sub(r"power_w = \d+", f"power_w = {power}", rest, count=1), encoding="utf-8")
    truth = load_scenario(path).plants[part].truth()
    assert holding_w(truth, target, 0, 23) > power
    order = order_for(f"{part}-control", [f"target={target}"], False, False)
    done = run_on_scenario(order, path, None, 1, lambda progress: None)
    assert done.outcome == "failed" and f"Too weak for {target} °C" in done.report["why"]
    assert done.report["duration_s"] < longest_s


CHAMBER = """
[sensors.chamber]
socket = "T4"
r25_ohm = 100000
beta_k = 3950

[heaters.chamber]
part = "chamber"
socket = "H3"
sensor = "chamber"
maximum_c = 75

[heaters.chamber.guards]
rise_c = 1
rise_window_s = 120
"""
CHAMBER_TRUTH = """
[plants.chamber]
power_w = 250
capacity_j_k = 500
cartridge_j_k = 60
cartridge_w_k = 8
loss_w_k = 2.6
sensor_lag_s = 6
dead_time_s = 4

[sensors.T4]
plant = "chamber"
r25_ohm = 100000
beta_k = 3950
"""


def test_a_further_heater_is_tuned_by_the_same_trial_and_each_has_its_own_results(folder: Path) -> None:
    shutil.copytree(DATA / "machines", folder / "machines")
    (folder / "scenarios").mkdir()
    machine = folder / "machines" / "tern-280.toml"
    machine.write_text(machine.read_text(encoding="utf-8") + CHAMBER, encoding="utf-8")
    truth = (DATA / "scenarios" / "tern-280.toml").read_text(encoding="utf-8")
    assert 'H2 = "bed"\n' in truth
    path = folder / "scenarios" / "chamber.toml"
    path.write_text(truth.replace('H2 = "bed"\n', 'H2 = "bed"\nH3 = "chamber"\n') + CHAMBER_TRUTH, encoding="utf-8")
    order = order_for("bed-control", ["heater=chamber", "target=50"], keep=True, save=True)
    done = run_on_scenario(order, path, machine, 3, lambda progress: None)
    assert done.outcome == "proven", done.report["why"]
    assert {proposal["setting"].split(".")[1] for proposal in done.report["proposals"]} == {"chamber"}
    found = {word(finding["id"]): finding["value"] for finding in done.report["findings"]}
    assert found["gain"] == pytest.approx(truths(done.report)["gain"], rel=0.02)
    ledger = Ledger(ledger_path(machine))
    assert ledger.latest("bed-control", "proven", {"heater": "chamber"}) is not None
    assert ledger.latest("bed-control", "proven", {"heater": "bed"}) is None
    ledger.close()
    order = order_for("bed-verify", ["target=50"], keep=False, save=False)
    verified = run_on_scenario(order, path, machine, 3, lambda progress: None)
    assert verified.outcome == "failed" and "There is no model of the bed yet" in verified.report["why"]
