"""Coverage: over machines made up at random, how often the truth lies within what a finding claims."""

from __future__ import annotations

import shutil
import tempfile
import tomllib
from collections import defaultdict
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.plants import made_up_scenario

FIRST_SEED = 1000
"""Machines that nothing in the estimators was ever sized by."""

LEAST, MOST = 0.90, 0.99
"""Two standard uncertainties are to hold the truth in this share of machines."""

Made = tuple[Path, list[str]]


def coverage(machines: int) -> dict[str, Any]:
    """For every built trial: the share of machines in which each finding's truth lay within 2u, and what has no truth.

    A share is judged against :data:`LEAST` with the binomial scatter of so few machines (two standard deviations).
    """
    inside: dict[str, list[bool]] = defaultdict(list)
    open_: dict[str, str] = {}
    from ublet.core.catalogue import TRIALS

    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        for trial in TRIALS:
            for number in range(machines if trial in MAKERS else 1):
                scenario, words = MAKERS.get(trial, _motion)(Path(name), FIRST_SEED + number)
                _count(trial, _run(trial, scenario, words, number), inside, open_)
    fractions = {finding: round(float(np.mean(hits)), 3) for finding, hits in sorted(inside.items())}
    slack = 2 * (LEAST * (1 - LEAST) / machines) ** 0.5
    return {
        "machines": machines,
        "within_2u": {
            finding: {"share": fraction, "of": len(inside[finding])} for finding, fraction in fractions.items()
        },
        "overall": round(float(np.mean([hit for hits in inside.values() for hit in hits])), 3),
        "limits": [LEAST, MOST],
        "below": [finding for finding, fraction in fractions.items() if fraction < LEAST - slack],
        "without_truth": sorted(open_),
    }


def _count(trial: str, report: Mapping[str, Any], inside: dict[str, list[bool]], open_: dict[str, str]) -> None:
    for part in (report, report.get("verify", {})):
        for finding in part.get("findings", ()):
            name = f"{part['trial']}: {finding['id']}"
            truth = part["truth"].get(finding["id"])
            if finding["uncertainty"] is None:
                continue
            if truth is None:
                open_[name] = trial
            else:
                inside[name].append(abs(finding["value"] - truth) <= 2 * finding["uncertainty"])


def _heater(part: str) -> Callable[[Path, int], Made]:
    def make(folder: Path, seed: int) -> Made:
        scenario, target = made_up_scenario(folder, part, seed)
        return scenario, [f"target={target:g}"]

    return make


def _motion(folder: Path, seed: int) -> Made:
    """Wren with other belts and screws, frictions, masses and switches, and a builder with other instruments."""
    from ublet.session.library import DATA

    random = np.random.default_rng(seed)
    shutil.copytree(DATA / "machines", folder / "machines", dirs_exist_ok=True)
    (folder / "scenarios").mkdir(parents=True, exist_ok=True)
    text = (DATA / "scenarios" / "wren-180.toml").read_text(encoding="utf-8")
    for spread in ("0.015", "0.02", "0.01"):
        text = text.replace(f"spread_mm = {spread}\n", f"spread_mm = {random.uniform(0.004, 0.03):.4f}\n", 1)
    import tomlkit

    truth = tomllib.loads(text)
    truth["carriages"] = {
        axis: {
            "mass_kg": round(float(mass * random.uniform(0.7, 1.5)), 3),
            "friction_n": round(float(random.uniform(2, 6)), 2),
            "play_mm": round(float(random.uniform(0, 0.05)), 3),
        }
        for axis, mass in (("x", 0.4), ("y", 0.9), ("z", 1.2))
    }
    path = folder / "scenarios" / f"wren-{seed}.toml"
    path.write_text(tomlkit.dumps(truth), encoding="utf-8")
    return path, []


def _soak(folder: Path, seed: int) -> Made:
    """A bed with a sheet on it: those have odd seeds."""
    scenario, target = made_up_scenario(folder, "bed", 2 * seed + 1)
    return scenario, [f"target={target:g}"]


MAKERS: dict[str, Callable[[Path, int], Made]] = {
    "hotend-control": _heater("hotend"),
    "bed-control": _heater("bed"),
    "bed-soak": _soak,
    "homing": _motion,
    "travel-limits": _motion,
    "steps-per-mm": _motion,
    "speed-limits": _motion,
    "driver-current": _motion,
}
"""Trials whose findings have truths, and the machines that they are tried on; the others are run once."""


def _run(trial: str, scenario: Path, words: list[str], seed: int) -> dict[str, Any]:
    from ublet.session.headless import run_on_scenario
    from ublet.session.orders import order_for

    keep = trial in ("hotend-control", "bed-control")
    return run_on_scenario(order_for(trial, words, keep, False), scenario, None, seed, lambda progress: None).report
