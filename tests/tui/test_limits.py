"""The picture of the limits: every kind of finding in its words, and tries along diagonals."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.conftest import Rig, tern_scenario, virtually
from ublet.core.motion.counting import TRIES
from ublet.core.run import Finding, Series, TrialResult
from ublet.tui.motion import limits

FOUND = (
    Finding("feed_limit", 398.4, 13.5, "mm/s", subject={"axis": "x"}),
    Finding("acceleration_holds", 8000.0, None, "mm/s²", subject={"axis": "x"}),
    Finding("least_current", 0.52, 0.02, "A", subject={"axis": "x"}),
)


class Watched:
    """A running trial that has tried something."""

    def series(self, name: str) -> Series:
        rows = [(3.0, 300.0, 4000.0, 1.1, 0.01, 1.0), (4.0, 375.0, 4000.0, 1.1, -12.0, 0.0), (2.0, 15, 150, 0.9, 0, 1)]
        return Series(TRIES.columns, np.array(rows))


def test_limits_are_told_in_words(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            result = TrialResult("proven", "", {}, FOUND)
            monkeypatch.setattr(limits, "newest_result", lambda session, watched, trial: result)
            shown = limits.limits_picture(rig.session, None, 150, 30).plain
            assert "lost above 398 ±" in shown and "held up to 8000" in shown and "lost below 0.5" in shown
            assert shown.count("not tried yet") == 6
            tried = limits.limits_picture(rig.session, Watched(), 150, 30).plain.splitlines()  # type: ignore[arg-type]
            assert [line[:4].strip() for line in tried[1:]] == ["X+Y", "X-Y", "Z"]
            assert "● held" in tried[1] and "1.00" in tried[1] and "✗ lost steps" in tried[2] and "1.25" in tried[2]

    virtually(work)
