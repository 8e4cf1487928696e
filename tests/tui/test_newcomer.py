"""A newcomer's walk: whoever only follows “next”, does what is asked and answers what is seen comes through the legs
Declare and Wire to homed axes; every key counts, and none is without effect.
"""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tests.tui.inside import Inside
from tests.tui.newcomer import Newcomer
from tests.tui.screen import SPEED, Screen


def test_next_alone_leads_through_tern_with_its_planted_faults(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        screen.wait("no errors")
        newcomer = Newcomer(screen)
        newcomer.walk("travel limits")
        assert newcomer.keys <= 130, newcomer.visits
        assert {"inputs by hand", "motors", "homing"} <= newcomer.visits.keys()
    finally:
        screen.close()


@pytest.mark.waits
@pytest.mark.skipif(shutil.which("tmux") is None, reason="needs tmux")
def test_next_alone_leads_through_wren_in_a_real_terminal(screens: list[Screen], tmp_path: Path) -> None:
    screen = Screen(tmp_path, "demo", "--machine", "wren", "--dir", str(tmp_path / "wren"), "--speed", SPEED)
    screens.append(screen)
    screen.wait("no errors")
    newcomer = Newcomer(screen)
    newcomer.walk("travel limits")
    assert newcomer.keys <= 70, newcomer.visits
