"""Killed at random moments of keep, save and restore, nothing that was reported as saved is lost."""

from __future__ import annotations

from pathlib import Path

import pytest

from ublet.benchmark import kills as module
from ublet.benchmark.kills import kills


def test_what_was_reported_as_saved_stands_after_a_kill(tmp_path: Path) -> None:
    figures = kills(tmp_path / "k", 4)
    assert (figures["kills"], figures["lost"]) == (4, [])
    assert set(figures["under_way"]) <= {"keep", "save", "saved", "restore"}


def test_a_loss_would_be_seen(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def another(place: Path) -> tuple[float, float]:
        return 0.5, 0.5

    monkeypatch.setattr(module, "_after", another)
    assert len(kills(tmp_path / "k", 1)["fell_short"]) == 1
