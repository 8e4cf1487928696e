"""Coils made up at random, from their current to a pass over the bed: how near each comes, and whether claims cover."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.beds import Tally, made_up, probed, run_made_up

DRIFT = ("touches=5", "bed_c=100", "soak_s=300")
WARM = ("bed_c=95",)
WITHIN_MM = 0.01


def keep_in(machine: Path, report: Mapping[str, Any]) -> None:
    """What a run proposed, written into the machine file."""
    import tomlkit

    text = tomlkit.parse(machine.read_text(encoding="utf-8"))
    for proposal in report["proposals"]:
        *tables, key = proposal["setting"].split(".")
        here: Any = text
        for table in tables:
            here = here.setdefault(table, {})
        here[key] = proposal["after"]
    machine.write_text(tomlkit.dumps(text), encoding="utf-8")


def prepared(folder: Path, seed: int, lifts: int = 3) -> tuple[Path, list[dict[str, Any]]]:
    """A coil machine whose current, curve and drift were found and kept; its scenario, and the three reports."""
    scenario, _ = made_up(folder, seed, lifts, "coil")
    machine = folder / f"bed-{lifts}-{seed}.toml"
    reports = []
    for trial, sets in (("coil-current", ()), ("coil-curve", ()), ("coil-drift", DRIFT)):
        report = run_made_up(trial, list(sets), scenario, seed)
        reports.append(report)
        keep_in(machine, report)
    return scenario, reports


def coils(machines: int) -> dict[str, Any]:
    """Every trial of a coil on so many machines; then a pass over a hot bed, the coil some 30 °C warmer than at its
    curve: how far its map is from the true one.
    """
    proven: dict[str, list[bool]] = {}
    covered: list[bool] = []
    drifts: list[bool] = []
    errors: list[float] = []
    shifts: list[float] = []
    failed: list[str] = []
    warmer: list[float] = []
    tally = Tally()
    quick: list[float] = []
    wider: list[float] = []
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        for seed in range(machines):
            scenario, reports = prepared(Path(name), seed)
            reports.append(run_made_up("coil-pass", list(WARM), scenario, seed))
            level = run_made_up("lead-screws", [], scenario, seed, keep=True)
            probed(tally, scenario, seed, level, quick, wider)
            for report in reports:
                good = report["outcome"] == "proven"
                proven.setdefault(report["trial"], []).append(good)
                if not good:
                    failed.append(f"{seed} {report['trial']}: {report['why']}")
            by_id = {finding["id"]: finding for finding in reports[-1]["findings"]}
            truth = reports[-1].get("truth", {})
            for id, true in truth.items():
                if id.startswith("height"):
                    errors.append(abs(by_id[id]["value"] - true))
                    covered.append(errors[-1] <= 2 * by_id[id]["uncertainty"])
            shift = next((f for f in reports[2]["findings"] if f["id"] == "shift"), None)
            if shift is not None and "shift" in (true := reports[2].get("truth", {})):
                drifts.append(abs(shift["value"] - true["shift"]) <= 2 * shift["uncertainty"])
            shifts += [abs(f["value"]) for f in reports[2]["findings"] if f["id"] == "shift"]
            warmer += [by_id["warmer"]["value"]] if "warmer" in by_id else []
    return {
        "machines": machines,
        "proven": {trial: round(float(np.mean(count)), 3) for trial, count in proven.items()},
        "heights_covered": round(float(np.mean(covered)), 3) if covered else None,
        "claims": len(covered),
        "drift_covered": round(float(np.mean(drifts)), 3) if drifts else None,
        "map_p95_um": round(1000 * float(np.percentile(errors, 95)), 1) if errors else None,
        "map_within": round(float(np.mean(np.array(errors) <= WITHIN_MM)), 3) if errors else None,
        "shift_median_um": round(float(np.median(shifts)), 1) if shifts else None,
        "warmer_median_c": round(float(np.median(warmer)), 1) if warmer else None,
        **tally.report(),
        "failed": [*failed, *tally.failed],
    }
