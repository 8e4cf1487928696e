"""Real processes: a board on a socket and a pseudo-terminal, and kill -9 at the worst moments."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import select
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import machine_text
from tests.waiting import must_wait
from ublet.firmware.board import HEARTBEAT_WINDOW_S
from ublet.link.baud import PortOpener
from ublet.link.client import Client
from ublet.link.errors import LinkLost
from ublet.link.transport import PortError, open_transport
from ublet.session.connection import Connection
from ublet.session.library import scenario_path
from ublet.session.session import Session

pytestmark = pytest.mark.waits

KP = "heaters.hotend.kp"


class Board:
    """A board's process; its port is known when it is made."""

    def __init__(
        self,
        store: Path,
        listen: str = "tcp:localhost:0",
        speed: str = "1",
        scenario: Path | None = None,
        more: tuple[str, ...] = (),
    ) -> None:
        must_wait()
        truth = str(scenario or scenario_path("tern-280"))
        words = ["board", "--scenario", truth, "--listen", listen, "--speed", speed, *more]
        self.process = subprocess.Popen(
            [sys.executable, "-m", "ublet", *words, "--store", str(store)], stdout=subprocess.PIPE, text=True
        )
        assert self.process.stdout is not None
        ready = json.loads(self.process.stdout.readline())
        assert ready["board"] == "larch-6"
        self.port: str = ready["port"]

    def history(self) -> tuple[list[list[float | None]], Client]:
        """Every sample that the board still has, page by page; and the client that asked."""

        async def work() -> tuple[list[list[float | None]], Client]:
            client = Client(await open_transport(self.port, 250_000))
            await client.hello()
            rows: list[list[float | None]] = []
            while True:
                start = int(rows[-1][0] or 0) + 1 if rows else 0
                page = (await client.call("samples.read", {"from": start, "to": 10**9}))["samples"]
                rows += page
                if len(page) < 2:
                    break
            client.close()
            return rows, client

        return asyncio.run(work())

    def ask(self, method: str, **params: object) -> tuple[dict[str, object], Client]:
        """One request over a new link; the client is closed after, with what it saw."""

        async def work() -> tuple[dict[str, object], Client]:
            client = Client(await open_transport(self.port, 250_000))
            await client.hello()
            answer = await client.call(method, params)
            await asyncio.sleep(0.3)
            client.close()
            return answer, client

        return asyncio.run(work())


@pytest.fixture
def board(tmp_path: Path) -> Iterator[Board]:
    running = Board(tmp_path / "store.json")
    yield running
    running.process.kill()
    running.process.wait()


class Running:
    """`ublet run hotend-control` on a board, heating when this is made; its progress goes to a terminal."""

    def __init__(self, board: Board, machine: Path) -> None:
        machine.write_text(machine_text(), encoding="utf-8")
        self.end, theirs = os.openpty()
        words = ["run", "hotend-control", "--machine", str(machine), "--port", board.port]
        self.process = subprocess.Popen([sys.executable, "-m", "ublet", *words], stderr=theirs)
        os.close(theirs)
        self.output = b""
        deadline = time.monotonic() + 60
        while b"heating up" not in self.output:
            assert time.monotonic() < deadline and self.process.poll() is None, self.output
            self.read()

    def read(self) -> None:
        if select.select([self.end], [], [], 0.2)[0]:
            with contextlib.suppress(OSError):
                self.output += os.read(self.end, 1 << 16)

    def stop(self, number: signal.Signals) -> int:
        """Send a signal, wait for the end, and return the exit code."""
        self.process.send_signal(number)
        deadline = time.monotonic() + 30
        while self.process.poll() is None and time.monotonic() < deadline:
            self.read()
        self.read()
        os.close(self.end)
        return self.process.wait(1)


def test_killing_the_app_while_heating_leaves_a_cold_board_within_the_window(board: Board, tmp_path: Path) -> None:
    assert Running(board, tmp_path / "m.toml").stop(signal.SIGKILL) == -signal.SIGKILL
    time.sleep(HEARTBEAT_WINDOW_S + 0.5)
    _, client = board.ask("settings.read")
    assert (client.state.mode, client.state.guard) == ("tripped", "link lost")


def test_interrupting_a_run_switches_off_and_ends_with_130(board: Board, tmp_path: Path) -> None:
    running = Running(board, tmp_path / "m.toml")
    assert running.stop(signal.SIGINT) == 130 and b"the board confirmed that everything is off" in running.output
    rows, client = board.history()
    assert client.about is not None
    at = 2 + client.about.channels.index("heaters.hotend.duty")
    assert max(row[at] or 0.0 for row in rows) == 1.0 and rows[-1][at] == 0.0
    assert client.state.mode == "ready"


SAVE = """
import asyncio, os, signal, sys
from pathlib import Path
from ublet.core.run import Option, Proposal
from ublet.link.transport import open_transport
from ublet.session import saving
from ublet.session.session import Session
stage, file, port = sys.argv[1:]
def die(*_, **__):
    os.kill(os.getpid(), signal.SIGKILL)
async def main():
    session = Session(Path(file), lambda: open_transport(port, 250000))
    await session.connection.connect()
    if stage == "settle":
        await session.settle()
        await session.close()
        return
    option = Option("x", "", (Proposal("heaters.hotend.kp", 0.022, 0.14, "", ""),), {})
    await session.keep(option, None)
    if stage == "before the board":
        saving._store = die
    elif stage == "before the file":
        saving.Prepared.put_in_place = die
    elif stage == "before the ledger":
        session.ledger.end_save = die
    await session.save()
asyncio.run(main())
"""


@pytest.mark.parametrize(
    ("stage", "new"), [("before the board", False), ("before the file", True), ("before the ledger", True)]
)
def test_killing_the_app_during_a_save_leaves_old_or_new_never_a_mixture(
    board: Board, tmp_path: Path, stage: str, new: bool
) -> None:
    machine = tmp_path / "m.toml"
    machine.write_text(machine_text(), encoding="utf-8")
    killed = subprocess.run([sys.executable, "-c", SAVE, stage, str(machine), board.port], check=False)
    assert killed.returncode == -signal.SIGKILL
    again = subprocess.run([sys.executable, "-c", SAVE, "settle", str(machine), board.port], check=False)
    assert again.returncode == 0 and not list(tmp_path.glob(".*new"))
    answer, _ = board.ask("settings.read", paths=[KP])
    values = answer["values"]
    assert isinstance(values, dict)
    assert values[KP]["stored"] == (0.14 if new else 0.022)
    assert ("kp = 0.14" in machine.read_text(encoding="utf-8")) is new
    assert ("kp = 0.024" in machine.read_text(encoding="utf-8")) is not new


def test_the_store_survives_the_board(tmp_path: Path) -> None:
    store = tmp_path / "store.json"
    first = Board(store)
    first.ask("settings.save", values={KP: 0.33})
    first.process.kill()
    first.process.wait()
    second = Board(store)
    answer, _ = second.ask("settings.read", paths=[KP])
    second.process.kill()
    second.process.wait()
    values = answer["values"]
    assert isinstance(values, dict) and values[KP]["stored"] == values[KP]["live"] == 0.33


def test_a_pseudo_terminal_serves_one_program_at_a_time(tmp_path: Path) -> None:
    link = tmp_path / "port"
    board = Board(tmp_path / "store.json", f"pty:{link}")
    try:
        assert board.port == str(link)

        async def two() -> None:
            client = Client(await open_transport(str(link), 250_000))
            about = await client.hello()
            assert about.board == "larch-6"
            with pytest.raises(PortError, match="in use by"):
                await open_transport(str(link), 250_000)
            client.close()

        asyncio.run(two())
    finally:
        board.process.terminate()
        board.process.wait()
    assert not os.path.lexists(link)


@pytest.fixture
def slow_line(tmp_path: Path) -> Iterator[Board]:
    """A board whose line has another speed than its machine file says."""
    text = scenario_path("tern-280").read_text(encoding="utf-8").replace("baud = 250000", "baud = 115200")
    (tmp_path / "machines").mkdir()
    (tmp_path / "scenarios").mkdir()
    (tmp_path / "machines" / "tern-280.toml").write_text(machine_text(), encoding="utf-8")
    scenario = tmp_path / "scenarios" / "slow.toml"
    scenario.write_text(text, encoding="utf-8")
    running = Board(tmp_path / "store.json", "pty", scenario=scenario)
    yield running
    running.process.kill()
    running.process.wait()


def test_a_wrong_baud_rate_is_told_by_its_garbage_and_the_usual_ones_are_tried(
    slow_line: Board, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        opener = PortOpener(slow_line.port, lambda: 250_000)
        connection = Connection(opener)
        await connection.connect()
        assert connection.linked and opener.found == 115_200
        assert "The board answers at 115200 baud; at the 250000 of the machine file only garbage" in connection.note
        await connection.close()
        monkeypatch.setattr("ublet.link.baud.USUAL", (9_600,))
        with pytest.raises(LinkLost, match="garbage at 250000 baud and at 9600"):
            await Connection(PortOpener(slow_line.port, lambda: 250_000)).connect()

    asyncio.run(work())


def test_the_halt_byte_stops_heat_at_once(board: Board) -> None:
    async def work() -> float:
        client = Client(await open_transport(board.port, 250_000))
        await client.hello()
        await client.call("heat.target", {"heater": "hotend", "celsius": 200})
        halted: asyncio.Future[float] = asyncio.get_running_loop().create_future()
        began = asyncio.get_running_loop().time()

        def seen(state: object) -> None:
            if client.state.mode == "halted" and not halted.done():
                halted.set_result(asyncio.get_running_loop().time() - began)

        client.on_state = seen
        client.halt()
        took = await asyncio.wait_for(halted, 5)
        client.close()
        return took

    assert asyncio.run(work()) < 2  # the figure itself is measured, not tested: machines are noisy


BORROWS = """
import asyncio, os, signal, sys
from pathlib import Path
from ublet.link.transport import open_transport
from ublet.session.session import Session

async def work():
    session = Session(Path(sys.argv[1]), lambda: open_transport(sys.argv[2], 250_000))
    await session.connection.connect()
    await session.settled()
    await session.loans.borrow({"axes.z.soft_limits": False, "probe.samples": 7})
    assert session.live("axes.z.soft_limits") is False and not session.unsaved()
    os.kill(os.getpid(), signal.SIGKILL)

asyncio.run(work())
"""


@pytest.mark.parametrize("lends", [True, False], ids=["a board that lends", "a board that only writes"])
def test_what_a_killed_host_had_borrowed_is_back_at_the_next_link_and_never_offered(
    tmp_path: Path, lends: bool
) -> None:
    file = tmp_path / "tern-280.toml"
    file.write_text(machine_text(), encoding="utf-8")
    board = Board(tmp_path / "store.json")
    try:
        borrows = BORROWS
        if not lends:
            borrows = "from ublet.link.rpc import RpcController as C\nC.can = lambda self: frozenset()\n" + BORROWS
        killed = subprocess.run([sys.executable, "-c", borrows, str(file), board.port])
        assert killed.returncode == -signal.SIGKILL

        async def work() -> None:
            session = Session(file, lambda: open_transport(board.port, 250_000))
            assert set(session.loans) == {"axes.z.soft_limits", "probe.samples"}
            await session.connection.connect()
            assert session.unsaved() == [] and session.presence.settings()["axes.z.soft_limits"] is True
            await session.settled()
            assert "had borrowed axes.z.soft_limits and probe.samples" in session.notices[0]
            assert session.live("axes.z.soft_limits") is True and session.live("probe.samples") != 7
            assert not session.loans and session.ledger.loans() == {}
            await session.close()

        asyncio.run(work())
    finally:
        board.process.kill()
        board.process.wait()
