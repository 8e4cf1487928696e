"""The hotend trial on plants that it has never seen: recommended gains hold their limits on each."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import numpy as np
import pytest

from ublet.session.headless import run_on_scenario
from ublet.session.library import DATA
from ublet.session.orders import order_for

RANGES = {
    "power_w": (35, 60),
    "capacity_j_k": (12, 26),
    "cartridge_w_k": (1.2, 4),
    "loss_w_k": (0.06, 0.1),
    "fan_loss_w_k": (0.005, 0.03),
    "sensor_lag_s": (0.8, 3),
    "dead_time_s": (0.5, 2.5),
}


def made_up_scenario(folder: Path, seed: int) -> Path:
    """Tern's scenario with another hotend, drawn from RANGES."""
    random = np.random.default_rng(seed)
    shutil.copytree(DATA / "machines", folder / "machines")
    (folder / "scenarios").mkdir()
    hotend, bed = (DATA / "scenarios" / "tern-280.toml").read_text(encoding="utf-8").split("[plants.bed]")
    for key, (low, high) in RANGES.items():
        hotend, count = re.subn(rf"\n{key} = .*", f"\n{key} = {random.uniform(low, high):.4g}", hotend)
        assert count == 1
    path = folder / "scenarios" / "made-up.toml"
    path.write_text(f"{hotend}[plants.bed]{bed}", encoding="utf-8")
    return path


@pytest.mark.parametrize("seed", [11, 12, 13])
def test_gains_found_on_any_plant_hold_their_limits(folder: Path, seed: int) -> None:
    order = order_for("hotend-control", [], keep=True, save=False)
    done = run_on_scenario(order, made_up_scenario(folder, seed), None, seed, lambda progress: None)
    assert done.outcome == "proven", done.report["why"]
    found = {finding["name"]: finding["value"] for finding in done.report["findings"]}
    seen = {finding["name"]: finding["value"] for finding in done.report["verify"]["findings"]}
    assert found["gain"] == pytest.approx(done.report["truth"]["gain"], rel=0.01)
    assert found["fan_loss_ratio"] == pytest.approx(done.report["truth"]["fan_loss_ratio"], rel=0.05)
    assert seen["overshoot"] < 2 and seen["ripple"] < 0.5
    assert abs(seen["overshoot_against_prediction"]) < 1
    assert seen["settle"] == pytest.approx(seen["predicted_settle"], rel=0.1)
    assert seen["fan_recovery"] < 60
