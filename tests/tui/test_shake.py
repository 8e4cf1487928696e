"""The leg Shake by keyboard: Tern's belts and shaper, Wren's sensor from head to bed; slid, cut off, and small."""

from __future__ import annotations

import re
from pathlib import Path

from tests.tui.inside import Inside
from tests.tui.test_level import lifts_looked_at, to

QUICK = " seconds=10 hands_off_s=0"
SLOWLY = 40.0
"""Slow enough that a sweep is looked at while its curve grows."""


def test_terns_belts_are_made_alike_it_is_shaped_by_hand_and_verified(tmp_path: Path) -> None:
    screen = Inside(tmp_path, mended=True, speed=SLOWLY)
    try:
        screen.wait("no errors")
        to(screen, "accelerometer")
        assert "● screwed" in screen.wait("Listens for 6 s"), "to the picture's last line"
        screen.key("o")
        shown = screen.wait("counts down 3 s")
        assert "the sensor on it, as declared" in shown
        screen.key("Enter")
        lifts_looked_at(screen)
        screen.wait("Mounted as declared")
        to(screen, "resonance")
        screen.wait("shakes both diagonals")
        screen.key("p")
        screen.type(QUICK)
        screen.key("Enter", "Enter")
        screen.wait("Tighten belt B until the pitch of its span is")
        shown = screen.wait("B is slack")
        assert "tension of belt B / belt A" in shown
        assert re.search(r"3[1-5] % more", shown), shown
        screen.key("Enter")
        shown = screen.wait("Both belts pull alike")
        assert "✓ both pull alike" in shown and "round 1: 0.7" in shown
        screen.key("o")
        screen.wait("then sweeps X and Y")
        screen.key("p")
        screen.type(QUICK)
        screen.key("Enter", "Enter")
        shown = screen.wait("sweep 2")
        assert "spectrogram, m/s²: Hz over s" in shown and "measured / commanded acceleration" in shown
        shown = screen.wait("Y rings at")
        assert "X rings most" in shown and "damping" in shown
        to(screen, "input shaper")
        screen.wait("Computes which shaper")
        screen.key("Enter")
        shown = screen.wait("recommended")
        assert "three-hump-ei" in shown and "max. mm/s²" in shown and "a step of the speed" in shown
        screen.key("Down")
        shown = screen.wait("▸✓ zv" if "✓ zv " in shown else "▸· zv")
        before = _left(shown, "zv")
        screen.key(*["C-Right"] * 4)
        shown = screen.wait("as slid by hand")
        assert _left(shown, "zv") != before, "what is left follows the frequency"
        assert f"{float(before.split()[0]) + 2:.1f}" in _left(shown, "zv")
        screen.key("f", "R", "n")
        shown = screen.wait("±12 %")
        assert "0.14 mm at" in shown and "Y  " in shown
        screen.key("k")
        shown = screen.wait("Live on the board")
        slid = f"{float(before.split()[0]) + 2:.1f}"
        assert f"axes.x.shaper.frequency_hz {slid}" in " ".join(shown.split()), "what was slid is what is kept"
        screen.key("o")
        screen.wait("with sharp stops")
        screen.key("Enter")
        shown = screen.wait("of the ringing is left")
        assert "predicted" in shown and "without the shaper" in shown
        to(screen, "acceleration")
        screen.wait("Computes the limit")
        screen.key("Enter")
        shown = screen.wait("reference print")
        assert "worth printing at" in shown and "so at most" in shown
        screen.key("k")
        screen.wait("Live on the board")
    finally:
        screen.close()


def _left(shown: str, name: str) -> str:
    """What a shaper's line says, but for its mark."""
    return next(line.split(f" {name} ")[1] for line in shown.split("\n") if f" {name} " in line and " mm" in line)


def test_wrens_sensor_goes_from_head_to_bed_and_a_sweep_is_cut_off_at_100_by_30(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180", size=(100, 30), speed=SLOWLY)
    try:
        screen.wait("no errors")
        to(screen, "accelerometer")
        screen.wait("Listens for")
        screen.key("o")
        screen.wait("counts down")
        screen.key("Enter")
        shown = screen.wait("Is the accelerometer on the head now")
        assert "the sensor goes on the head" in shown
        screen.key("Enter")
        shown = screen.wait("Mounted differently")
        assert "accelerometer.x" in shown and "-y" in shown
        screen.key("k")
        screen.wait("Start again to confirm")
        screen.key("Enter")
        screen.wait("on the head now")
        screen.key("Enter")
        screen.wait("✓ Mounted as declared")
        to(screen, "resonance")
        screen.wait("The bed is swept along Y")
        screen.key("p")
        screen.type(QUICK)
        screen.key("Enter", "Enter")
        screen.wait("on the head now")
        screen.key("Enter")
        screen.wait("X sweep 1")
        screen.key("Escape")
        screen.wait("Cancelled by you")
        screen.key("Enter")
        screen.wait("on the head now")
        screen.key("Enter")
        screen.wait("on the bed now")
        screen.key("Enter")
        shown = screen.wait("✓ X rings at")
        assert "42." in shown and "38." in shown
    finally:
        screen.close()
