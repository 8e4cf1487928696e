"""What the bench counts as covered, and that its machines are other ones each time."""

from __future__ import annotations

from collections import defaultdict
from pathlib import Path

from ublet.benchmark.coverage import MAKERS, _count, _motion
from ublet.core.catalogue import TRIALS
from ublet.world.scenario import load_scenario


def test_a_truth_within_two_uncertainties_counts_and_one_that_is_missing_is_listed() -> None:
    inside: dict[str, list[bool]] = defaultdict(list)
    without: dict[str, str] = {}
    findings = [
        {"id": "gain", "value": 10.0, "uncertainty": 1.0},
        {"id": "delay", "value": 10.0, "uncertainty": 1.0},
        {"id": "reading", "value": 1.0, "uncertainty": 0.1},
        {"id": "bare", "value": 1.0, "uncertainty": None},
    ]
    report = {"trial": "t", "findings": findings, "truth": {"gain": 12.0, "delay": 12.1, "bare": 5.0}}
    _count("t", report, inside, without)
    assert inside == {"t: gain": [True], "t: delay": [False]} and list(without) == ["t: reading"]


def test_machines_differ_by_seed_and_are_good_scenarios(tmp_path: Path) -> None:
    made = [load_scenario(_motion(tmp_path, seed)[0]) for seed in (1, 2)]
    assert made[0].carriages["x"].mass_kg != made[1].carriages["x"].mass_kg
    assert set(MAKERS) <= set(TRIALS)
