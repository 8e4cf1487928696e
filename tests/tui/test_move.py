"""The leg Move in a real terminal: Tern's planted faults found and mended by following the route, keys only."""

from __future__ import annotations

import re
import time
from pathlib import Path

from tests.tui.inside import Inside, inside
from tests.tui.test_wire import press_each

MOTORS = {"x.a": "X a", "y.b": "Y b", "z.left": "Z left", "z.right": "Z right", "z.back": "Z back"}


def answer(screen: Inside, words: str) -> None:
    """Press the key that stands before an answer."""
    shown = screen.text()
    found = re.search(rf"(?:^|\s)(enter|\w) {re.escape(words)}(?:\s|$)", shown, re.MULTILINE)
    assert found, f"no key for {words}:\n{shown}"
    screen.key({"enter": "Enter"}.get(found[1], found[1]))


def look_and_answer(screen: Inside, question: str, seen: str, until: str) -> None:
    """Answer each question with what is noticed at the machine, until the trial says something else."""
    asked = ""
    end = time.monotonic() + 90
    while until not in (shown := screen.text()):
        assert time.monotonic() < end, shown
        message, noticed = re.search(question, shown), re.search(seen, shown)
        if message and noticed and message[0] != asked:
            asked = message[0]
            words = "all opened alike" if noticed[1] is None else noticed[1].split(",")[0]
            answer(screen, MOTORS.get(words, words))
        screen.rest(0.1)


def type_in(screen: Inside, text: str) -> None:
    screen.type(text)
    screen.key("Enter")


def test_the_planted_faults_of_motion_are_found_and_mended_by_the_route(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "a")
    screen.wait("4 differ")
    screen.key("NPage", "Down")
    screen.wait("You press each of 3 switches")
    screen.key("Enter", "Enter")
    press_each(screen)
    screen.wait("inverted")
    screen.key("k")
    screen.wait("3 kept, not saved")

    screen.key("Tab", "Down", "Down", "Down")  # motors one by one: two lifts are on each other's drivers
    screen.wait("Turns X a, Y b")
    screen.key("Enter", "Enter")
    look_and_answer(screen, r"The motor (\w+ ?\w*) was commanded", r"turned: ([\w.]+)", "expected effect")
    assert "Z right was commanded, and Z back turned instead" in screen.text()
    screen.key("k")
    screen.wait("5 kept, not saved")

    screen.key("Tab", "Down")  # directions: one belt motor is reversed
    screen.wait("Moves X, then Y, then Z")
    for words in ("Y b runs the wrong way", "✓ Right, back and up, as commanded"):
        screen.key("Enter", "Enter") if words.startswith("Y b") else screen.key("Enter")
        look_and_answer(
            screen,
            r"(X|Y|Z) was commanded \d+ mm|Which side did otherwise",
            r"the nozzle went: (\w+)|at left the gap (opened)",
            words,
        )
        if words.startswith("Y b"):
            screen.key("k")
            screen.wait("6 kept, not saved")

    screen.key("Tab", "Down")  # homing, with the nozzle warmed before Z
    screen.wait("the hotend heats to 140")
    screen.key("Enter", "Enter")
    screen.wait("✓ Every axis finds its end")

    screen.key("Tab", "Down")  # travel: X's switch was moved, a clip stops Y in front
    screen.wait("from above")
    screen.key("Enter", "Enter")
    screen.wait("over the bed's front left corner")
    type_in(screen, "x1.2 y0")
    screen.wait("0.0 mm left of and 0.")  # as near as Y's switch repeats
    screen.key("Enter")
    screen.wait("as far right as it goes")
    type_in(screen, "x287.2")
    screen.wait("2.5 mm are left to the stop")
    screen.key("Enter")
    screen.wait("as far to the front as it goes")
    type_in(screen, "y=-7")
    screen.wait("2.0 mm are left to the stop")
    screen.key("Enter")
    shown = screen.wait("3 limits do not fit")
    assert "The bed's corner is at X +1.2" in shown and "axes.y.minimum_mm" in shown
    screen.key("k")
    screen.wait("9 kept, not saved")

    screen.key("Tab", "Down")  # steps per mm: the screws have twice the lead
    screen.wait("Homes axes not yet homed")
    screen.key("Enter", "p")
    screen.wait("Parameters of steps per mm")
    type_in(screen, "axis=z repeats=2 length_mm=5cm")
    screen.wait("axis z, length 50 mm, repeats 2")
    for words in ("the screw has a lead of 8 mm, not 4", "✓ Z: leave it"):
        screen.key("Enter")
        measure(screen, words)
        screen.key("k")
    screen.wait("10 kept, not saved")

    screen.key("C-s")
    screen.wait("together?")
    screen.key("Enter")
    screen.wait("10 settings saved")
    text = (tmp_path / "a" / "tern" / "tern-280.toml").read_text(encoding="utf-8")
    assert "steps_per_mm = 400" in text and "minimum_mm = -5.2" in text


def measure(screen: Inside, until: str) -> None:
    """Mark, and type what is read at each lift."""
    asked, end = "", time.monotonic() + 120
    while until not in (shown := screen.text()):
        assert time.monotonic() < end, shown
        read = re.search(r"read on the callipers: (-?[\d.]+) mm", shown)
        place = re.search(r"How far did (.*?) go", shown)
        step = re.search(r"(\d) of 2", shown)
        if "Mark at each lift" in shown and asked != "mark":
            asked = "mark"
            screen.key("Enter")
        elif read and place and (key := f"{place[1]} {step and step[1]}") != asked and "= " not in shown:
            asked = key
            type_in(screen, f"{read[1]} mm")
        screen.rest(0.1)


def test_keys_jog_to_scale_and_are_refused_before_homing_and_beyond_limits(
    screens: list[Inside], tmp_path: Path
) -> None:
    screen = inside(screens, tmp_path / "w", machine="wren-180")
    screen.key("NPage", "NPage", "Down", "Down")
    screen.wait("nobody knows where the nozzle stands")
    screen.key("Enter", ".", "Right")
    screen.wait("before homing at most 20 mm")
    type_in(screen, "x50")
    screen.wait("X is not homed: home it first")
    screen.key("Escape", "h")
    screen.wait("✓ Every axis is homed")
    type_in(screen, "x120 y80 z2cm")
    screen.wait("X 120.0 Y 80.0 Z 20.0")
    screen.key(",", "Right", "Up")
    screen.wait("X 130.0 Y 90.0")
    screen.wait("Z at 8 mm/s (not 40: maximum feed, image)")
    type_in(screen, "+100")
    screen.wait("allowed -3 to 162")
    screen.key("F8")
    screen.wait("■ HALTED")
    screen.key("Right", "r")
    screen.wait("nothing runs, nothing heats")
    assert "X 130.0 Y 90.0" in screen.text()
