"""The real app in a real terminal: keys through tmux, the screen read back."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.tui.screen import PATIENCE_S, SPEED, Screen, demo, hotend
from ublet.core.route import ROUTE
from ublet.session.document import Document
from ublet.session.library import machine_path
from ublet.tui.frame.jump import LETTERS

pytestmark = [pytest.mark.waits, pytest.mark.skipif(shutil.which("tmux") is None, reason="needs tmux")]


def test_from_the_route_to_a_saved_result_and_again_after_a_restart(screens: list[Screen], tmp_path: Path) -> None:
    screen = hotend(screens, tmp_path / "a")
    for words in ("Heats the hotend to about 222 °C", "Nothing moves.", "F8 HALT", "report"):
        screen.wait(words)
    shown = screen.start("recommended:")
    names = ("as found", "balanced")
    rows = {name: line for line in shown.split("\n") for name in names if re.search(rf"{name} .*\+\d", line)}
    found = re.search(r"\+(\d+\.\d) °C", rows["as found"])
    better = re.search(r"\+(\d+\.\d) °C", rows["balanced"])
    assert found and better and float(found.group(1)) > 8 > 2 > float(better.group(1))
    screen.key("k")
    screen.wait("3 kept, not saved")
    screen.key("v")
    screen.wait("Wait until it is below")
    screen.key("w")
    screen.wait("The measured step should follow")
    screen.wait("Verified: overshoot")
    screen.key("C-s")
    assert "heaters.hotend.kp" in screen.wait("together?")
    screen.key("Enter")
    screen.wait("3 settings saved")
    screen.key("l")
    shown = screen.wait("newest first")
    assert "hotend-verify hotend  proven" in shown and "save heaters.hotend.kp (stored)" in shown
    screen.key("v")
    screen.wait("runs, newest first: 2")
    screen.key("NPage")
    screen.wait("nothing was reported of")
    assert "hotend-control: " in screen.text()
    screen.key("l", "e")
    screen.wait("Exported to")
    screen.key("C-q")
    time.sleep(1.5)
    folder = tmp_path / "a" / "tern"
    file_kp = Document(folder / "tern-280.toml").value("heaters.hotend.kp")
    store = json.loads((folder / "board-store.json").read_text(encoding="utf-8"))
    assert file_kp == store["heaters.hotend.kp"] != 0.022
    assert {path.suffix for path in folder.glob("hotend-verify-*")} == {".csv", ".svg", ".pdf"}
    again = Screen(folder, "demo", "--dir", str(folder), "--speed", SPEED)
    screens.append(again)
    again.wait("no errors")
    again.key("NPage", "NPage", "NPage", "Down")
    again.wait("is live and saved")
    for message in (f"{file_kp:.3g}", "all saved", "✓ measured"):
        again.wait(message)
    again.key("Enter", "t")
    again.wait("Temperature to tune")
    again.key("C-u", "2", "4", "0", "Enter")
    again.wait("Heats the hotend to about 247 °C")
    assert re.search(r" 215 ╌", again.text()), "the stored result is drawn around its own target"


def test_halt_from_everywhere_then_release(screens: list[Screen], tmp_path: Path) -> None:
    screen = hotend(screens, tmp_path / "b", speed="10")  # slow enough that it still climbs when it is looked at
    screen.start("heating up")
    screen.key("l")
    screen.wait("newest first")
    screen.key("F3")
    screen.wait("What happened at the machine?")
    screen.key("F8")  # inside a dialog
    shown = screen.wait("■ HALTED")
    assert "duty   0 %" in shown
    screen.key("Escape", "l")
    screen.wait("r releases")
    assert "r releases" in screen.text()
    screen.key("r")
    screen.wait("hot to the touch" if "hot to the touch" in screen.text() else "nothing heats")
    screen.key("t")
    screen.wait("Temperature to tune")
    screen.key("F8")  # inside a text field
    screen.wait("■ HALTED")
    screen.key("Escape", "r", "F8")
    screen.wait("■ HALTED")


def test_a_terminal_that_is_gone_without_a_word_ends_the_app_and_its_board(
    screens: list[Screen], tmp_path: Path
) -> None:
    """Its first process is told when it hangs up; that is not the app where another program started it."""
    deaf = ("sh", "-c", 'trap "" HUP; "$@"; true', "sh")
    folder = tmp_path / "g"
    folder.mkdir()
    screen = Screen(folder, "demo", "--dir", str(folder / "tern"), "--speed", "10", through=deaf)
    screens.append(screen)
    screen.wait("clock ×")
    assert _running(folder) >= 2
    screen.close()
    end = time.monotonic() + PATIENCE_S
    while _running(folder):
        assert time.monotonic() < end, "it goes on without a terminal"
        time.sleep(0.2)


def _running(folder: Path) -> int:
    """The processes of a demonstration, its terminal not counted."""
    found = subprocess.run(["pgrep", "-af", str(folder / "tern")], capture_output=True, text=True, check=False).stdout
    return sum("ublet" in line and "tmux" not in line and " sh -c" not in line for line in found.splitlines())


def test_unplugging_the_board_in_the_middle_and_plugging_it_in(screens: list[Screen], tmp_path: Path) -> None:
    screen = hotend(screens, tmp_path / "d", speed="10")
    screen.start("heating up")
    subprocess.run(["pkill", "-9", "-f", str(tmp_path / "d" / "tern" / "board.port")], check=False)
    screen.wait("ctrl+r plugs the simulated board in again")
    screen.wait("The link was lost")
    screen.wait("no board")
    screen.key("C-r")
    screen.wait("larch-6 on board.port")
    screen.wait("sensor reads")


def test_sizes_from_too_small_to_large_and_back(screens: list[Screen], tmp_path: Path) -> None:
    screen = hotend(screens, tmp_path / "e", (100, 30))
    shown = screen.text()
    assert "Heat" in shown and "travel limits" not in shown and "F8 HALT" in shown
    assert all(len(line) <= 100 for line in shown.split("\n"))
    screen.tmux("resize-window", "-t", "t", "-x", "70", "-y", "20")
    screen.wait("at least 80 x 24")
    screen.tmux("resize-window", "-t", "t", "-x", "160", "-y", "47")
    screen.wait("report")


def test_a_second_app_on_the_same_demo_is_told(screens: list[Screen], tmp_path: Path) -> None:
    demo(screens, tmp_path / "g")
    words = ["demo", "--dir", str(tmp_path / "g" / "tern")]
    done = subprocess.run([sys.executable, "-m", "ublet", *words], capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "open in another window already" in done.stderr


def test_a_broken_machine_file_is_opened_to_be_mended(screens: list[Screen], tmp_path: Path) -> None:
    good = machine_path("wren-180").read_text(encoding="utf-8")
    file = tmp_path / "bad.toml"
    file.write_text(good.replace('name = "Wren 180"', "name = 3"), encoding="utf-8")
    screen = Screen(tmp_path, "open", str(file))
    screens.append(screen)
    shown = screen.wait("cannot be opened yet   ✗ 1 error")
    line = next(
        number for number, text in enumerate(file.read_text(encoding="utf-8").split("\n"), 1) if "name = 3" in text
    )
    assert (
        f"✗ line {line}" in shown
        and "machine.name" in shown
        and "found 3" in shown
        and "allowed: text in quotes" in shown
    )
    screen.key("C-s")
    screen.wait("still has an error")
    screen.key("End", "BSpace")
    screen.type('"Wren 181"')
    screen.wait("✓ no errors left")
    screen.key("C-s")
    assert "Wren 181" in screen.wait("no errors").split("\n")[0]
    assert file.read_text(encoding="utf-8") == good.replace('name = "Wren 180"', 'name = "Wren 181"')
    assert "name = 3" in file.with_suffix(".toml.previous").read_text(encoding="utf-8")


def test_leaving_a_broken_machine_file_changes_nothing(screens: list[Screen], tmp_path: Path) -> None:
    bad = tmp_path / "bad.toml"
    bad.write_text("[machine\nname = 3\n", encoding="utf-8")
    screen = Screen(tmp_path, "open", str(bad))
    screens.append(screen)
    screen.wait("✗ line 1")
    screen.type("x")
    screen.key("C-q")
    screen.wait("What you typed is not written")
    screen.key("C-q")
    end = time.monotonic() + 10
    while screen.tmux("display-message", "-p", "-t", "t", "#{pane_dead}").strip() != "1":
        assert time.monotonic() < end, screen.text()
        time.sleep(0.1)
    shown = screen.text()  # a terminal that is told late of the end shows what stood there, else how it ended
    assert "was not mended: nothing was opened" in shown or "status 2" in shown
    assert "Traceback" not in shown and bad.read_text(encoding="utf-8") == "[machine\nname = 3\n"


def test_a_changed_nozzle_is_followed_redone_saved_and_the_former_state_restored(
    screens: list[Screen], tmp_path: Path
) -> None:
    screen = hotend(screens, tmp_path / "r", speed="60")
    screen.start("recommended:")
    screen.key("K")
    screen.wait("enter save")
    screen.key("Enter")
    screen.wait("3 settings saved")
    screen.key("F3")
    screen.wait("What happened at the machine?")
    screen.wait("▲ hotend control")
    screen.key("Enter")
    screen.wait("▲ hotend control")
    screen.key("F9")
    assert "nozzle: changed" in screen.wait("To do again, in this order")
    screen.key("Escape")
    screen.gone("To do again, in this order")
    file = tmp_path / "r" / "tern" / "tern-280.toml"
    first = Document(file).value("heaters.hotend.kp")
    screen.key("Up")  # another of the candidates
    screen.key("K")
    screen.wait("enter save")
    screen.key("Enter")
    screen.wait("settings saved")
    assert Document(file).value("heaters.hotend.kp") != first
    screen.key("j", LETTERS[[station.name for station in ROUTE].index("restore")])
    screen.wait("m chooses the moment")
    screen.key("m")
    screen.wait("Go back to")
    screen.type("save 1")
    screen.key("Enter")
    screen.wait("settings differ from now")
    screen.key("Enter")
    screen.wait("keep and save them")
    screen.key("Enter")
    screen.wait("are live and saved")
    assert Document(file).value("heaters.hotend.kp") == first
