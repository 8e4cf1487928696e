"""Terminals that are closed when a test ends."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.tui.screen import Screen


@pytest.fixture
def screens() -> Iterator[list[Screen]]:
    opened: list[Screen] = []
    yield opened
    for screen in opened:
        screen.close()
