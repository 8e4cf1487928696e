"""Keys of the bench that every trial has: what it stands on, its parameters, the way out of a failure, by hand."""

from __future__ import annotations

from pathlib import Path

from tests.tui.inside import Inside
from tests.tui.test_extrude import to
from tests.tui.test_wire import press_each


def asks_what_is_unmet(folder: Path) -> None:
    """The preference as it is delivered: the walks of other tests set it off."""
    kept = folder / "config" / "ublet" / "preferences.toml"
    kept.parent.mkdir(parents=True, exist_ok=True)
    kept.write_text("ask_unmet = true\n", encoding="utf-8")


def test_what_a_trial_stands_on_is_a_checklist_with_a_key_to_the_first(tmp_path: Path) -> None:
    asks_what_is_unmet(tmp_path)
    screen = Inside(tmp_path)
    try:
        to(screen, "homing")
        shown = screen.wait("inputs by hand")
        assert "directions" in shown
        screen.key("Enter")
        shown = screen.wait("Not started: it stands on")
        assert "inputs by hand: not done yet" in shown
        screen.key("c")
        screen.wait("Inputs by hand   ")
        screen.key("Enter", "b")
        screen.wait("Press the X endstop and hold it")
        screen.key("Escape")
        screen.wait("✗ Cancelled by you")
        shown = screen.wait("About 6 s at the machine")
        assert "look at the machine" not in shown, "one's own stop needs no mending"
    finally:
        screen.close()


def test_parameters_are_a_form_that_changes_the_plan_beside(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        to(screen, "bed mesh")
        screen.wait("no mesh is live on the board")
        screen.key("p")
        shown = screen.wait("Parameters of bed mesh")
        assert "With these a start" in shown and "--set" in shown
        screen.type("zebra")
        shown = screen.text()
        assert "✗" in shown or "is not" in shown, shown
        screen.key("Enter")
        assert "Parameters of bed mesh" in screen.text(), "a wrong value stays, and so does the form"
        screen.key("Escape")
        screen.gone("Parameters of bed mesh")
    finally:
        screen.close()


def test_by_hand_refuses_cold_filament_and_lets_the_motors_go(tmp_path: Path) -> None:
    screen = Inside(tmp_path, mended=True)
    try:
        screen.key("F4")
        shown = screen.wait("By hand, at the machine")
        assert "pla moves from" in shown and "Z is not homed" in shown
        screen.key("f")
        screen.wait("✗ push filament: the hotend is at")
        screen.key("m")
        screen.wait("Motors off: carriages can be moved by hand")
        screen.key("n")
        screen.wait("filament is petg")
        screen.key("h")
        screen.wait("heats to 240 °C for petg")
        screen.key("o")
        screen.wait("Every heater and fan is off")
        screen.key("Escape")
        screen.gone("By hand, at the machine")
    finally:
        screen.close()


def test_a_machine_files_mend_is_kept_and_saved_by_one_key(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        to(screen, "inputs by hand")
        screen.wait("You press each of 3 switches by hand")
        screen.key("Enter")
        press_each(screen)
        screen.wait("Pressing the X endstop moved the Y endstop")
        screen.key("K")
        screen.wait("enter save 3 in both")
        screen.key("Enter")
        screen.wait("3 settings saved")
        assert "not saved" not in screen.text()
    finally:
        screen.close()


def test_the_editor_draws_the_part_that_the_cursor_is_in(tmp_path: Path) -> None:
    screen = Inside(tmp_path)
    try:
        screen.wait("no errors")
        screen.key("Enter")
        for part, drawn in (
            ("axes.x.homing", "X: travel, end and bed to scale"),
            ("axes.x.motors", "6400 steps a turn / (20 teeth x 2 mm) = 160 steps/mm"),
            ("sensors.hotend", "resolution where you print"),
            ("heaters.bed", "a rise of 1.5 °C in 60 s at full power"),
            ("extruder.hob_mm", "3200 steps a turn x 3 / (π x 11 mm) = 277.80 steps/mm"),
        ):
            screen.key("/")
            screen.type(part)
            screen.key("Enter")
            screen.wait(drawn)
    finally:
        screen.close()
