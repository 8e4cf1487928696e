"""Fast streams: readings, states and gaps over a line at its speed and with losses, on a virtual clock."""

from __future__ import annotations

import asyncio
import tempfile
import time
from pathlib import Path
from typing import Any

CASES: dict[str, tuple[float, bool, float]] = {
    "1600 Hz live": (1600.0, False, 0.0),
    "1600 Hz live, 1 % of lines lost": (1600.0, False, 0.01),
    "3200 Hz captured": (3200.0, True, 0.0),
    "3200 Hz captured, 1 % of lines lost": (3200.0, True, 0.01),
}
"""Rate, whether it is captured, and the share of lines that vanish each way."""

BAUD = 250_000


def streams(seconds: float) -> dict[str, Any]:
    """Every case for so long by the board's clock. lost: readings that did not arrive; unnamed: those of them that are
    in no gap that was reported.
    """
    from ublet.firmware.clock import run_virtually

    figures = {}
    for name, (rate_hz, captured, drop) in CASES.items():
        began = time.perf_counter()
        with tempfile.TemporaryDirectory() as folder:
            figures[name] = run_virtually(_one(Path(folder), rate_hz, captured, drop, seconds))
        figures[name]["wall_s"] = round(time.perf_counter() - began, 2)
    return {"baud": BAUD, "states_hz_wanted": 10, **figures}


async def _one(folder: Path, rate_hz: float, captured: bool, drop: float, seconds: float) -> dict[str, Any]:
    from ublet.firmware.clock import keep_time
    from ublet.link.transport import MemoryTransport, memory_pair
    from ublet.session.document import Document
    from ublet.session.library import machine_path, scenario_path
    from ublet.session.session import Session
    from ublet.session.streams import streaming
    from ublet.simulated import SimulatedMachine
    from ublet.world.scenario import load_scenario

    loop = asyncio.get_running_loop()
    file = folder / "tern-280.toml"
    file.write_bytes(machine_path("tern-280").read_bytes())
    declared = load_scenario(scenario_path("tern-280"))
    link = declared.link.model_copy(update={"baud": BAUD, "drop_rate": drop, "host_drop_rate": drop})
    scenario = declared.model_copy(update={"link": link})
    machine = SimulatedMachine(scenario, Document(file).machine, loop.time)
    clock = loop.create_task(keep_time(machine.service, 1.0))

    async def opened() -> MemoryTransport:
        ours, theirs = memory_pair()
        theirs.received, machine.service.send = machine.service.received, theirs.write
        return ours

    session = Session(file, opened, threaded=False)
    await session.connection.connect()
    await asyncio.sleep(1.0)
    began, states, came = loop.time(), 0, 0

    def count(samples: list[Any]) -> None:
        nonlocal states
        states += len(samples)

    session.connection.sampled.append(count)
    async with streaming(session.connection, "accelerometer", rate_hz, seconds if captured else None) as run:
        async for chunk in run:
            came += len(chunk.values)
            due = chunk.index + len(chunk.values)
            if due >= seconds * rate_hz:
                break
    took = loop.time() - began
    true_hz = rate_hz * (1 + (declared.accelerometer.clock_error if declared.accelerometer is not None else 0.0))
    in_gaps = sum(last - first + 1 for first, last in run.gaps)
    await session.close()
    clock.cancel()
    return {
        "readings": came,
        "lost": due - came,
        "unnamed": due - came - in_gaps,
        "blocks_recovered": run.recovered,
        "states_hz": round(states / took, 2),
        "rate_off": float(f"{run.rate_hz / true_hz - 1:.1e}"),
        "took_s": round(took, 1),
    }
