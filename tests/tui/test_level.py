"""The leg Level by keyboard: Tern with its probe, Wren by hand."""

from __future__ import annotations

import re
from pathlib import Path

from tests.tui.inside import Inside
from tests.tui.test_move import type_in
from ublet.core.route import ROUTE
from ublet.tui.frame.jump import LETTERS


def to(screen: Inside, station: str) -> None:
    """Go to a station by its letter."""
    built = [each.name for each in ROUTE]
    screen.key("j", LETTERS[built.index(station)])


def lifts_looked_at(screen: Inside) -> None:
    """Before Z homes for the first time: every lead screw goes the way it is commanded."""
    shown = screen.wait("Which side did otherwise?")
    assert "at left the gap opened by 3 mm" in shown
    screen.key("Enter")


def test_tern_is_levelled_by_its_probe_and_touched_off(tmp_path: Path) -> None:
    screen = Inside(tmp_path, mended=True)
    try:
        screen.wait("no errors")
        to(screen, "lead screws")
        assert "from above" in screen.wait("3 lifts with their pivots, probe: pin")
        screen.key("Enter")
        lifts_looked_at(screen)
        shown = screen.wait("Level over the lifts within")
        assert "left" in shown and "is level" in shown and "did" in shown
        to(screen, "bed corners")
        screen.wait("screws declared")
        screen.key("Enter")
        screen.wait("at the machine: left: 0.6 of 6 mm")
        screen.key("s")
        screen.wait("Turn every screw until its spring is half")
        screen.key("Enter")
        shown = screen.wait("Turn the screw")
        assert "seen from above" in shown and "clockwise" in shown and "12" in shown
        screen.key("s")
        screen.wait("Stopped before the bed was level")
        to(screen, "probe spread")
        screen.key("p")
        screen.type("touches=6")
        screen.key("Enter", "Enter")
        shown = screen.wait("Touches scatter by")
        assert shown.count("●") >= 6 and "standard deviation, µm" in shown
        to(screen, "probe place")
        screen.key("p")
        screen.type("repeats=1")
        screen.key("Enter", "Enter")
        screen.wait("Stick tape on the bed")
        screen.key("Enter")
        screen.wait("the nozzle’s tip stands over the dot")
        screen.key("Enter")
        screen.wait("the probe stands 1.5 mm right of")
        screen.key("-", "1", ".", "5", "Enter")
        screen.wait("the probe stands 0.4 mm in front of the dot")
        screen.key("Enter")
        shown = screen.wait("Its part left arm")
        assert "36.5 mm left of" in shown and "axes.z.homing.over_x_mm" in shown
        screen.key("k")
        screen.wait("2 kept")
    finally:
        screen.close()


def test_a_touch_is_felt_with_shrinking_steps_and_kept(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180")
    try:
        screen.wait("no errors")
        to(screen, "Z offset")
        screen.wait("Corners come first")
        screen.key("p")
        screen.type("repeats=1")
        screen.key("Enter", "Enter")
        shown = screen.wait("Lay the gauge (0.1 mm) below the nozzle")
        assert "not below -2.00 mm" in shown and "the gauge is loose" in shown and "a key moves 1 mm" in shown
        screen.key("NPage")
        screen.wait("Z 2.0")
        screen.key("-", "9", "Enter")
        screen.wait("below its floor of -2")
        screen.type("-1.66")
        screen.key("Enter")
        screen.wait("it is loose")
        screen.key("comma", "comma", "comma")
        for _ in range(60):
            shown = screen.text()
            if "the gauge just drags" in shown:
                break
            screen.key("PPage" if "does not go in" in shown else "NPage")  # one too many, where it was slow to show
            screen.rest(0.3)
        screen.wait("the gauge just drags")
        screen.key("Enter")
        shown = screen.wait("further from the bed.")
        assert re.search(r"a key moves 0\.0[15] mm|step +0\.0[15]", shown), "no larger than the question's last step"
        assert "Done cold" not in shown, "hot, by the first material, unless one says otherwise"
        screen.key("k")
        screen.wait("1 kept")
    finally:
        screen.close()


def test_wren_goes_round_its_screws_with_a_gauge(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180")
    try:
        screen.wait("no errors")
        to(screen, "lead screws")
        screen.wait("One lead screw carries Z")
        to(screen, "probe spread")
        screen.wait("no probe")
        to(screen, "bed corners")
        screen.wait("one whole round is fine")
        screen.key("Enter")
        screen.wait("springs of the screws")
        screen.key("s")
        screen.wait("half pressed")
        screen.key("Enter")
        for _ in range(1000):
            shown = screen.text()
            if "A whole round was fine" in shown:
                break
            if "gap below the nozzle: about" in shown:
                screen.key("Enter" if "about 0.0 mm" not in shown else "l")
            elif "the gauge just drags" in shown:
                screen.key("Enter")
            elif "the gauge" in shown or "it is loose" in shown:
                screen.key("a")
            screen.rest(0.05)
        screen.wait("A whole round was fine")
    finally:
        screen.close()


def lower_onto_the_gauge(screen: Inside) -> None:
    """By what is seen at the machine: far in large steps, then by hundredths until it drags."""
    for _ in range(400):
        shown = screen.wait("Lay the gauge")
        if "the gauge just drags" in shown:
            return
        air = re.search(r"with about ([\d.]+) mm of air", shown)
        if air is None and "it is loose" not in shown:
            screen.rest(0.1)  # it moves
            continue
        by = min(19.0, max(0.05, float(air[1]) - 0.1)) if air is not None else 0.01
        screen.type(f"-{by:g}")
        screen.key("Enter")
        screen.rest(0.15)
    screen.wait("the gauge just drags")


def test_a_coil_gets_its_current_and_its_curve_before_z_is_homed(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "tern-coil")
    try:
        screen.wait("no errors")
        to(screen, "coil probe")
        assert "too quiet below" in screen.wait("Homes X and Y, not Z, which homes by the coil")
        screen.key("Enter")
        screen.wait("Nothing but you stops the nozzle")
        lower_onto_the_gauge(screen)
        screen.key("Enter")
        shown = screen.wait("far from the bed.")
        assert "probe.coil.drive_ma" in shown and "mA it rings with" in shown
        screen.key("k")
        screen.wait("1 kept")
        screen.key("o")
        screen.wait("nozzle over the bed, mm")
        screen.key("Enter")
        screen.wait("Lay the gauge (0.1 mm) below the nozzle")
        lower_onto_the_gauge(screen)
        screen.key("Enter")
        screen.wait("It falls all the way from 0.1 to 5.0 mm")
        screen.wait("settings below probe.coil")
        screen.key("space")
        shown = screen.wait("probe.coil.curve_hz")
        assert "probe.coil.curve_hz" in shown and "noise at 1.5 mm" in shown
    finally:
        screen.close()


def test_the_height_of_a_coil_is_set_by_its_mount_and_of_a_pin_only_read(tmp_path: Path) -> None:
    screen = Inside(tmp_path, mended=True)
    try:
        screen.wait("no errors")
        to(screen, "probe place")
        screen.wait("you make a dot")
        screen.key("o")
        assert "the probe’s input now" in screen.wait("Then you measure what is below the stowed pin")
        screen.key("Enter")
        screen.wait("Lay the gauge (2 mm) below the nozzle")
        lower_onto_the_gauge(screen)
        screen.key("Enter")
        shown = screen.wait("Measure with the rule how much air")
        read = re.search(r"read on the rule: ([\d.]+) mm", shown)
        assert read is not None
        screen.type(read[1])
        screen.key("Enter")
        assert "3." in screen.wait("it clears the bed")
        screen.key("o", "m")
        screen.wait("Which mount carries the probe?")
        screen.type("rear")
        screen.key("Enter")
        shown = screen.wait("rear arm, long is in the draft")
        assert "by its part, rear arm, long" in shown and "41.5" in shown
    finally:
        screen.close()


def test_a_mesh_of_wren_is_felt_by_hand_stopped_and_gone_on_with(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180")
    try:
        screen.wait("no errors")
        to(screen, "bed mesh")
        assert "no mesh is live on the board" in screen.wait("points by hand")
        screen.key("p")
        screen.wait("Parameters of bed mesh by hand")
        type_in(screen, "columns=2 rows=2")
        screen.wait("2 x 2 points by hand")
        screen.key("Enter")
        for number in (1, 2):
            screen.wait(f"Point {number} of 4")
            screen.type("-0.5")
            screen.key("Enter")
            screen.wait("the gauge")
            screen.key("1")
        screen.wait("Point 3 of 4")
        screen.key("4")
        screen.wait("2 of 4 points are kept")
        screen.key("g")
        screen.wait("Point 3 of 4")
        screen.key("Escape")
        screen.wait("Cancelled by you")
    finally:
        screen.close()
