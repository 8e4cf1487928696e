"""The app below its least size, on another machine's board, after a broken link; and keys that come in bursts."""

from __future__ import annotations

import asyncio
import re
from pathlib import Path

import pytest
from textual.widgets import Input

from tests.conftest import virtually
from tests.tui.pilot import Opened, opened
from ublet.core.route import ROUTE
from ublet.core.run import Option, Proposal
from ublet.link.transport import Transport
from ublet.tui.app import REST_S
from ublet.tui.frame.dialogs import QuestionDialog, SaveDialog
from ublet.tui.frame.key_order import KeyHandled, KeysInOrder
from ublet.tui.frame.route import Route


async def at(there: Opened, bench: str) -> None:
    """Go to a station's bench, and wait until the route has come to rest there."""
    station = next(station for station in ROUTE if station.bench == bench)
    there.app.query_one(Route).cursor = ROUTE.index(station)
    await asyncio.sleep(REST_S + 0.1)
    await there.app._show_station(station)
    assert there.app.bench is not None
    there.app.bench.focus()
    await there.until(lambda: there.app.focused is there.app.bench)


def heated(there: Opened) -> list[str]:
    return [name for name, drive in there.board.heat.drives.items() if drive.target_c is not None]


def test_below_the_least_size_nothing_is_switched_on_and_temperatures_stay(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await at(there, "control")
            await there.resize(60, 20)
            await there.press("1", "f", "ctrl+s", "ctrl+p", "enter", "tab", "1")
            await asyncio.sleep(0.5)
            assert heated(there) == [] and not any(there.board.heat.fan_duty.values())
            assert len(there.app.screen_stack) == 1
            shown = there.text()
            assert (
                re.search(r"hotend 2[23]", shown)
                and re.search(r"bed 2[23]", shown)
                and "80 x 24" in shown
                and "F8 HALT" in shown
            )
            await there.press("f8")
            await there.until(lambda: there.board.mode == "halted" and "HALTED" in there.text())
            await there.resize(160, 47)
            await there.until(lambda: there.app.focused is there.app.bench)
            await there.press("r")
            await there.until(lambda: there.board.mode == "ready" and there.session.usable)
            await there.press("1")
            await there.until(lambda: heated(there) == ["bed", "hotend"])

    virtually(work)


def test_quitting_below_the_least_size_says_what_would_be_lost(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await there.session.keep(Option("x", "", (Proposal("heaters.hotend.kp", 0.022, 0.1, "", ""),), {}), None)
            await there.resize(79, 24)
            await there.press("ctrl+q")
            await there.until(lambda: "1 kept setting is not saved" in " ".join(there.text().split()))
            assert there.app.is_running and there.app.return_code is None
            await there.press("ctrl+q")
            await there.until(lambda: there.app._exit)

    virtually(work)


def test_a_dialog_keeps_its_field_through_a_small_terminal(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await at(there, "control")
            await there.press("t")
            await there.until(lambda: isinstance(there.app.focused, Input))
            await there.resize(30, 8)
            await there.press("9", "enter")
            assert heated(there) == [] and "hotend" in there.text()
            await there.resize(120, 40)
            await there.until(lambda: isinstance(there.app.focused, Input))
            await there.press("1", "0", "0", "enter")
            await there.until(lambda: heated(there) == ["hotend"])
            assert there.board.heat.drives["hotend"].target_c == 100

    virtually(work)


def test_a_link_that_breaks_ends_a_hold_and_offers_it_again(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await at(there, "control")
            await there.press("1")
            await there.until(lambda: heated(there) == ["bed", "hotend"])
            other = there.ends[-1].other
            assert other is not None
            other.close()
            await there.until(lambda: len(there.ends) == 2 and there.session.connection.linked)
            assert heated(there) == []
            await there.until(lambda: "holds the bed at 60 °C and the hotend at 215 °C again" in there.text())
            await there.press("a")
            await there.until(lambda: heated(there) == ["bed", "hotend"])
            await there.press("0")
            await there.until(lambda: heated(there) == [] and "the board confirmed it" in there.text())

    virtually(work)


def test_a_start_without_a_link_says_why_and_one_with_it_starts(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await at(there, "sensors")
            honest = there.session.connection.opener

            async def away() -> Transport:
                raise OSError("away")

            there.session.connection.opener = away
            other = there.ends[-1].other
            assert other is not None
            other.close()
            await there.until(lambda: not there.session.connection.linked)
            await there.press("enter")
            await there.until(lambda: "Not started: no link to the board" in there.words())
            there.session.connection.opener = honest
            await there.until(lambda: there.session.usable and there.session.connection.samples)
            await there.until(lambda: "Not started" not in there.words())
            await there.press("enter")
            await there.until(lambda: there.session.runner.running is not None)

    virtually(work)


def test_another_machines_board_is_told_at_once_and_nothing_is_done_to_it(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch, machine="wren-180", board_of="tern-280") as there:
            await there.until(lambda: isinstance(there.app.screen, QuestionDialog))
            await there.until(lambda: "of the kind larch-6" in there.words() and "alder-4" in there.words())
            await there.press("enter")
            await at(there, "control")
            await there.press("1", "f")
            await at(there, "heat")
            await there.press("enter")
            await asyncio.sleep(0.5)
            assert heated(there) == [] and not any(there.board.heat.fan_duty.values())
            await there.until(lambda: "of the kind larch-6" in there.words())

    virtually(work)


def test_a_save_takes_what_was_chosen_and_leaves_the_rest_live(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            proposals = (
                Proposal("heaters.hotend.kp", 0.022, 0.1, "", ""),
                Proposal("axes.x.maximum_feed_mm_s", 300.0, 200.0, "mm/s", ""),
            )
            await there.session.keep(Option("x", "", proposals, {}), None)
            await there.press("ctrl+s")
            await there.until(lambda: isinstance(there.app.screen, SaveDialog))
            first = there.app.screen.changes[0].setting  # type: ignore[attr-defined]
            await there.press("space", "enter")
            await there.until(lambda: len(there.session.unsaved()) == 1)
            assert there.session.unsaved()[0].setting == first
            assert len([c for c in there.session.ledger.changes("save") if c.layer == "stored"]) == 1

    virtually(work)


@pytest.mark.parametrize(
    "keys", [("ctrl+p", "pagedown"), ("ctrl+p", "pageup", "down", "enter", "enter"), ("ctrl+p", "enter", "enter")]
)
def test_the_palette_stands_bursts(keys: tuple[str, ...], folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            from textual.events import Key

            for key in keys:
                there.app.post_message(Key(key, None))
            await asyncio.sleep(1.0)
            assert there.app.is_running and there.app._exception is None

    virtually(work)


def test_the_file_on_the_disk_and_the_name_in_the_title_are_told_as_they_are(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            file, good = there.session.document.path, there.session.document.text
            assert "as on the disk" in there.text()
            file.write_bytes(b"\xff\xfe")
            await there.until(lambda: "not what is on the disk" in there.text() and "UTF-8" in there.text())
            file.unlink()
            await there.until(lambda: "is not there" in there.text() and "as on the disk" not in there.text())
            file.write_text(good.replace('name = "Tern 280"', 'name = "Tern 281"'), encoding="utf-8")
            await there.until(lambda: "Tern 281" in there.title())

    virtually(work)


def test_a_key_that_passes_when_the_app_has_ended_is_no_fault() -> None:
    async def work() -> int:
        app = KeysInOrder(None)
        app.on_key_handled(KeyHandled(1))  # it has no screen any more, or not yet
        return app.dealt

    assert virtually(work) == 0
