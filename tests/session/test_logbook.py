"""The log: links, boards and faults, in a file that does not grow for ever."""

from __future__ import annotations

import asyncio
import logging
from pathlib import Path

import pytest

from tests.conftest import Rig, tern_scenario, virtually
from ublet.session.logbook import KEPT, LARGEST_BYTES, fault_note, keep_log
from ublet.session.places import log_path


@pytest.fixture(autouse=True)
def _state(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


def test_links_halts_and_faults_are_written_once_each(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            keep_log(connection)
            for _ in range(3):
                connection.notify_changed()
            connection.halt()
            await asyncio.sleep(1)
            await connection.call("release")
            await asyncio.sleep(1)

    virtually(work)
    fault_note(ValueError("on purpose"))
    lines = log_path().read_text(encoding="utf-8").splitlines()
    assert sum("linked to larch-6" in line for line in lines) == 1
    assert sum("released: the board is ready again" in line for line in lines) == 1
    assert sum("the board is halted: Halted by you." in line for line in lines) == 1
    assert "a fault of ours: ValueError('on purpose')" in lines[-1] and "last-fault.txt" in lines[-1]


def test_it_is_begun_anew_before_it_grows_large(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            keep_log(rig.session.connection)

    virtually(work)
    log = logging.getLogger("ublet.test")
    for _ in range(6 * LARGEST_BYTES // 10_000):
        log.info("x" * 9_950)
    kept = sorted(path.name for path in log_path().parent.glob("ublet.log*"))
    assert kept == ["ublet.log", *(f"ublet.log.{number}" for number in range(1, KEPT + 1))]
    assert all(path.stat().st_size <= LARGEST_BYTES for path in log_path().parent.glob("ublet.log*"))


def test_a_folder_that_cannot_be_written_is_no_trouble(
    folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "taken").write_text("", encoding="utf-8")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "taken"))

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            keep_log(rig.session.connection)
            rig.session.connection.halt()
            await asyncio.sleep(1)
            assert rig.session.connection.state.mode == "halted"

    virtually(work)
