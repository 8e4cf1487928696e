"""Tests that wait for real processes: they are marked, and run one after the other beside those that compute."""

from __future__ import annotations

import pytest

WAITING = "waits"
"""Their mark, and the group that one worker has to itself."""

_running: list[pytest.Item] = []


def runs(item: pytest.Item) -> None:
    """This test is run now."""
    _running[:] = [item]


def must_wait() -> None:
    """Called by what starts a board or a terminal; AssertionError in a test that has not the mark."""
    assert all(item.get_closest_marker(WAITING) for item in _running), f"mark it pytest.mark.{WAITING}"
