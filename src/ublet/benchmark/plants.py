"""Heater control and soak on plants made up at random: how good the recommended gains are, how true the predictions."""

from __future__ import annotations

import re
import shutil
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

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
SHEETS = {"surface_j_k": (100, 900), "surface_w_k": (2, 12), "surface_loss_w_k": (0.2, 1.2)}
NO_SHEET = {"surface_j_k": (0, 0), "surface_w_k": (0, 0), "surface_loss_w_k": (0, 0)}
BARE = 1.35
"""A bare block loses so many times the heat of one with a sock."""

ROOM_C = 23.0


def made_up_scenario(folder: Path, part: str, seed: int) -> tuple[Path, float]:
    """Tern's scenario with another hotend or bed, and the temperature to tune at: one that its power reaches easily.

    Odd seeds make a bare hotend, or a bed with a sheet on it.
    """
    from ublet.session.library import DATA
    from ublet.world.heat import holding_w, linearise
    from ublet.world.scenario import parse_scenario

    random = np.random.default_rng(seed)
    shutil.copytree(DATA / "machines", folder / "machines", dirs_exist_ok=True)
    (folder / "scenarios").mkdir(parents=True, exist_ok=True)
    text = (DATA / "scenarios" / "tern-280.toml").read_text(encoding="utf-8")
    head, table, rest = text.partition(f"[plants.{part}]")
    own, mark, tail = rest.partition("\n[")
    target = 215.0 if part == "hotend" else float(random.choice([50.0, 60.0, 80.0]))
    spans = HOTENDS if part == "hotend" else {**BEDS, **(SHEETS if seed % 2 else NO_SHEET)}
    while True:
        values = {key: random.uniform(*span) for key, span in spans.items()}
        if part == "hotend":
            values["loss_w_k"] = random.uniform(0.06, 0.08) * (BARE if seed % 2 else 1)
        made = own
        for key, value in values.items():
            made = re.sub(rf"\n{key} = .*", f"\n{key} = {value:.4g}", made)
        truth = parse_scenario(head + table + made + mark + tail).plants[part].truth()
        slow = linearise(truth, target, ROOM_C).time_constant_s
        enough = holding_w(truth, target, 0, ROOM_C) < 0.6 * truth.power_w
        if enough and (part == "hotend" or 240 <= slow <= 1200):
            break
    path = folder / "scenarios" / f"{part}-{seed}.toml"
    path.write_text(head + table + made + mark + tail, encoding="utf-8")
    return path, target


def possible_s(scenario: Path, part: str, target: float) -> float:
    """The time that the plant's power makes possible: at full power from the room to within 1 °C."""
    from ublet.world.heat import STEP_S, Plant
    from ublet.world.scenario import load_scenario

    plant = Plant(load_scenario(scenario).plants[part].truth(), ROOM_C)
    steps = 0
    while plant.sensor_c < target - 1:
        plant.step(1.0, 0.0, ROOM_C)
        steps += 1
    return steps * STEP_S


def plant_figures(part: str, count: int) -> dict[str, Any]:
    """Tune, keep and verify on so many plants: the worst of each figure beside its limit."""
    bed = part == "bed"
    worst = dict.fromkeys(("overshoot_c", "ripple_c", "over_possible", "prediction_c", "prediction_of_time"), 0.0)
    proven = 0
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        for seed in range(count):
            scenario, target = made_up_scenario(Path(name), part, seed)
            report = _run(f"{part}-control", scenario, target, seed, keep=True)
            proven += report["outcome"] == "proven"
            if "verify" not in report:
                continue
            seen = {finding["id"].partition(".")[0]: finding["value"] for finding in report["verify"]["findings"]}
            settle = seen.get("settle", float("inf"))
            figures = {
                "overshoot_c": seen["overshoot"],
                "ripple_c": seen["ripple"],
                "over_possible": settle / possible_s(scenario, part, target),
                "prediction_c": abs(seen["overshoot_against_prediction"]),
                "prediction_of_time": abs(settle / seen["predicted_settle"] - 1),
            }
            worst = {key: max(worst[key], value) for key, value in figures.items()}
    return {
        "plants": count,
        "proven": proven,
        "worst": {key: round(value, 3) for key, value in worst.items()},
        "limits": {
            "overshoot_c": 1.0 if bed else 2.0,
            "ripple_c": 0.3 if bed else 0.5,
            "over_possible": 1.3,
            "prediction_c": 1.0,
            "prediction_of_time": 0.1,
        },
    }


def soak_figures(count: int) -> dict[str, Any]:
    """The soak of so many beds with a sheet: its error against the truth, with a sensor on the sheet and without."""
    figures: dict[str, Any] = {"beds": count}
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        folder = Path(name)
        for way in ("with a surface sensor", "without"):
            errors, lags, none, unseen = [], [], 0, 0
            for seed in range(1, 2 * count, 2):
                scenario, target = made_up_scenario(folder, "bed", seed)
                machine = folder / "machines" / "tern-280.toml"
                if way == "without":
                    text = machine.read_text(encoding="utf-8")
                    machine.write_text(text.replace('surface_sensor = "plate"\n', ""), encoding="utf-8")
                report = _run("bed-soak", scenario, target, seed, keep=False)
                values = {finding["id"].partition(".")[0]: finding["value"] for finding in report["findings"]}
                if report["outcome"] != "proven":
                    none += 1
                    continue
                errors.append(values["soak"] - _truth(report, "soak"))
                if "sheet_lag" not in values:
                    unseen += 1
                    continue
                lags.append(values["sheet_lag"] - _truth(report, "sheet_lag"))
            figures[way] = {
                "soak_error_s": _span(errors),
                "sheet_lag_error_s": _span(lags),
                "sheet_not_seen": unseen,
                "not_told": none,
            }
    return figures


def analysing(runs: int) -> dict[str, Any]:
    """``analyse heat`` of one hour at 10 Hz after imports, against its limit."""
    from ublet.core.heat.analysis import analyse_heat
    from ublet.core.heat.model import HeaterModel, respond

    time_s = np.arange(36_000, dtype=np.float64) * 0.1
    duty = np.where(time_s < 90, 1.0, (np.sin(time_s * 0.1) > 0.2) * 0.7)
    model = HeaterModel(540.0, 205.0, 1.6, ROOM_C, 2.0)
    celsius = respond(model, time_s, duty, ROOM_C) + 0.06 * np.random.default_rng(1).standard_normal(len(time_s))
    times = []
    for _ in range(runs + 1):
        began = time.perf_counter()
        analysis = analyse_heat(time_s, duty, celsius)
        times.append(time.perf_counter() - began)
    return {
        "samples": len(time_s),
        "median_s": round(float(np.median(times[1:])), 3),
        "limit_s": 0.5,
        "gain_error": round(analysis.fit.model.gain_c / model.gain_c - 1, 4),
        "time_constant_error": round(analysis.fit.model.time_constant_s / model.time_constant_s - 1, 4),
    }


def _span(values: list[float]) -> dict[str, float]:
    if not values:
        return {}
    return {
        "median": round(float(np.median(values)), 3),
        "least": round(min(values), 3),
        "most": round(max(values), 3),
    }


def _run(trial: str, scenario: Path, target: float, seed: int, keep: bool) -> dict[str, Any]:
    from ublet.session.headless import run_on_scenario
    from ublet.session.orders import order_for

    order = order_for(trial, [f"target={target:g}"], keep=keep, save=False)
    return run_on_scenario(order, scenario, None, seed, lambda progress: None).report


def _truth(report: Mapping[str, Any], what: str) -> float:
    """The truth of a report's only finding of that word."""
    return next(float(value) for id, value in report["truth"].items() if id.partition(".")[0] == what)
