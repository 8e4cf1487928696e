"""The leg Heat in a real terminal: sensors, the bed tuned, guards drilled, temperatures by hand."""

from __future__ import annotations

from pathlib import Path

from tests.tui.inside import Inside, inside
from tests.tui.test_move import type_in


def test_a_bed_is_tuned_kept_and_held_by_hand(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "a")
    screen.key("NPage", "NPage", "NPage")
    screen.wait("if the hotend is")
    screen.key("Enter", "Enter")
    screen.wait("3 sensors read the same room")
    screen.key("p")
    screen.wait("Parameters of")
    type_in(screen, "references=many")
    screen.wait("references:")
    screen.key("Escape", "Tab", "Down", "Down")
    screen.wait("Heats the bed to about 63 °C")
    screen.key("Enter", "Enter")
    screen.wait("cycle 3")
    assert "bed control" in screen.wait("recommended: balanced")
    shown = screen.wait("relay, hysteresis 2 °C")
    assert "on-off" in shown
    screen.key("k")
    screen.wait("3 kept, not saved")
    screen.key("g")
    shown = screen.wait("serves all of them")
    assert "tuned at 60" in shown and "105 °C" in shown
    screen.key("Right", "u")
    screen.wait("steps from the room to 80 °C")
    screen.wait("“its own” is no set of the machine file")
    screen.key("Escape", "n")
    screen.wait("Noted as the set “at-60”")
    screen.key("C-s")
    screen.wait("Write these to tern-280.toml?")
    screen.key("Enter")
    screen.wait("together?")
    screen.key("Enter")
    screen.wait("3 settings saved")
    text = (tmp_path / "a" / "tern" / "tern-280.toml").read_text(encoding="utf-8")
    assert "[heaters.bed.gains.at-60]" in text and 'material = "pla"' in text
    screen.key("Tab", "Down", "Down")
    screen.wait("heats the nozzle to 215 °C and the bed to 60 °C")
    screen.key("Enter", "c", "2")
    screen.wait("gains found at 60 °C: +")
    screen.wait("◆ hotend and bed heated")
    screen.key("Down", "t")
    screen.wait("Target of the bed")
    screen.key("C-a", "C-k")
    type_in(screen, "300")
    screen.wait("allowed: 30 to 120 °C")
    screen.key("Escape", "0")
    screen.wait("Every heater and fan is off")
    screen.key("c")
    screen.wait("bed-record.csv")
    assert (tmp_path / "a" / "tern" / "bed-record.svg").read_text(encoding="utf-8").count("<path") > 10
    rows = (tmp_path / "a" / "tern" / "bed-record.csv").read_text(encoding="utf-8").splitlines()
    assert rows[0] == "time_s,duty,temperature_c,fan" and len(rows) > 20


def test_a_guard_is_bent_within_bounds_and_a_soak_is_watched(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "a")
    screen.key("NPage", "NPage", "NPage", "Down", "Down", "Down")
    screen.wait("and never get hotter than")
    screen.key("Enter", "Up", "t")
    screen.wait("never get hotter than   (40 to 500 °C)")
    screen.key("C-a", "C-k")
    type_in(screen, "295")
    screen.wait("at most 290 °C, the limit of its sensor")
    screen.key("C-a", "C-k")
    type_in(screen, "280")
    screen.wait("maximum_c is 280 °C, live on the board")
    assert "! the file says 285 °C" in screen.text()
    screen.key("d")
    screen.wait("Dropped: heaters.hotend.maximum_c is 285 again")
    screen.key("Tab", "Down", "Down")
    screen.wait("The plate sensor reads the surface")
    screen.key("Enter")
    screen.wait("the bed is off")
    screen.key("Enter")
    screen.wait("◆ heating to 60 °C")
    screen.wait("target reached")
    screen.wait("the surface drifts")
    assert "soaked in about" in screen.text()
    screen.key("Escape")
    screen.wait("Cancelled by you")


def test_digits_typed_behind_a_key_go_into_its_field_and_heat_nothing(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "a")
    screen.key("NPage", "NPage", "NPage", "Down", "Down", "Down", "Down")
    screen.wait("heats the nozzle to 215 °C and the bed to 60 °C")
    screen.key("Enter")
    screen.wait("t target")
    for typed in ("231", "122"):
        screen.burst("t", *typed)  # all of it before the field can be there
        shown = screen.wait(f"= {typed} °C")
        assert "nothing runs, nothing heats" in shown
        screen.key("Escape")
    screen.burst("t", *"31.5", "Enter", "Down", "t", *"30.5", "Enter")
    screen.wait("→ 31.5 °C")
    screen.wait("by hand: bed 30.5 °C")
    screen.wait("→ 30.5 °C")
    screen.key("0")
    screen.wait("Every heater and fan is off")


def test_guards_are_drilled_and_a_halt_ends_the_drill(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "a")
    screen.key("NPage", "NPage", "NPage", "Down", "Down", "Down")
    screen.wait("what the board watches at the hotend")
    screen.key("Enter", "Enter")
    screen.wait("Pull the plug of the hotend sensor")
    screen.key("Enter")
    screen.wait("■ GUARD TRIPPED")
    screen.wait("Plug the hotend sensor in again")
    screen.key("Enter")
    screen.wait("Bridge the two wires")
    screen.wait("● in time")  # the first drill's time stands there at once
    screen.key("F8")
    screen.wait("■ HALTED")
    screen.wait("✗ Halted by you")
    screen.key("r")
    screen.wait("nothing runs, nothing heats")


def test_a_typed_temperature_is_checked_and_echoed(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "c")
    screen.key("NPage", "NPage", "NPage", "Down")
    screen.wait("from room")
    screen.key("Enter", "t")
    screen.wait("Temperature to tune")
    for text, message in (
        ("abc", "is not a number"),
        ("20", "120 to 400"),
        ("280", "at most 270"),
        ("5 kg", "allowed"),
    ):
        screen.key("C-u")
        screen.type(text)
        screen.wait(message)
        screen.key("Enter")
        assert "Temperature to tune" in screen.text()
    screen.key("C-u")
    screen.type("205 °C")
    screen.wait("= 205 °C")
    screen.key("Enter")
    screen.wait("Heats the hotend to about 212 °C")
