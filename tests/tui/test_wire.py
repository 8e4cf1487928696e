"""The leg Wire in a real terminal: switches pressed by the demonstration's hands, a mend kept and confirmed."""

from __future__ import annotations

from pathlib import Path

from tests.tui.inside import Inside, inside


def press_each(screen: Inside) -> None:
    """Answer every question of the inputs, pressing what is asked for."""
    for number, name in ((1, "X endstop"), (2, "Y endstop"), (3, "probe")):
        if number == 3:
            screen.wait("Is it down?")
            screen.wait("the pin is down")
            screen.key("Enter")
        screen.wait(f"Press the {name} and hold it")
        screen.key(str(number))
        screen.wait("is pressed")
        screen.key("Enter")
        screen.wait(f"Let the {name} go")
        screen.key(str(number), "Enter")


def test_inputs_are_pressed_mended_and_confirmed_and_fans_told_apart(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "a")
    screen.wait("4 differ")
    screen.key("NPage", "Down")
    screen.wait("You press each of 3 switches by hand")
    screen.key("Enter", "Enter")
    press_each(screen)
    screen.wait("Pressing the X endstop moved the Y endstop")
    screen.wait("inverted")
    screen.wait("endstops.x.socket                         I1          I2")
    screen.wait("failed")
    screen.key("k")
    screen.wait("3 kept, not saved")
    screen.key("Enter")
    press_each(screen)
    screen.wait("✓ 3 inputs follow the hand")
    screen.key("Tab", "Down", "Down")
    screen.wait("keep fingers away")
    screen.key("Enter", "Enter")
    screen.wait("The part fan was switched on")
    screen.wait("the part fan turns")
    screen.key("Enter")
    screen.wait("The hotend fan was switched on")
    screen.wait("the board fan turns")
    screen.key("F8")
    screen.wait("■ HALTED")
    assert "was switched on" not in screen.wait("halted")
    screen.key("r")
    screen.wait("✓ 3 fans declared")
    screen.key("C-s")
    screen.wait("together?")
    screen.key("Enter")
    screen.wait("3 settings saved")
