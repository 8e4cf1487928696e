"""Speed of declaring: the check beside a bare interpreter, a keystroke in the editor, the upload beside the line."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from ublet.benchmark.interface import spread
from ublet.benchmark.terminal import BARE_APP, PseudoTerminal

UPLOAD_BYTES = 256 * 1024
BAUD = 250_000
SETTINGS = 400


ONE_MODEL = """
from pydantic import BaseModel
class Model(BaseModel):
    x: int
Model(x=1)
"""


PLAIN = "import gc, ublet.entry as entry; gc.disable = lambda: None; entry.Over = SystemExit; entry.main()"
"""The check with the garbage collector on, and the interpreter's own end."""

COMMAND_LINE = "from ublet.cli import app; app()"
"""The check as any other command runs, after the command line's imports."""


def check_time(runs: int) -> dict[str, Any]:
    """`ublet check` of a full machine file, beside an interpreter that does nothing, one that imports pydantic, and one
    that makes one model of one field by it: pydantic loads half of itself only then.
    """
    from ublet.session.library import machine_path

    python = sys.executable
    commands = {
        "ours": [python, "-m", "ublet", "check", str(machine_path("tern-280"))],
        "plain": [python, "-c", PLAIN, "check", str(machine_path("tern-280"))],
        "by_the_command_line": [python, "-c", COMMAND_LINE, "check", str(machine_path("tern-280"))],
        "bare": [python, "-c", "pass"],
        "pydantic": [python, "-c", "from pydantic import BaseModel"],
        "in_use": [python, "-c", ONE_MODEL],
    }
    walls: dict[str, list[float]] = {name: [] for name in commands}
    for run in range(runs + 1):
        for name, command in commands.items():
            began = time.perf_counter()
            subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
            if run:
                walls[name].append(time.perf_counter() - began)
    middle = {name: statistics.median(wall) for name, wall in walls.items()}
    beyond = {name: [a - b for a, b in zip(walls[name], walls["bare"], strict=True)] for name in commands}

    def times(plain: str) -> float:
        ratios = [a / b for a, b in zip(beyond["ours"], beyond[plain], strict=True)]
        return round(statistics.median(ratios), 2)

    return {
        "beyond_the_interpreter_s": round(statistics.median(beyond["ours"]), 3),
        "least_s": round(min(beyond["ours"]), 3),
        "interpreter_s": round(middle["bare"], 3),
        "without_its_shortcuts_s": round(statistics.median(beyond["plain"]), 3),
        "by_the_command_line_s": round(statistics.median(beyond["by_the_command_line"]), 3),
        "importing_pydantic_s": round(statistics.median(beyond["pydantic"]), 3),
        "one_model_s": round(statistics.median(beyond["in_use"]), 3),
        "times_importing_pydantic": times("pydantic"),
        "times_one_model": times("in_use"),
        "limit_times": 2.0,
        "runs": runs,
    }


def editor_keys(folder: Path, keys: int) -> dict[str, Any]:
    """A typed digit in the editor's field to the frame that echoes it, in a file of 400 settings; a bare app beside."""
    machine = folder / "many.toml"
    machine.write_text(many_settings(), encoding="utf-8")
    bare = PseudoTerminal([sys.executable, "-c", BARE_APP])
    terminal = PseudoTerminal([sys.executable, "-m", "ublet", "open", str(machine), "--port", str(folder / "none")])
    try:
        bare.wait_for("ready-to-use")
        terminal.wait_for("no errors")
        terminal.rest(2.0)
        for words, painted in (
            (b"\r", "enter"),
            (b"/", "Search every"),
            (b"axes.z maximum_feed", "Largest feed rate"),
            (b"\r", "Largest feed rate"),
            (b"\r", "leaves it as it was"),
            (b"1", "= 1"),
        ):
            os.write(terminal.end, words)
            terminal.wait_for(painted)
            terminal.rest(0.8)
        ours, plain = [], []
        for number in range(keys):
            key, echo, bare_key, bare_text = (
                (b"4", b"= 14", b"\x1b[B", b"lower-word"),
                (b"\x7f", b"= 1 ", b"\x1b[A", b"upper-word"),
            )[number % 2]
            ours.append(terminal.key_to_paint(key, echo))
            plain.append(bare.key_to_paint(bare_key, bare_text))
            terminal.rest(0.03)
        return {
            "key_to_paint_ms": spread(ours),
            "bare_textual_key_to_paint_ms": spread(plain),
            "limit_ms": 50,
            "settings": count_settings(machine),
            "keys": keys,
        }
    finally:
        terminal.close()
        bare.close()


def many_settings() -> str:
    """The demonstration's machine file with more screws and materials, until it has 400 settings."""
    from ublet.session.library import machine_path

    text = machine_path("tern-280").read_text(encoding="utf-8")
    for number in range(20):
        text += f"\n[bed.screws.extra-{number}]\nx_mm = {number}\ny_mm = {number}\n"
    return text


def count_settings(machine: Path) -> int:
    """Settings that a machine file gives or that count without."""
    from ublet.session.document import Document

    return len(Document(machine).values)


def upload_fraction(runs: int) -> dict[str, Any]:
    """256 KiB to a board over a line of simulated speed, virtual time: image bytes against the line's raw rate."""
    import asyncio
    import hashlib

    from ublet.core.machine.image import Head, encode_image
    from ublet.firmware.clock import keep_time, run_virtually
    from ublet.link.client import Client
    from ublet.link.transport import memory_pair
    from ublet.link.upload import BITS_A_BYTE, upload
    from ublet.session.document import Document
    from ublet.session.library import machine_path, scenario_path
    from ublet.simulated import SimulatedMachine
    from ublet.world.scenario import parse_scenario

    text = scenario_path("tern-280").read_text(encoding="utf-8")
    scenario = parse_scenario(text.replace("slot_bytes = 262144", "slot_bytes = 400000"))
    machine = Document(machine_path("tern-280")).machine
    body = hashlib.shake_256(b"upload").digest(UPLOAD_BYTES)
    data = encode_image(Head("larch-6", (1, 1, 0), "bench"), {}, {"core": body})[: UPLOAD_BYTES + 4096]

    async def work() -> float:
        loop = asyncio.get_running_loop()
        service = SimulatedMachine(scenario, machine, loop.time).service
        clock = loop.create_task(keep_time(service, 1.0))
        ours, theirs = memory_pair()
        theirs.received, service.send = service.received, theirs.write
        client = Client(ours)
        await client.hello()
        digest = hashlib.sha256(data).hexdigest()
        head = {"size": len(data), "digest": digest, "board": "larch-6", "firmware": "1.1.0"}
        began = loop.time()
        await upload(client, head, data, BAUD, lambda progress: None)
        took = loop.time() - began
        client.close()
        clock.cancel()
        return took

    walls, took = [], 0.0
    for _ in range(runs):
        began = time.perf_counter()
        took = run_virtually(work())
        walls.append(time.perf_counter() - began)
    return {
        "bytes": len(data),
        "line_s": round(took, 2),
        "share_of_raw_rate": round(len(data) * BITS_A_BYTE / BAUD / took, 3),
        "limit_share": 0.8,
        "our_time_s": round(statistics.median(walls), 3),
    }
