"""A soak that is measured: the bed's middle, once a minute, until it stands."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.conftest import Onlooker, Rig, mended_tern, virtually
from ublet.core.catalogue import TRIALS
from ublet.core.level.support.still_trials import StillParameters, drift

SPEC = TRIALS["bed-still"]


@pytest.mark.parametrize("frame_s", [200, 900])
def test_the_bed_really_stands_still_when_it_is_said(folder: Path, frame_s: int) -> None:
    scenario = mended_tern()
    scenario = scenario.model_copy(
        update={"bed": scenario.bed.model_copy(update={"frame_s": float(frame_s), "rise_mm_k": 0.003})}
    )

    async def work() -> None:
        async with Rig(folder, scenario) as rig:
            entered = await rig.session.run(SPEC, StillParameters(), Onlooker())
            result = entered.ran.result
            assert result.outcome == "proven", result.why
            still, moved = result.finding("still_after"), result.finding("moved")
            rows = rig.session.ledger.streams(entered.number or 0)["still"].rows
            assert still is not None and moved is not None
            last = rows[-1]
            assert abs(last[2]) <= 5.0
            # the frame warms by 1 - exp(-t / frame): from then on less than the limit a minute
            left = 0.003 * 37 * np.exp(-last[0] / frame_s) * (1 - np.exp(-60 / frame_s))
            assert left < 0.007, (left, result.why)
            assert moved.value > 0.005
            (proposal,) = result.proposals
            assert proposal.setting == "bed.soak_s" and proposal.after == pytest.approx(still.value, abs=10)

    virtually(work)


def test_a_bed_that_never_stands_is_said(folder: Path) -> None:
    scenario = mended_tern()
    scenario = scenario.model_copy(
        update={"bed": scenario.bed.model_copy(update={"frame_s": 3000.0, "rise_mm_k": 0.01})}
    )

    async def work() -> None:
        async with Rig(folder, scenario) as rig:
            entered = await rig.session.run(SPEC, StillParameters(longest_s=300.0), Onlooker())
            assert entered.ran.result.outcome == "failed" and "still moves" in entered.ran.result.why
            assert rig.everything_is_off()

    virtually(work)


def test_a_drift_is_the_slope_of_the_last_touches() -> None:
    heights = [(60.0 * n, 0.1 * np.exp(-n / 3) + 0.001 * (-1) ** n) for n in range(12)]
    slope, u = drift(heights)
    assert -0.004 / 60 < slope < 0 and 0 < u < 0.002 / 60
    assert drift(heights[:2])[0] == np.inf
