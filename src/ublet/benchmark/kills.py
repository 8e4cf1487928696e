"""The program killed at random moments of keep, save and restore: what it had reported as saved must still stand."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.run import Option, Proposal
from ublet.firmware.clock import run_virtually
from ublet.session.headless import on_scenario
from ublet.session.library import machine_path, scenario_path
from ublet.session.past import moment_of
from ublet.session.restoring import restoration, restore
from ublet.session.session import Session

SETTING = "heaters.hotend.kp"
FIRST_S, LAST_S = 0.05, 1.5
"""It is killed so soon or late after its first report, s."""


def kills(folder: Path, count: int) -> dict[str, Any]:
    """How many kills there were, by what was under way, and after which of them something else stood than was saved."""
    folder.mkdir(parents=True, exist_ok=True)
    lost: list[str] = []
    under_way: dict[str, int] = {}
    for number in range(count):
        place = folder / f"{number}"
        place.mkdir()
        saved, next_value, doing = _killed(place, np.random.default_rng([number, 3]))
        under_way[doing] = under_way.get(doing, 0) + 1
        stored, written = run_virtually(_after(place))
        if stored != written or stored not in (saved, next_value):
            lost.append(f"kill {number}, in {doing}: saved {saved:g}, stored {stored}, written {written}")
    return {"kills": count, "under_way": under_way, "lost": lost, "fell_short": lost}


def _killed(place: Path, random: np.random.Generator) -> tuple[float, float, str]:
    """Kill a program at a random moment: the value that it reported saved last, the next one, and what it did."""
    (place / "tern-280.toml").write_text(machine_path("tern-280").read_text(encoding="utf-8"), encoding="utf-8")
    command = [sys.executable, "-m", "ublet.benchmark.kills", str(place)]
    saved = next_value = 0.0
    doing = ""
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        lines: list[str] = []
        while not lines or not lines[-1].startswith("saved"):
            lines.append(process.stdout.readline())
        time.sleep(float(random.uniform(FIRST_S, LAST_S)))
        os.kill(process.pid, signal.SIGKILL)
        lines += process.stdout.readlines()
    for line in lines:
        what, _, value = line.strip().partition(" ")
        if not value or not line.endswith("\n"):
            continue
        doing = what
        if what == "saved":
            saved = float(value)
        else:
            next_value = float(value)
    return saved, next_value, doing


async def _after(place: Path) -> tuple[Any, Any]:
    """What the board has stored and the file says, once whoever opens it next has settled what was begun."""
    async with on_scenario(*_here(place)) as (session, _):
        await session.connection.first_readings()
        await session.settle()
        return session.connection.layers[SETTING].stored, session.document.value(SETTING)


def _here(place: Path) -> tuple[Any, ...]:
    return scenario_path("tern-280"), place / "tern-280.toml", 1, lambda progress: None, place / "store.json"


async def _work(place: Path) -> None:
    """Keep and save one value after the other, and go back to the first save now and then; each is reported."""
    async with on_scenario(*_here(place)) as (session, _):
        await session.connection.first_readings()
        first = 0.1
        await _save(session, first)
        for number in range(1, 10_000):
            value = round(first + 0.0001 * number, 6)
            await _save(session, value)
            if number % 3 == 0:
                print("restore", first, flush=True)
                await restore(session, restoration(session, moment_of(session.ledger, "save1"), [SETTING]))
                print("saved", first, flush=True)


async def _save(session: Session, value: float) -> None:
    print("keep", value, flush=True)
    await session.keep(Option("x", "", (Proposal(SETTING, None, value, "", ""),), {}), None)
    print("save", value, flush=True)
    await session.save({SETTING})
    print("saved", value, flush=True)


if __name__ == "__main__":
    run_virtually(_work(Path(sys.argv[1])))
