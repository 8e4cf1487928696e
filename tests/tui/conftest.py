"""Terminals that are closed when a test ends."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.tui.inside import Inside
from tests.tui.screen import Screen


@pytest.fixture
def screens() -> Iterator[list[Screen | Inside]]:
    opened: list[Screen | Inside] = []
    yield opened
    for screen in opened:
        screen.close()
