"""How long a trial holds up the event loop: a session as the app has it, a board in a process of its own, and a beat
beside every trial.

``held_ms`` is the most that the loop's own thread worked between two beats: what a trial does to the keys. ``late_ms``
is how late a beat came at the worst, which the host and the threads that compute make later, too; idle, it is the
host's alone.
"""

from __future__ import annotations

import asyncio
import gc
import sys
import tempfile
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ublet.benchmark.wired import well_wired
from ublet.core.catalogue import TRIALS
from ublet.core.questions import Judge, Live, Question
from ublet.link.baud import PortOpener
from ublet.session import demo
from ublet.session.answers import unused
from ublet.session.headless import Looking
from ublet.session.session import Session
from ublet.tui.app import SWITCH_S
from ublet.tui.frame.loading import import_numerics

BEAT_S = 0.005
SPEED = 20.0
IDLE_S = 6.0
LIMIT_MS = 50.0

STEPS: dict[str, Sequence[tuple[str, dict[str, Any]]]] = {
    "tern": (
        ("lead-screws", {}),
        ("bed-corners", {}),
        ("probe-spread", {}),
        ("z-offset", {}),
        ("bed-mesh", {}),
        ("mesh-check", {}),
        ("first-layer", {}),
        ("belts", {"seconds": 30.0}),
        ("resonance", {"seconds": 30.0}),
        ("input-shaper", {}),
        ("shaper-verify", {}),
        ("acceleration-limit", {}),
        ("hotend-control", {"wait": True}),
    ),
    "wren": (
        ("z-offset", {}),
        ("first-layer", {}),
        ("extruder-steps", {}),
        ("accelerometer-turned", {}),
        ("resonance", {"seconds": 30.0}),
        ("input-shaper", {}),
        ("shaper-verify", {}),
        ("ringing-tower", {}),
        ("bed-control", {"wait": True}),
    ),
}


class Willing:
    """Gives the first answer to everything, and types a length where one is asked for."""

    async def answer(self, question: Question) -> str:
        """The usual answer."""
        if isinstance(question, Live):
            return await unused()
        if isinstance(question, Judge):
            return question.taken("all 2" if len(question.verdicts) > 1 else "all 1")
        return question.answers[0] if question.answers else "1"

    async def undo(self, question: Question) -> bool:
        """Whatever it was, it is undone."""
        return True


@dataclass
class Worst:
    """The latest beat, and the most work of the loop's thread between two, s."""

    late_s: float = 0.0
    held_s: float = 0.0


async def _beat(worst: Worst) -> None:
    while True:
        began, worked = time.perf_counter(), time.thread_time()
        await asyncio.sleep(BEAT_S)
        worst.late_s = max(worst.late_s, time.perf_counter() - began - BEAT_S)
        worst.held_s = max(worst.held_s, time.thread_time() - worked)


def _appears(path: Path) -> None:
    while not path.exists():
        time.sleep(0.05)


def holds() -> dict[str, Any]:
    """For both machines: the longest hold in each trial and while idle, ms."""
    return {kind: asyncio.run(_held(kind)) for kind in STEPS}


async def _held(kind: str) -> dict[str, Any]:
    held: dict[str, float] = {}
    late: dict[str, float] = {}
    outcomes: dict[str, str] = {}
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        _, scenario = demo.prepare(kind, Path(name))
        scenario.write_text(well_wired(scenario.read_text(encoding="utf-8")), encoding="utf-8")
        board = demo.start(kind, Path(name), SPEED)
        session = Session(board.machine, PortOpener(board.port, lambda: 250_000))
        worst, watcher = Worst(), Looking(Willing(), lambda progress: None)
        beat = asyncio.create_task(_beat(worst))
        try:
            await asyncio.to_thread(_appears, Path(board.port))
            await session.connection.connect()
            await session.settle()
            await asyncio.to_thread(import_numerics)
            gc.freeze()  # as the app does when it stands
            sys.setswitchinterval(SWITCH_S)
            worst.late_s = worst.held_s = 0.0
            await asyncio.sleep(IDLE_S)
            held["idle"], late["idle"] = round(1000 * worst.held_s, 1), round(1000 * worst.late_s, 1)
            for trial, values in STEPS[kind]:
                spec = TRIALS[trial]
                worst.late_s = worst.held_s = 0.0
                entered = await session.run(spec, spec.parameters(**values), watcher)
                held[trial], late[trial] = round(1000 * worst.held_s, 1), round(1000 * worst.late_s, 1)
                result = entered.ran.result
                outcomes[trial] = result.outcome if result.outcome == "proven" else result.why[:80]
                if result.choice is not None and result.proposals:
                    await session.keep(result.choice, entered.number)
        finally:
            beat.cancel()
            with suppress(asyncio.CancelledError):
                await beat
            await session.close()
            board.close()
    short = [f"{kind} {trial}: held for {ms} ms" for trial, ms in held.items() if ms > LIMIT_MS]
    return {"held_ms": held, "held_limit_ms": LIMIT_MS, "late_ms": late, "outcomes": outcomes, "fell_short": short}
