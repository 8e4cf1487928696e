"""Prints of one's own: how fast a large text is read, checked and drawn, beside a plain loop over its lines; and how
fast lines are served to a board.
"""

from __future__ import annotations

import asyncio
import math
import random
import resource
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

TEXT_BYTES = 20_000_000
READ_LIMIT_S, MEMORY_LIMIT_MB = 10.0, 600.0
SERVED_HZ, SERVED_S = 500.0, 10.0
LINES_A_SECOND: dict[str, int] = {
    "no limit of the line": 0,
    "a line of 1 000 000 bd": 1_000_000,
    "of 250 000 bd": 250_000,
}

PLAIN = """
import sys
for line in open(sys.argv[1], "rb"):
    words = line.split(b";")[0].split()
    [float(word[1:]) for word in words]
"""
"""The reference: every line split into words, and every number read."""


def prints(folder: Path, repeats: int) -> dict[str, Any]:
    """A text of 20 MB read, checked and drawn; and moves served for ten seconds."""
    folder.mkdir(parents=True, exist_ok=True)
    text = folder / "large.gcode"
    text.write_text(made_text(TEXT_BYTES), encoding="ascii")
    read = [_timed([sys.executable, "-m", "ublet.benchmark.prints", str(text)]) for _ in range(repeats)]
    plain = [_timed([sys.executable, "-c", PLAIN, str(text)]) for _ in range(repeats)]
    seconds = sorted(read)[repeats // 2]
    megabytes = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1000
    served = {name: served_at(SERVED_HZ, baud) for name, baud in LINES_A_SECOND.items()}
    short = [
        *([f"{seconds:.1f} s to read {TEXT_BYTES / 1e6:g} MB"] if seconds > READ_LIMIT_S else []),
        *([f"{megabytes:.0f} MB of memory"] if megabytes > MEMORY_LIMIT_MB else []),
        *([f"{served['no limit of the line']['gaps']} gaps"] if served["no limit of the line"]["gaps"] else []),
    ]
    return {
        "text_mb": TEXT_BYTES / 1e6,
        "read_checked_drawn_s": round(seconds, 2),
        "limit_s": READ_LIMIT_S,
        "plain_loop_s": round(sorted(plain)[repeats // 2], 2),
        "memory_mb": round(megabytes),
        "served": served,
        "fell_short": short,
    }


def made_text(size: int) -> str:
    """A made-up print of so many bytes: rings of short lines, layer on layer."""
    rng, z, parts, filament, length = random.Random(2), 0.2, ["G21", "G90", "G92 E0"], 0.0, 20
    while length < size:
        layer = [f"; layer\nG1 Z{z:.2f} F600"]
        for _ in range(40):
            x0, y0 = rng.uniform(40, 200), rng.uniform(40, 200)
            layer.append(f"G0 X{x0:.3f} Y{y0:.3f} F9000")
            for step in range(60):
                angle = step / 60 * 2 * math.pi
                filament += 0.0277
                x, y = x0 + 8 * math.cos(angle) - 8, y0 + 8 * math.sin(angle)
                layer.append(f"G1 X{x:.3f} Y{y:.3f} E{filament:.5f} F3000")
        z = round(z + 0.2, 2) if z < 280 else 0.2
        parts.append("\n".join(layer))
        length += len(parts[-1]) + 1
    return "\n".join(parts)


def _timed(command: list[str]) -> float:
    began = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    return time.perf_counter() - began


def read_and_draw(file: Path) -> int:
    """What the app does with a text: read, check, time, draw a layer; returns how many layers it has."""
    from ublet.session.document import Document
    from ublet.session.library import machine_path
    from ublet.session.printing import plan_for_file
    from ublet.tui.extrude.print_picture import print_picture

    document = Document(machine_path("tern-280"))
    plan = plan_for_file(file, document.machine, document.board.steps_per_s)
    print_picture(plan, 0, (280.0, 260.0), {}, None, 120, 36)
    return len(plan.layers)


def served_at(segments_hz: float, baud: int) -> dict[str, Any]:
    """Moves that take as long as so many a second do, served over a line of a speed (0: no limit), on a virtual clock.
    gaps: how often the board's queue ran dry.
    """
    from ublet.firmware.clock import run_virtually

    return run_virtually(_served(segments_hz, baud))


async def _served(segments_hz: float, baud: int) -> dict[str, Any]:
    import tempfile

    from ublet.core.motion.program import Program, To
    from ublet.firmware.clock import keep_time
    from ublet.link.transport import MemoryTransport, memory_pair
    from ublet.session.document import Document
    from ublet.session.library import machine_path, scenario_path
    from ublet.session.programs import ProgramRun, planned
    from ublet.session.session import Session
    from ublet.simulated import SimulatedMachine
    from ublet.world.scenario import load_scenario

    loop = asyncio.get_running_loop()
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "wren-180.toml"
        file.write_bytes(machine_path("wren-180").read_bytes())
        declared = load_scenario(scenario_path("wren-180"))
        scenario = declared.model_copy(update={"link": declared.link.model_copy(update={"baud": baud})})
        machine = SimulatedMachine(scenario, Document(file).machine, loop.time)
        clock = loop.create_task(keep_time(machine.service, 1.0))

        async def opened() -> MemoryTransport:
            ours, theirs = memory_pair()
            theirs.received, machine.service.send = machine.service.received, theirs.write
            return ours

        session = Session(file, opened, threaded=False)
        await session.connection.connect()
        await session.connection.first_readings()
        for axis in ("x", "y", "z"):
            await session.connection.controller.home(axis)
            while session.connection.channel("motion.moving") or session.connection.channel(f"axes.{axis}.mm") is None:
                await session.connection.next_samples()
        speed, radius = 60.0, 30.0
        angle = speed / segments_hz / radius
        count = round(segments_hz * SERVED_S)
        places = [(90 + radius * math.cos(n * angle), 80 + radius * math.sin(n * angle)) for n in range(count + 1)]
        moves = [
            To({"x": round(x, 3), "y": round(y, 3)}, speed, 0.0, "round" if not n else "")
            for n, (x, y) in enumerate(places)
        ]
        lead = [To({"z": 20.0}, 10.0), To({"x": places[0][0], "y": places[0][1]}, 60.0)]
        table = planned(session.connection, Program("rounds", (*lead, *moves)), 0.0)
        run = ProgramRun(session.connection, table)
        await run.run()
        took = run.ended[1] - (run.begun_s or 0.0) if run.ended is not None else math.nan
        await session.close()
        clock.cancel()
    return {
        "segments_a_second": round(count / table.seconds_from("round"), 1),
        "gaps": run.going.starved,
        "late_s": round(took - table.seconds_from("round"), 2),
    }


if __name__ == "__main__":
    read_and_draw(Path(sys.argv[1]))
