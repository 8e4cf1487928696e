"""A newcomer's walk: whoever only follows “next”, does what is asked and answers what is seen comes through the legs
Declare and Wire to homed axes; every key counts, and none is without effect.
"""

from __future__ import annotations

import re
import shutil
import time
from pathlib import Path

import pytest

from tests.tui.inside import Inside
from tests.tui.screen import SPEED, Screen

PANEL = "█  "
WALK_S = 300.0
MOST_VISITS = 3
"""So often "next" may lead to the same station: its trial, a mend that was kept, and its confirmation."""


class Newcomer:
    """Presses the keys that the screen names; keys counts them."""

    def __init__(self, screen: Inside | Screen) -> None:
        self.screen, self.keys = screen, 0
        self.visits: dict[str, int] = {}

    def press(self, *names: str) -> None:
        """Keys, each of which must change the screen."""
        for name in names:
            before = self.screen.text()
            self.screen.key(name)
            self.keys += 1
            end = time.monotonic() + 10
            while self.screen.text() == before:
                assert time.monotonic() < end, f"{name} had no effect on\n{before}"

    def question(self, text: str) -> list[str]:
        """Lines of the question that is put now."""
        return [line.split(PANEL, 1)[1].strip() for line in text.split("\n") if PANEL in line]

    def answer(self, lines: list[str]) -> None:
        """What is asked for is done by the keys of the demonstration, and answered by what is seen there."""
        body = " ".join(lines)
        if pressed := re.search(r"(?:Press|Let) the (X endstop|Y endstop|Z endstop|probe)", body):
            word = pressed.group(1).split()[0].lower()
            number = next(key for key, name in re.findall(r"(\d) (\w+)", lines[-1]) if name == word)
            self.press(number, "Enter")
            return
        seen = next((line.partition(":")[2] for line in lines if line.startswith("at the machine:")), "")
        wanted = " ".join(re.findall(r"[a-z0-9]+", seen.lower()))
        options = re.findall(r"(enter|\w) ((?:\S+ )*?\S+)(?:    |$)", "\n".join(lines[1:]), re.MULTILINE)
        fits = [
            (len(label), key)
            for key, label in options
            if re.search(rf"\b{' '.join(re.findall('[a-z0-9]+', label.lower()))}\b", wanted)
        ]
        key = max(fits)[1] if fits else "enter"
        self.press("Enter" if key == "enter" else key)

    def walk(self, until: str) -> None:
        """Follow "next" until it leads to a station."""
        end = time.monotonic() + WALK_S
        while time.monotonic() < end:
            text = self.screen.text()
            lines = text.split("\n")
            if asked := self.question(text):
                self.answer(asked)
            elif any(line.lstrip().startswith("◆") for line in lines[-4:]):
                time.sleep(0.1)
                self.screen.text()
            elif "K keep and save" in text:
                self.press("K")
                self.screen.wait("enter save")
                self.press("Enter")
                self.screen.gone("enter save")
            elif "restarting" in text or "uploading" in text:
                time.sleep(0.1)
            elif leads := re.search(r"next +F2 ([\w ]+?),", text):
                station = leads.group(1)
                if station == until:
                    return
                if station == "port and link":  # it is measured by itself
                    self.screen.gone(leads.group(0))
                    continue
                self.visits[station] = self.visits.get(station, 0) + 1
                assert self.visits[station] <= MOST_VISITS, f"next leads in a circle:\n{text}"
                self.press("F2")
                self.screen.wait("enter write / settle" if station == "write to board" else "enter start")
                self.press("Enter")
        raise AssertionError(f"the walk did not get there:\n{self.screen.text()}")


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
