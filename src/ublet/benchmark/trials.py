"""Speed and accuracy of headless trials, and of the fit."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Mapping
from typing import Any


def trial_figures(stem: str) -> dict[str, Any]:
    """The headless hotend trial with keep, verify and save, as a process of its own."""
    import json

    from ublet.session.library import scenario_path

    command = [sys.executable, "-m", "ublet", "run", "hotend-control", "--scenario", str(scenario_path(stem))]
    walls, report = [], {}
    for _ in range(3):
        began = time.perf_counter()
        done = subprocess.run([*command, "--keep", "--save", "--json"], capture_output=True, text=True, check=False)
        walls.append(time.perf_counter() - began)
        report = json.loads(done.stdout)
    machine_s = report["duration_s"] + report["verify"]["duration_s"]
    values = {finding["id"].partition(".")[0]: finding["value"] for finding in report["verify"]["findings"]}
    wall = statistics.median(walls)
    model = {finding["id"].partition(".")[0]: finding["value"] for finding in report["findings"]}
    return {
        "outcome": report["outcome"],
        "machine_s": machine_s,
        "wall_s_with_start_up": round(wall, 2),
        "times_real": round(machine_s / wall),
        "limit_times_real": 200,
        "overshoot_c": round(values["overshoot"], 3),
        "predicted_overshoot_c": round(values["predicted_overshoot"], 3),
        "difference_c": round(values["overshoot_against_prediction"], 3),
        "limits_c": {"overshoot": 2.0, "ripple": 0.5, "difference": 1.0},
        "ripple_c": round(values["ripple"], 3),
        "gain_error": round(model["gain"] / _truth(report, "gain") - 1, 4),
        "time_constant_error": round(model["time_constant"] / _truth(report, "time_constant") - 1, 4),
    }


def fit_speed(runs: int) -> dict[str, Any]:
    """Our least squares beside scipy's on the same record, when scipy is installed (development only)."""
    import numpy as np

    from ublet.core.heat.model import HeaterModel, respond
    from ublet.core.least_squares import minimise

    truth = np.log([540.0, 205.0, 1.6, 2.0])
    time_s = np.arange(2500, dtype=np.float64) * 0.1
    duty = np.where(time_s < 90, 1.0, (np.sin(time_s * 0.4) > 0.2) * 0.7)

    def response(logs: Any) -> Any:
        gain, lag, dead, second = np.exp(logs).tolist()
        return respond(HeaterModel(gain, lag, dead, 23.0, second), time_s, duty, 23.0)

    seen = response(truth) + 0.06 * np.random.default_rng(1).standard_normal(len(time_s))
    start, low, high = truth + 0.3, truth - 3, truth + 3
    ours, plain = [], []
    try:
        from scipy.optimize import least_squares
    except ImportError:
        least_squares = None
    for _ in range(runs):
        began = time.perf_counter()
        minimise(lambda x: response(x) - seen, start, low, high)
        ours.append(time.perf_counter() - began)
        if least_squares is not None:
            began = time.perf_counter()
            least_squares(lambda x: response(x) - seen, start, bounds=(low, high))
            plain.append(time.perf_counter() - began)
    figures: dict[str, Any] = {"ours_s": round(statistics.median(ours), 4), "samples": len(time_s)}
    if plain:
        ratios = [a / b for a, b in zip(ours, plain, strict=True)]
        figures.update(scipy_s=round(statistics.median(plain), 4), ratio=round(statistics.median(ratios), 3))
    return figures


def _truth(report: Mapping[str, Any], what: str) -> float:
    """The truth of a report's only finding of that word."""
    return next(float(value) for id, value in report["truth"].items() if id.partition(".")[0] == what)
