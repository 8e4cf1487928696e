"""The real app in this process, on a simulated board beside it: screens are looked at without a terminal."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

import pytest
from textual._compositor import Compositor
from textual._context import visible_screen_stack
from textual.drivers.headless_driver import HeadlessDriver
from textual.events import Key, Resize
from textual.geometry import Size
from textual.keys import _character_to_key
from textual.pilot import Pilot

from tests.conftest import mended_tern
from tests.tui.screen import PATIENCE_S, unmet_is_not_asked
from ublet.benchmark.wired import well_wired
from ublet.core.heat.pid import TICK_S
from ublet.core.machine.check import check_text
from ublet.firmware.board import SimulatedBoard
from ublet.firmware.service import Service
from ublet.link.transport import MemoryTransport, Transport, memory_pair
from ublet.session.demo import variant, variants
from ublet.session.hands import DemoHands
from ublet.session.library import boards, machine_path, scenario_path
from ublet.session.session import Session
from ublet.simulated import SimulatedMachine
from ublet.tui.app import UbletApp
from ublet.tui.frame.title import Title
from ublet.world.hands import Hands, answered
from ublet.world.scenario import Scenario, load_scenario, parse_scenario

SPEED = 20.0
PAUSE_S = 0.01
LOOKS_S, WORD_S, LATE = 0.2, 0.01, 0.15
"""Reading a whole screen takes as long as a second of the board: it is not done more often, and what takes long may be
seen late by a share of that. The app's own word costs nothing.
"""


ASKED_AGAIN_S = 3.0
"""The app's word that all is painted is asked for again after so long, s."""


class Frames:
    """A frame that nobody looks at is counted and not drawn: a quarter of a walk's time went there. ``text`` draws it
    all.
    """

    def __init__(self) -> None:
        self.count = 0

    def update_of(self, compositor: Compositor) -> None:
        """What would go to the terminal: nothing."""
        compositor._dirty_regions.clear()
        self.count += 1


@dataclass
class Opened:
    """The app, its pilot, its session, and the board behind the link; ``host`` is our end of the line."""

    app: UbletApp
    pilot: Pilot[None]
    session: Session
    board: SimulatedBoard
    ends: list[MemoryTransport]
    frames: Frames
    _read: tuple[object, str] = (None, "")

    async def press(self, *keys: str) -> None:
        """Keys by Textual's names; until the app has dealt with each, which it says itself. The pilot's own way waits
        until the process is idle, which it never is beside a board."""
        for key in keys:
            self._send(key)
            await asyncio.sleep(0.01)
            await self.until(lambda: not self.app._waiting and not self.app._under_way, every_s=WORD_S)

    async def burst(self, *keys: str) -> None:
        """Keys all at once."""
        for key in keys:
            self._send(key)
        await asyncio.sleep(0.01)
        await self.until(lambda: not self.app._waiting and not self.app._under_way, every_s=WORD_S)

    def _send(self, key: str) -> None:
        name = _character_to_key(key) if len(key) == 1 else key
        character = key if len(key) == 1 else {"space": " ", "enter": "\r", "tab": "\t"}.get(key)
        self.app.post_message(Key(name, character))

    async def until(self, there: object, seconds: float = PATIENCE_S, every_s: float = LOOKS_S) -> None:
        """Wait until something is so; the longer it takes the less often it is looked for."""
        clock = asyncio.get_running_loop().time
        began = clock()
        while not there():  # type: ignore[operator]
            waited = clock() - began
            assert waited < seconds, f"it did not come about; the screen was:\n{self.text()}"
            await asyncio.sleep(max(every_s, LATE * waited))

    async def resize(self, width: int, height: int) -> None:
        """Another size of the terminal; the pilot's own way waits until the process is idle, which it never is here."""
        driver, size = self.app._driver, Size(width, height)
        assert isinstance(driver, HeadlessDriver)
        driver._size = size
        self.app.post_message(Resize(size, size))
        await self.until(lambda: self.app.size == size and self.app.screen.size == size, every_s=WORD_S)
        await self.until(lambda: len(self.text().partition("\n")[0]) == width)  # laid out anew

    async def painted(self) -> None:
        """Wait for the app's own word that what was changed until now is on the screen.

        A word asked for while one screen gives way to another is lost with the former: it is asked for again.
        """
        for _ in range(2):
            response, end = asyncio.Event(), asyncio.get_running_loop().time() + PATIENCE_S
            while not response.is_set():
                assert asyncio.get_running_loop().time() < end, f"nothing is painted; the screen was:\n{self.text()}"
                self.app.call_after_refresh(response.set)
                with suppress(TimeoutError):
                    async with asyncio.timeout(ASKED_AGAIN_S):
                        await response.wait()

    def title(self) -> str:
        """The title line, also while a dialog lies over it."""
        return self.app.screen_stack[0].query_one(Title).render().plain

    def words(self) -> str:
        """The same in one line."""
        return " ".join(self.text().split())

    def text(self) -> str:
        """What the screen shows: read anew when there was a frame since it was read last."""
        screen = self.app.screen
        frame = (screen, screen.size, self.frames.count)
        if self._read[0] != frame:
            visible_screen_stack.set(self.app._background_screens)  # what shows through a dialog
            strips = screen._compositor.render_strips()
            self._read = frame, "\n".join("".join(piece.text for piece in strip) for strip in strips)
        return self._read[1]


async def keep_pace(service: Service, speed: float) -> None:
    """The board's clock, tied to this loop's turns: where the loop's is no virtual one, a process that is starved slows
    the board as it slows the app.
    """
    turns = 0
    while True:
        await asyncio.sleep(PAUSE_S)
        for _ in range(round(PAUSE_S * speed / TICK_S)):
            service.board.tick()
        service.stream(PAUSE_S)
        turns += 1
        if turns % 2 == 0:
            service.state()


class NearHands(DemoHands):
    """The demonstration's hands, at a board in this process."""

    def __init__(self, hands: Hands) -> None:
        super().__init__(Path())
        self._hands = hands

    def _exchange(self, line: bytes) -> bytes:
        return answered(self._hands, line)


@dataclass
class Nearby:
    """What the app knows of a demonstration: its hands, and a board that never ends."""

    hands: DemoHands

    def ended(self) -> str | None:
        return None


def _shipped(machine: str) -> tuple[Scenario, str]:
    """The truth of a shipped machine or of a variant (well wired), and its machine file's text."""
    if machine in variants():
        _, declared, truth = variant(machine)
        return parse_scenario(well_wired(truth)), declared
    return load_scenario(scenario_path(machine)), machine_path(machine).read_text(encoding="utf-8")


@asynccontextmanager
async def opened(
    folder: Path,
    monkeypatch: pytest.MonkeyPatch,
    machine: str = "tern-280",
    board_of: str | None = None,
    size: tuple[int, int] = (160, 47),
    speed: float = SPEED,
    mended: bool = False,
    waits_for_link: bool = True,
) -> AsyncIterator[Opened]:
    """The app on a machine's file, linked to the board of the same machine or of another, with hands at it. mended:
    without the planted faults of the wires and switches.
    """
    of = board_of or machine
    scenario, declared = _shipped(of)
    checked = check_text(declared, boards())
    assert checked.machine is not None
    scenario = mended_tern() if mended else scenario
    file = folder / f"{machine}.toml"
    if not file.exists():
        file.write_text(_shipped(machine)[1], encoding="utf-8")
    loop = asyncio.get_running_loop()
    frames = Frames()
    monkeypatch.setattr(Compositor, "render_update", lambda compositor, *how, **more: frames.update_of(compositor))
    monkeypatch.setattr("textual._time.get_time", loop.time)  # Textual's timers go by the loop's clock, too
    store = folder / "board-store.json"
    simulated = SimulatedMachine(scenario, checked.machine, loop.time, store, speed)
    service = simulated.service
    ends: list[MemoryTransport] = []

    async def line() -> Transport:
        ours, theirs = memory_pair()
        theirs.received = service.received
        service.send = theirs.write
        ends.append(ours)
        return ours

    session = Session(file, line)

    async def open_session(file: Path, port: str | None, dialect: str = "") -> tuple[Session | None, str]:
        import ublet.tui.benches  # noqa: F401

        return session, ""

    monkeypatch.setattr("ublet.tui.frame.loading.open_session", open_session)
    monkeypatch.setenv("XDG_STATE_HOME", str(folder / "state"))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(folder / "config"))
    unmet_is_not_asked(folder / "config")
    clock = loop.create_task(keep_pace(service, speed))
    app = UbletApp(file, "board.port", Nearby(NearHands(simulated.hands)))  # type: ignore[arg-type]
    try:
        async with app.run_test(size=size, notifications=True) as pilot:
            found = Opened(app, pilot, session, simulated.board, ends, frames)
            if waits_for_link:
                await found.until(lambda: session.connection.linked and bool(session.connection.samples) and app.bench)
            yield found
    finally:
        clock.cancel()
