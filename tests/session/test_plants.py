"""Heater control on plants that it has never seen: recommended gains hold their limits on each."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import numpy as np
import pytest

from ublet.session.headless import run_on_scenario
from ublet.session.library import DATA
from ublet.session.orders import order_for
from ublet.sim.heat import STEP_S, Plant, linearise, loss_w
from ublet.sim.scenario import load_scenario, parse_scenario

HOTENDS = {
    "power_w": (20, 60),
    "capacity_j_k": (9, 26),
    "cartridge_w_k": (1.2, 4),
    "fan_loss_w_k": (0.0, 0.03),
    "sensor_lag_s": (0.8, 4),
    "dead_time_s": (0.5, 3.5),
}
BEDS = {
    "power_w": (100, 750),
    "capacity_j_k": (350, 2400),
    "cartridge_j_k": (30, 120),
    "cartridge_w_k": (5, 20),
    "loss_w_k": (0.8, 3.0),
    "radiating_cm2": (300, 1200),
    "sensor_lag_s": (2, 8),
    "dead_time_s": (1, 5),
}
BARE = 1.35
"""A bare block loses so many times the heat of one with a sock."""


def made_up_scenario(folder: Path, part: str, seed: int) -> tuple[Path, float]:
    """Tern's scenario with another hotend or bed, and the temperature to tune at: one that its power reaches easily."""
    random = np.random.default_rng(seed)
    shutil.copytree(DATA / "machines", folder / "machines", dirs_exist_ok=True)
    (folder / "scenarios").mkdir(exist_ok=True)
    text = (DATA / "scenarios" / "tern-280.toml").read_text(encoding="utf-8")
    head, table, rest = text.partition(f"[plants.{part}]")
    own, mark, tail = rest.partition("\n[")
    target = 215.0 if part == "hotend" else float(random.choice([50.0, 60.0, 80.0]))
    while True:
        values = {key: random.uniform(*span) for key, span in (HOTENDS if part == "hotend" else BEDS).items()}
        if part == "hotend":
            values["loss_w_k"] = random.uniform(0.06, 0.08) * (BARE if seed % 2 else 1)
        made = own
        for key, value in values.items():
            made, count = re.subn(rf"\n{key} = .*", f"\n{key} = {value:.4g}", made)
            assert count == 1
        truth = parse_scenario(head + table + made + mark + tail).plants[part].truth()
        slow = linearise(truth, target, 23).time_constant_s
        if loss_w(truth, target, 0, 23) < 0.6 * truth.power_w and (part == "hotend" or 240 <= slow <= 1200):
            break
    path = folder / "scenarios" / "made-up.toml"
    path.write_text(head + table + made + mark + tail, encoding="utf-8")
    return path, target


def possible_s(scenario: Path, part: str, target: float) -> float:
    """The time that the plant's power makes possible: at full power from the room to within 1 °C."""
    plant = Plant(load_scenario(scenario).plants[part].truth(), 23.0)
    steps = 0
    while plant.sensor_c < target - 1:
        plant.step(1.0, 0.0, 23.0)
        steps += 1
    return steps * STEP_S


@pytest.mark.parametrize(("part", "seed"), [("hotend", 11), ("hotend", 12), ("bed", 21), ("bed", 22)])
def test_gains_found_on_any_plant_hold_their_limits(folder: Path, part: str, seed: int) -> None:
    scenario, target = made_up_scenario(folder, part, seed)
    order = order_for(f"{part}-control", [f"target={target:g}"], keep=True, save=False)
    done = run_on_scenario(order, scenario, None, seed, lambda progress: None)
    assert done.outcome == "proven", done.report["why"]
    found = {finding["name"]: finding["value"] for finding in done.report["findings"]}
    seen = {finding["name"]: finding["value"] for finding in done.report["verify"]["findings"]}
    assert found["gain"] == pytest.approx(done.report["truth"]["gain"], rel=0.02)
    limits = (2, 0.5) if part == "hotend" else (1, 0.3)
    assert seen["overshoot"] < limits[0] and seen["ripple"] < limits[1]
    assert abs(seen["overshoot_against_prediction"]) < 1
    assert seen["settle"] == pytest.approx(seen["predicted_settle"], rel=0.1)
    assert seen["settle"] < 1.3 * possible_s(scenario, part, target)
    if part == "hotend":
        assert found["fan_loss_ratio"] == pytest.approx(done.report["truth"]["fan_loss_ratio"], rel=0.05)
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
    assert loss_w(truth, target, 0, 23) > power
    order = order_for(f"{part}-control", [f"target={target}"], False, False)
    done = run_on_scenario(order, path, None, 1, lambda progress: None)
    assert done.outcome == "failed" and f"Too weak for {target} °C" in done.report["why"]
    assert done.report["duration_s"] < longest_s
