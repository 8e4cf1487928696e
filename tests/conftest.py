"""Shared pieces: a machine file, scenarios, and a simulated board on a virtual clock."""

from __future__ import annotations

import asyncio
import gc
import os
import sys
from collections.abc import Callable, Coroutine
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import hypothesis
import pytest

from tests.waiting import WAITING, runs
from ublet.benchmark.wired import well_wired
from ublet.core.acts import Cue, Seen
from ublet.core.machine.check import check_text
from ublet.core.machine.schema import MachineFile
from ublet.core.questions import Question
from ublet.core.run import Progress
from ublet.firmware.clock import VirtualLoop, keep_time, run_virtually
from ublet.link.client import Client
from ublet.link.transport import MemoryTransport, Transport, memory_pair
from ublet.session.library import boards, machine_path, scenario_path
from ublet.session.session import Session
from ublet.simulated import SimulatedMachine
from ublet.world.hands import Hands
from ublet.world.scenario import Scenario, parse_scenario

T = TypeVar("T")

hypothesis.settings.register_profile(
    "any host", deadline=None, suppress_health_check=[hypothesis.HealthCheck.too_slow]
)  # a starved host is slow and right
hypothesis.settings.load_profile("any host")

os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # the many processes that tests start need not each compile everything
sys.dont_write_bytecode = False

gc.set_threshold(20_000, 20, 20)  # what tests leave behind is little: looking for it took a twenty-fifth of their time


LONG = ("test_move", "test_heat_leg", "test_wire", "test_declare", "test_sizes", "test_soak")


@pytest.hookimpl(tryfirst=True)  # before pytest-xdist reads which tests stay together
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The long tests first, so that no worker waits for the others at the end."""
    items.sort(key=lambda item: LONG.index(item.path.stem) if item.path.stem in LONG else len(LONG))
    for item in items:
        if item.get_closest_marker(WAITING):
            item.add_marker(pytest.mark.xdist_group(WAITING))


def pytest_collection_finish() -> None:
    """What is loaded by now stays: it is not gone through again and again for what could be thrown away."""
    gc.collect()
    gc.freeze()


@pytest.hookimpl(tryfirst=True)
def pytest_runtest_setup(item: pytest.Item) -> None:
    """What waits for a process finds out whether it may."""
    runs(item)


def machine_text() -> str:
    """The shipped machine file of Tern 280."""
    return machine_path("tern-280").read_text(encoding="utf-8")


@cache
def tern() -> MachineFile:
    """Tern 280 as declared."""
    machine = check_text(machine_text(), boards()).machine
    assert machine is not None
    return machine


def tern_scenario(extra: str = "", replaced: dict[str, str] | None = None) -> Scenario:
    """Tern's truth, with text appended and some words replaced."""
    text = scenario_path("tern-280").read_text(encoding="utf-8")
    for before, after in (replaced or {}).items():
        assert before in text
        text = text.replace(before, after)
    if "[link]" in extra:
        text = text.replace("[link]\nbaud = 250000\n", "")
    return parse_scenario(text + "\n" + extra)


@cache
def mended_tern() -> Scenario:
    """Tern's truth as it is when the legs Wire and Move are done; the planted slack spring is nearly good."""
    text = well_wired(scenario_path("tern-280").read_text(encoding="utf-8"))
    return parse_scenario(text.replace("spring_mm = 0.5\n", "spring_mm = 0.55\n"))


def requests_noted(monkeypatch: pytest.MonkeyPatch) -> set[str]:
    """The requests that are made of a board from now on, by their names."""
    asked: set[str] = set()
    honest = Client.call

    async def noted(self: Client, method: str, params: dict[str, Any] | None = None) -> Any:
        asked.add(method)
        return await honest(self, method, params)

    monkeypatch.setattr(Client, "call", noted)
    return asked


def cues_noted(monkeypatch: pytest.MonkeyPatch) -> set[type[Cue]]:
    """What hands do and eyes look at in a simulated world from now on, by kind."""
    noted: set[type[Cue]] = set()
    for name in ("perform", "observe"):
        honest = getattr(Hands, name)

        def noting(self: Hands, cue: Cue, _honest: Any = honest) -> Seen:
            noted.add(type(cue))
            seen: Seen = _honest(self, cue)
            return seen

        monkeypatch.setattr(Hands, name, noting)
    return noted


class PromptLoop(VirtualLoop):
    """A virtual clock on which work for another thread is done at once: it does not run away while that works."""

    def run_in_executor(self, executor: Any, func: Callable[..., T], *args: Any) -> asyncio.Future[T]:
        done: asyncio.Future[T] = self.create_future()
        try:
            done.set_result(func(*args))
        except Exception as error:
            done.set_exception(error)
        return done


def virtually(work: Callable[[], Coroutine[Any, Any, T]]) -> T:
    """Run on a virtual clock."""
    return run_virtually(work(), PromptLoop)


def word(id: str) -> str:
    """The stable word of a finding's id."""
    return id.partition(".")[0]


def truths(report: dict[str, Any]) -> dict[str, float]:
    """The truths of a report about one subject, by the findings' words."""
    parts = (report, report.get("verify", {}))
    return {word(id): value for part in parts for id, value in part.get("truth", {}).items()}


class Onlooker:
    """A watcher that answers every question with the first answer, and remembers."""

    def __init__(self, answers: dict[str, str] | None = None) -> None:
        self.answers = answers or {}
        self.questions: list[Question] = []
        self.steps: list[Progress] = []
        self.rows = 0

    async def answer(self, question: Question) -> str:
        self.questions.append(question)
        return next((a for a in question.answers if a in self.answers), question.answers[0])

    async def undo(self, question: Question) -> bool:
        return False

    def progress(self, progress: Progress) -> None:
        self.steps.append(progress)

    def row(self, series: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        self.rows += 1


class Rig:
    """A session on a simulated board inside this process; use it inside ``virtually``."""

    def __init__(self, folder: Path, scenario: Scenario, store: Path | None = None, state_s: float = 0.5) -> None:
        self.loop = asyncio.get_running_loop()
        self.file = folder / "tern-280.toml"
        if not self.file.exists():
            self.file.write_text(machine_text(), encoding="utf-8")
        self.scenario = scenario
        simulated = SimulatedMachine(scenario, tern(), self.loop.time, store)
        self.world, self.board, self.hands = simulated.world, simulated.board, simulated.hands
        self.service = simulated.service
        self.clock = self.loop.create_task(keep_time(self.service, 1.0, state_s))
        self.host: MemoryTransport | None = None
        self.session = Session(self.file, self._open, threaded=False)

    async def _open(self) -> Transport:
        self.host, theirs = memory_pair()
        theirs.received = self.service.received
        self.service.send = theirs.write
        return self.host

    async def __aenter__(self) -> Rig:
        await self.session.connection.connect()
        await asyncio.sleep(1.0)
        return self

    async def __aexit__(self, *problem: Any) -> None:
        await self.session.close()
        self.clock.cancel()

    def everything_is_off(self) -> bool:
        """Whether no heater is driven and no fan runs."""
        return not any(d.target_c for d in self.board.heat.drives.values()) and not any(
            self.board.heat.fan_duty.values()
        )


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return tmp_path
