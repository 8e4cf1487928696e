"""The whole route on both shipped machines, as `ublet commission` walks it; and chosen trials in a chosen order."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ublet.core.trial import TrialSpec
from ublet.firmware.clock import run_virtually
from ublet.session.commissioning import commission
from ublet.session.headless import on_scenario
from ublet.session.unattended import until_fit, until_proven

LIMIT_S = 60.0
"""Limit of computing for one machine, s."""


def whole_route(seeds: int) -> dict[str, Any]:
    """For each shipped machine: how many seeds ended commissioned, how long it took, and the quality that was reached
    at its worst.
    """
    from ublet.session.library import DEMOS, scenario_path

    figures: dict[str, Any] = {}
    short = []
    for kind, stem in DEMOS.items():
        reports = [commission(scenario_path(stem), seed, lambda progress: None) for seed in range(1, seeds + 1)]
        names = reports[0]["quality"]
        good = sum(report["outcome"] == "commissioned" for report in reports)
        slowest_s = max(report["wall_s"] for report in reports)
        figures[kind] = {
            "seeds": seeds,
            "commissioned": good,
            "open": [f"{report['seed']}: {words}" for report in reports for words in report["open"]],
            "slowest_s": slowest_s,
            "limit_s": LIMIT_S,
            "worst_quality": {name: _worst([report["quality"][name] for report in reports]) for name in names},
        }
        short += [f"{kind}: {seeds - good} of {seeds} not commissioned"] if good < seeds else []
        short += [f"{kind}: {slowest_s:.0f} s of computing"] if slowest_s > LIMIT_S else []
    return {**figures, "fell_short": short}


def _worst(values: Sequence[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return round(sorted(known, key=lambda value: value * value)[-1], 4) if known else None


def not_proven(stem: str, seed: int, trials: Sequence[TrialSpec]) -> dict[str, str]:
    """These trials in this order on a shipped machine: those that did not end proven, each with why."""
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as folder:
        return run_virtually(_walk(stem, seed, trials, Path(folder)))


async def _walk(stem: str, seed: int, trials: Sequence[TrialSpec], folder: Path) -> dict[str, str]:
    from ublet.session.library import machine_path, scenario_path

    machine = folder / f"{stem}.toml"
    machine.write_text(machine_path(stem).read_text(encoding="utf-8"), encoding="utf-8")
    left: dict[str, str] = {}
    async with on_scenario(scenario_path(stem), machine, seed, lambda progress: None) as (session, watcher):
        for spec in trials:
            await until_fit(session, spec)
            ended = await until_proven(session, spec, watcher)
            if ended.result.outcome != "proven":
                left[spec.name] = ended.result.why
    return left
