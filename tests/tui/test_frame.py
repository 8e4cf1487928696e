"""The frame around the benches: help, palette, jumping, preferences, and what a newcomer is told to do next."""

from __future__ import annotations

import tomllib
from pathlib import Path

import pytest

from tests.conftest import virtually
from tests.tui.inside import Inside, inside
from tests.tui.pilot import opened
from ublet.core.route import ROUTE, station_with
from ublet.session.next_step import NextStep
from ublet.session.preferences import Kept
from ublet.tui.app import UbletApp
from ublet.tui.frame.jump import LETTERS
from ublet.tui.frame.pulse import Pulse


@pytest.mark.parametrize("size", [(160, 47), (100, 30), (80, 24)])
def test_the_help_is_wrapped_once_and_tells_every_key(
    size: tuple[int, int], screens: list[Inside], tmp_path: Path
) -> None:
    screen = inside(screens, tmp_path, size)
    screen.key("Enter", "?")
    seen = screen.wait("Everything else builds on what")
    for _ in range(9):
        screen.key("NPage")
        seen += screen.text()
    for message in ("hard to trace", "Search every", "HALT: everything off", "Quit; asks first", "tab   "):
        assert message in seen, message
    assert "F8 HALT" in screen.text(), "the pulse stays bright"
    screen.key("Escape")
    screen.gone("keys here")


def test_the_palette_finds_actions_stations_and_settings(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path)
    for typed, message, after in (
        ("soak time", "Go to soak time", "the surface follows the bed's sensor"),
        ("axes.z.maximum_feed", "axes.z.maximum_feed_mm_s", "Largest feed rate."),
        ("opens the gap first", "", ""),
        ("ledger", "The ledger, and back", ""),
    ):
        screen.key("C-p")
        screen.type(typed)
        if message:
            screen.wait(message)
        shown = screen.wait("F8 HALT")  # bright above the palette, as soon as all of it is painted
        assert "F8 HALT" in shown and "🔎" not in shown
        if after:
            screen.key("Enter")
            screen.wait(after)
        else:
            screen.key("Escape")
            screen.gone("an action, a station, a setting")
    assert "axes.z.maximum_feed_mm_s" in screen.text(), "the cursor stands on the setting that was chosen"


@pytest.mark.parametrize("size", [(160, 47), (100, 30)])
def test_jumping_goes_to_every_station_and_pane(size: tuple[int, int], screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path, size)
    built = list(ROUTE)
    screen.key("j", "2")
    assert "enter change" in screen.text() and "⌫" not in screen.text()  # the settings: a name must be given
    for number in (0, 4, 14, len(built) - 1):
        letter = LETTERS[number]
        screen.key("j", letter)
        title = {0: "Machine file", 4: "Port and link", 14: "Sensors at rest"}.get(number, "Report")
        screen.wait(title)
    screen.key("j", "Escape", "j", "9")  # these stand nowhere
    screen.wait("Report")


def test_a_theme_and_preferences_are_kept_for_the_next_time(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path)
    screen.key("F6", "F7")
    screen.wait("Preferences")
    screen.key("Down", "space")  # the instrument at hand
    screen.wait("rule")
    screen.key("Down", "space", "Escape")
    kept = Kept(tmp_path / "tern" / "config" / "ublet" / "preferences.toml")
    assert (kept.now.theme, kept.now.instrument, kept.now.length_unit) == ("bone", "rule", "in")
    screen.key("j", "m")
    screen.wait("instrument rule")
    screen.key("j", "a", "j", "1")
    screen.key("/")
    screen.type("bed.margin")
    screen.key("Enter", "Enter")
    assert "6 mm" in screen.text(), "a bare number would be inches: the field says what it holds"
    screen.key("C-u")
    screen.type("0.5")
    screen.wait("= 12.7 mm")
    screen.key("Enter")
    screen.wait("1 edit not written")
    screen.close()
    screens.remove(screen)
    again = Inside(tmp_path / "tern")
    screens.append(again)
    again.wait("no errors")
    assert tomllib.loads(kept.path.read_text(encoding="utf-8"))["theme"] == "bone" if kept.path else False
    assert again.theme() == "bone"


def test_a_start_can_be_asked_twice(screens: list[Inside], tmp_path: Path) -> None:
    folder = tmp_path / "tern" / "config" / "ublet"
    folder.mkdir(parents=True)
    (folder / "preferences.toml").write_text("confirm_starts = true\nconfirm_quit = true\n", encoding="utf-8")
    screen = inside(screens, tmp_path)
    screen.key("j", "o", "Enter")
    screen.wait("Press the same key once more to start")
    screen.wait("nothing runs")
    screen.key("Enter")
    screen.wait("3 sensors read the same room")
    screen.key("C-q")
    screen.wait("Quit Ublet? Everything goes off.")
    screen.key("s")
    screen.gone("Quit Ublet?")


def test_a_newcomer_follows_what_comes_next(screens: list[Inside], tmp_path: Path) -> None:
    """F2 only: to the board that is behind the file, then to its hidden values, then to the first wire."""
    screen = inside(screens, tmp_path)
    assert "next  F2 write to board, because the board's image differs in 4 settings" in screen.text()
    screen.key("F2")
    screen.wait("enter writes the image")
    screen.key("Enter")
    screen.wait("Nothing moves, nothing heats.")
    screen.key("Enter")
    screen.wait("The board runs")
    screen.wait("next  F2 write to board, because")
    screen.key("F2")
    screen.wait("stored values hide the file's")
    screen.key("A", "Enter")
    screen.wait("backed up beside the machine file")
    screen.key("Enter")
    screen.wait("next  F2 inputs by hand, because it is not done yet: every endstop and the probe")
    screen.key("F2")
    screen.wait("You press each of 3 switches by hand")
    assert "next" in screen.text()


def test_the_bell_rings_for_whoever_wants_it(
    screens: list[Inside], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rings: list[int] = []
    monkeypatch.setattr(UbletApp, "bell", lambda self: rings.append(1))
    screen = inside(screens, tmp_path)
    screen.key("j", "o", "Enter")
    screen.wait("3 sensors read the same room")
    assert not rings, "nobody asked for it"
    screen.key("F7", *["Down"] * 3, "space", "Escape", "Enter")
    screen.wait("2 runs")
    screen.wait("nothing runs")
    ended = len(rings)
    screen.key("F8")
    screen.wait("■ HALTED")
    assert (ended, len(rings)) == (1, 2), "the trial's end, and the halt"


def test_halt_shows_at_once_in_every_dialog(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A dialog has one pulse of its own, and it lives."""

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            for key, message in (("f3", "What happened"), ("f7", "Preferences"), ("ctrl+p", "setting")):
                await there.press(key)
                await there.until(lambda message=message: message in there.text() and len(there.app.screen_stack) == 2)
                assert len(there.app.screen.query(Pulse)) == 1
                await there.press("f8")
                await there.until(lambda: "HALTED" in there.text())
                await there.press("escape")
                await there.until(lambda: len(there.app.screen_stack) == 1)
                await there.press("r")
                await there.until(lambda: there.board.mode == "ready" and "HALTED" not in there.text())

    virtually(work)


def test_the_next_step_shows_the_trial_that_is_wanted(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A station of two trials: the one that is done is not shown again."""

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            app = there.app
            app.next_step = NextStep("speed limits", "", station_with("limits"), trial="driver-current")
            await there.press("f2")
            await there.until(lambda: "with less current each time" in there.text())
            app.next_step = NextStep("speed limits", "", station_with("limits"), trial="speed-limits")
            await app.action_next()
            await there.until(lambda: "with less current each time" not in there.text() and "mm/s²" in there.text())

    virtually(work)


def test_wrong_keys_do_nothing(screens: list[Inside], tmp_path: Path) -> None:
    screen = inside(screens, tmp_path / "f")
    screen.key("NPage", "NPage", "NPage", "Down")
    screen.wait("from room")
    below = ROUTE.index(station_with("compare")) - ROUTE.index(station_with("heat"))
    screen.key(*["Down"] * below)
    screen.wait("two of its states will stand side by side")
    screen.key("z", "5", "k", "v", "d", "e", "F12", "C-x", *["Up"] * below)
    screen.wait("Heats the hotend to about")
    assert "Traceback" not in screen.text()
