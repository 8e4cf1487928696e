"""Trends of findings: how many planted creeps and steps are named, and how many are invented."""

from __future__ import annotations

from typing import Any

import numpy as np

from ublet.core.trend import trend

RUNS, TOUCHES = 10, 5
"""Runs of a finding, and touches of which each run is the mean."""

CREEP, STEP = 3.0, 3.0
"""How far a finding creeps over its runs, and steps, in spreads of one touch."""

LEAST, MOST = 0.95, 0.05
"""Fraction of planted trends that is to be named, and of none that may be invented."""


def trends(series: int) -> dict[str, Any]:
    """Named, placed and invented trends over a number of series of each kind."""
    named = {"creep": 0, "step": 0}
    placed = invented = covered = creeps = 0
    for seed in range(series):
        noise = np.random.default_rng([seed, 5]).standard_normal(RUNS) / np.sqrt(TOUCHES)
        slope = CREEP / (RUNS - 1)
        creeping = trend((slope * np.arange(RUNS) + noise).tolist())
        at = 3 + seed % (RUNS - 5)
        stepping = trend((np.where(np.arange(RUNS) >= at, STEP, 0.0) + noise).tolist())
        still = trend(noise.tolist())
        assert creeping is not None and stepping is not None and still is not None
        named["creep"] += creeping.kind != "scatters"
        named["step"] += stepping.kind != "scatters"
        placed += stepping.kind == "stepped" and stepping.at == at
        invented += still.kind != "scatters"
        if creeping.kind == "creeps":
            creeps += 1
            covered += abs(creeping.slope - slope) <= 2 * creeping.slope_u
    figures = {
        "series": series,
        "creeps_named": round(named["creep"] / series, 3),
        "steps_named": round(named["step"] / series, 3),
        "steps_at_their_run": round(placed / series, 3),
        "slopes_within_2u": round(covered / max(1, creeps), 3),
        "invented": round(invented / series, 3),
        "limits": {"named": LEAST, "invented": MOST},
    }
    short = [f"{kind}s named: {count} of {series}" for kind, count in named.items() if count < LEAST * series]
    short += [f"invented: {invented} of {series}"] if invented > MOST * series else []
    return {**figures, "fell_short": short}
