"""The leg Declare in a real terminal: edit, contradict, write the file, write the board, settle a shadow."""

from __future__ import annotations

import json
import re
import time
from pathlib import Path

from tests.tui.inside import Inside, inside
from tests.tui.pilot import PATIENCE_S
from ublet.core.machine.edit import edited
from ublet.session.document import Document


def typed(screen: Inside, text: str) -> None:
    screen.type(text)


def find(screen: Inside, words: str, shown: str) -> None:
    """Search a setting and go there."""
    screen.key("/")
    screen.wait("Search every setting")
    typed(screen, words)
    screen.wait(shown)
    screen.key("Enter")
    screen.gone("Search every setting")
    screen.wait(f"{shown}  ")


def test_declare_write_the_file_write_the_board_settle_a_shadow(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "a")
    folder = tmp_path / "a" / "tern"
    screen.wait("4 differ")
    screen.key("Enter")
    find(screen, "axes.y feed", "axes.y.maximum_feed_mm_s")
    screen.key("Enter")
    screen.wait("allowed: 0.1 to 2000 mm/s")
    typed(screen, "15 m/min")
    screen.wait("= 250 mm/s")
    screen.key("Enter")
    screen.wait("1 edit not written")
    # a contradiction is said while it is typed, stands as an error, and is not written
    find(screen, "endstops.y socket", "endstops.y.socket")
    screen.key("Enter")
    screen.wait("X endstop")
    screen.key("Up", "Enter")
    shown = screen.wait("✗ 1 error")
    assert "endstops.x.socket" in shown
    screen.key("C-s")
    screen.wait("Write these to tern-280.toml?")
    screen.key("Enter")
    screen.wait("mend 1 error first")
    screen.key("u")
    screen.wait("✓ no errors")
    screen.key("C-s")
    screen.wait("axes.y.maximum_feed_mm_s")
    screen.key("Enter")
    screen.wait("as on the disk")
    assert Document(folder / "tern-280.toml").value("axes.y.maximum_feed_mm_s") == 250
    assert "# Three lead screws carry the bed" in (folder / "tern-280.toml").read_text(encoding="utf-8")
    # the board
    screen.key("Tab", "Down", "Down", "Down")
    screen.wait("5 settings change")
    screen.key("Enter")
    screen.wait("enter writes the image")
    screen.key("Enter")
    screen.wait("This would change on the board")
    shown = screen.wait("Nothing moves, nothing heats")
    assert re.search(r"axes.y.maximum_feed_mm_s\s+300 → 250", shown)
    screen.key("Enter")
    screen.wait("checked by its digest")
    shown = screen.wait("3 stored values hide the file's")
    assert "3 shadowed" in shown and "slot B" in shown
    # settle: the first takes the file's, all of them do, then one is put into the file
    screen.key("Space", "A", "Down", "Down", "Space")
    screen.wait("put it in the file")
    end = time.monotonic() + PATIENCE_S
    while screen.text().count("take the file's") < 2:  # a frame may be read between two of the keys
        assert time.monotonic() < end, screen.text()
    screen.key("Enter")
    screen.wait("cleared, so the image's counts")
    screen.key("Enter")
    screen.wait("3 settled and read back")
    screen.wait("Every layer agrees")
    store = json.loads((folder / "board-store.json").read_text(encoding="utf-8"))
    assert "axes.z.maximum_feed_mm_s" not in store and store["extruder.retract_mm"] == 1.2
    assert Document(folder / "tern-280.toml").value("extruder.retract_mm") == 1.2
    (backup,) = folder.glob("tern-280.store-*.json")
    assert json.loads(backup.read_text(encoding="utf-8"))["axes.z.maximum_feed_mm_s"] == 6


def test_wiring_and_modules_by_keyboard(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "b")
    screen.key("Down")
    screen.wait("21 used")
    screen.key("Enter", "Right", "Right")
    screen.wait("M3  motor socket, bottom edge, up to 2 A")
    screen.key("Enter")
    screen.wait("What is plugged into M3?")
    typed(screen, "Z right")
    screen.key("Enter")
    screen.wait("Z right → M3")
    screen.key("Right")
    screen.wait("axes.z.motors.left.socket")
    screen.key("u", "e")
    screen.wait("Exported to")
    assert {path.suffix for path in (tmp_path / "b" / "tern").glob("*-wiring.*")} == {".svg", ".pdf"}
    screen.key("Tab", "Down")
    screen.wait("✓ fits")
    screen.key("Enter")
    for name in ("picture", "language", "arcs", "resume"):
        for _ in range(20):
            if re.search(rf"○ {name} ", screen.text()):
                break
            screen.rest(0.1)
        down_to(screen, f"space puts it in: +{sizes()[name]:,}")
        screen.key("Space")
    shown = screen.wait("✗ overflows by")
    assert "To make it fit, leave out" in shown
    screen.key("u")
    screen.wait("✓ fits")


def down_to(screen: Inside, words: str) -> None:
    """Go down a line at a time, each seen before the next, until words stand there."""

    def said() -> str:
        return " ".join(re.findall(r"space (?:puts|leaves|lets).*", screen.text()))

    for _ in range(40):
        if words in (before := said()):
            return
        screen.key("Down")
        for _ in range(15):
            if said() != before:
                break
            screen.rest(0.1)
    raise AssertionError(f"“{words}” is nowhere further down; the screen was:\n{screen.text()}")


def sizes() -> dict[str, int]:
    from ublet.session.library import boards

    return {name: module.bytes for name, module in boards()["larch-6"].modules.items()}


def test_the_file_changed_by_another_program_is_merged_or_asked_about(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "c")
    file = tmp_path / "c" / "tern" / "tern-280.toml"
    screen.key("Enter")
    find(screen, "bed margin", "bed.margin_mm")
    screen.key("Enter", "C-u")
    typed(screen, "8")
    screen.key("Enter")
    screen.wait("1 edit not written")
    file.write_text(edited(file.read_text(encoding="utf-8"), {"bed.width_mm": 281}), encoding="utf-8")
    screen.wait("nothing collided")
    screen.wait("281")
    file.write_text(edited(file.read_text(encoding="utf-8"), {"bed.margin_mm": 9}), encoding="utf-8")
    screen.wait("Whose stand?")
    screen.key("t")
    screen.wait("as on the disk")
    file.write_text("[machine\n", encoding="utf-8")
    screen.wait("and cannot be used")
    assert "Traceback" not in screen.text()


def test_wrong_keys_halt_in_a_field_resize_and_quit_with_edits(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "d", (100, 30))
    screen.key("Enter", "z", "x", "5", "n", "U", "Right", "Enter")
    screen.key("F8")
    screen.wait("■ HALTED")
    screen.key("Escape", "Escape")
    screen.key("r")
    find(screen, "note", "machine.note")
    screen.key("Enter", "C-u")
    typed(screen, 'a "quoted" note — with π')
    screen.key("Enter")
    screen.wait("1 edit not written")
    for width, height in ((70, 20), (90, 26), (160, 47)):
        screen.resize(width, height)
        screen.wait("at least 80 x 24" if width < 80 else "1 edit")
    screen.key("C-q")
    screen.wait("1 edit is not written to the machine file")
    screen.key("s")
    screen.wait("1 edit not written")
    assert "Traceback" not in screen.text()
