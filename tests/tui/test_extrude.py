"""The legs Extrude and Shake by keyboard: filament measured, a program changed while it runs, readings at rest."""

from __future__ import annotations

import re
import shutil
import time
from pathlib import Path

import pytest

from tests.tui.inside import Inside
from tests.tui.screen import SPEED, Screen


def to(screen: Inside | Screen, station: str) -> None:
    """Go to a station by the palette."""
    screen.key("C-p")
    screen.type(f"go to {station}")
    screen.wait(f"Go to {station}")
    screen.key("Enter")


@pytest.mark.waits
@pytest.mark.skipif(shutil.which("tmux") is None, reason="needs tmux")
def test_the_square_is_nudged_held_sent_on_and_halted(screens: list[Screen], tmp_path: Path) -> None:
    screen = Screen(tmp_path, "demo", "--machine", "wren", "--dir", str(tmp_path / "wren"), "--speed", SPEED)
    screens.append(screen)
    screen.wait("clock ×")
    to(screen, "test piece")
    shown = screen.wait("by live settings")
    assert "purge line" in shown and "if printed; now dry" in shown and "Nothing heats" in shown
    screen.key("p")
    screen.type("side_mm=120 rounds=10")
    screen.key("Enter")
    screen.wait("a square of 120 mm")
    screen.key("Enter")
    screen.wait("The square runs")
    screen.key("3")
    screen.wait("held: it stands")
    for key in ("1", "1", "2", "1"):  # one after the other: keys that follow at once are one that is held down
        screen.key(key)
        time.sleep(0.4)
    screen.wait("-0.04 mm nudged")
    screen.key("6")
    screen.wait("110 %")
    screen.key("4")
    screen.gone("held: it stands")
    screen.key("F8")
    screen.wait("HALTED")
    shown = screen.wait("Halted by you")
    assert "The square runs" not in shown
    screen.key("r")
    screen.gone("HALTED")


def test_filament_is_marked_pushed_read_and_its_steps_are_kept(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        to(screen, "extruder steps")
        screen.wait("you measure the remaining distance to a mark with the rule")
        screen.key("p")
        screen.type("repeats=2 length_mm=60")
        screen.key("Enter", "Enter")
        screen.wait("Is pla loaded")
        screen.key("Enter")
        for number in range(4):
            screen.wait("before it goes in, by the rule")
            screen.key("Enter")
            shown = screen.wait("left on the rule")
            if number == 0:
                screen.type("lost")
                assert "✗ " in screen.wait("is not a number")
                screen.key("C-u")
            read = re.search(r"left on the rule: (\d+\.\d) mm", shown)
            assert read
            screen.type(read.group(1))
            screen.key("Enter")
        shown = screen.wait("k keeps it")
        assert "extruder.steps_per_mm" in shown and re.search(r"277\.798\s+28\d\.\d", shown)
        screen.key("k")
        screen.wait("1 kept, not saved")
    finally:
        screen.close()


@pytest.mark.parametrize("machine", ["tern-280", "wren-180"])
def test_an_accelerometer_is_listened_to_where_there_is_one(machine: str, tmp_path: Path) -> None:
    screen = Inside(tmp_path, machine)
    try:
        to(screen, "accelerometer")
        screen.wait("Nothing moves, nothing heats")
        screen.key("Enter")
        shown = screen.wait("Upright and quiet")
        assert "±" in shown and "Sweep above noise" in shown
    finally:
        screen.close()


def test_lines_are_printed_walked_over_picked_and_bracketed_finer(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180")
    try:
        to(screen, "advance")
        shown = screen.wait("too high")
        assert "31 lines" in shown and "too low" in shown and "not found yet" in shown and "live again" in shown
        screen.key("b")
        screen.wait("wipe it")
        screen.key("Enter")
        screen.wait("Which line is even?", 90)
        screen.key("Up", "Up", "Up")
        assert "▶  4 0.150" in screen.text()
        screen.type("-9")
        screen.wait("0.400")
        screen.key("Enter")
        shown = screen.wait("That makes")
        screen.key("l")
        screen.wait("under another lamp")
        screen.type("8")
        screen.key("Enter")
        screen.wait("2 looks together make")
        screen.key("Enter")
        shown = screen.wait("Pressure advance of pla")
        assert "extruder.advance_s" in shown and "materials.pla.advance_s" in shown
        screen.key("f")
        screen.wait("enter prints them")
        screen.key("k")
        screen.wait("Live on the board")
        screen.key("o")
        assert "0 s and the live value" in screen.text()
    finally:
        screen.close()


def test_flow_is_pushed_read_and_drawn_and_posts_are_judged(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        to(screen, "flow limit")
        shown = screen.wait("5 % short")
        assert "nothing was pushed yet" in shown and "Z goes up" in shown
        screen.key("p", "Escape")
        to(screen, "retraction")
        shown = screen.wait("pairs of posts")
        assert "0.2 mm" in shown and "strings: drawn back too little" in shown
        to(screen, "test piece")
        screen.wait("by live settings")
        screen.key("o")
        shown = screen.wait("hollow cube of 30 mm")
        assert "you measure 5 lengths" in shown
    finally:
        screen.close()


def test_a_tower_is_printed_and_the_height_of_even_corners_is_picked(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180")
    try:
        to(screen, "advance")
        screen.wait("too high")
        screen.key("o", "o")
        shown = screen.wait("a notch every 5 mm")
        assert "k = 0 s + 0.0333 s" in shown and "45 mm at 12 mm/s, 60 mm at 70 mm/s" in shown
        screen.key("b")
        screen.wait("wipe it")
        screen.key("Enter")
        screen.wait("At which height are the corners even?", 90)
        screen.key("Up", "Up", "Up")
        assert re.search(r"▶ +4 +4\.5 mm +0\.175", screen.text())
        screen.type("-9")
        screen.key("Enter")
        screen.wait("That makes")
        screen.key("Enter")
        shown = screen.wait("Pressure advance of pla")
        assert "extruder.advance_s" in shown and "materials.pla.advance_s" in shown
        screen.key("f")
        screen.wait("A tower from")
    finally:
        screen.close()


def test_another_drive_is_one_proposal_and_what_goes_with_it_is_shown(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180")
    try:
        to(screen, "extruder steps")
        screen.wait("you measure the remaining")
        screen.key("o")
        shown = screen.wait("Change of drive")
        assert re.search(r"tube_mm +420 → 0 mm", shown) and re.search(r"retract_mm +4.5 → 0.8 mm", shown)
        assert "nothing that was found rests on it" in shown
        screen.key("b")
        screen.wait("Mount the new drive")
        screen.key("Enter")
        screen.wait("keep them together")
        screen.key("k")
        screen.wait("It is the drive that is live now")
    finally:
        screen.close()


def test_materials_are_seen_copied_and_loaded(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        screen.wait("larch-6")
        screen.key("F5")
        shown = screen.wait("not found yet: station flow limit")
        assert re.search(r"● pla +215 +60", shown) and "petg" in shown
        screen.key("Down", "c")
        screen.wait("Copy petg for a new spool")
        screen.key("C-u")
        screen.type("pla")
        screen.key("Enter")
        screen.wait("already")
        screen.key("C-u")
        screen.type("petg-grey")
        screen.key("Enter")
        screen.wait("marked as copied from petg")
        screen.key("F5")
        screen.wait("not found yet: station flow limit")
        screen.key("Down", "Enter")
        screen.wait("petg is loaded")
        to(screen, "flow limit")
        assert "petg" in screen.wait("5 % short")
    finally:
        screen.close()


def test_a_cube_that_lies_there_is_measured_and_judged_about_zero(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        to(screen, "test piece")
        screen.wait("by live settings")
        screen.key("o")
        screen.wait("hollow cube of 30 mm")
        screen.key("p")
        screen.type("printed=no repeats=1")
        screen.key("Enter")
        screen.wait("Nothing moves or heats")
        screen.key("Enter")
        for mm in ("30.00", "30.01", "29.98", "42.60", "42.22"):
            screen.wait("Let it cool")
            screen.type(mm)
            screen.key("Enter")
            screen.gone(f"{mm} ")
        screen.wait("which of these do you see")
        screen.type("all 1")
        screen.key("Enter")
        shown = screen.wait("as measured, with twice")
        assert re.search(r"skew +[·│]+.*●.* \+0\.5\d ±", shown) and "X and Y are skewed" in shown
        assert "motion.skew_deg" in shown and "within what callipers err" in shown
    finally:
        screen.close()
