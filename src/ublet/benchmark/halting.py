"""HALT from the key: how long until the board is halted while an axis moves."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path
from typing import Any

from ublet.benchmark.interface import spread
from ublet.benchmark.terminal import PseudoTerminal
from ublet.session.hands import DemoHands

F8, RIGHT, LEFT, DOWN, PAGE_DOWN = b"\x1b[19~", b"\x1b[C", b"\x1b[D", b"\x1b[B", b"\x1b[6~"
MOVING_MM = 0.05
PATIENCE_S = 3.0


def halt_from_key(folder: Path, tries: int) -> dict[str, Any]:
    """F8 in the real app on a pseudo-terminal, while an axis is jogged on a board in a process of its own.

    The board's state is looked at beside the link, through the demonstration's hands, so that the app's own news of it
    takes no part. Tries in which nothing was moving when the key was pressed are not counted.
    """
    from ublet.session.demo import world_path

    folder.mkdir(parents=True, exist_ok=True)
    command = ["demo", "--machine", "wren", "--dir", str(folder), "--speed", "1"]
    terminal = PseudoTerminal([sys.executable, "-m", "ublet", *command])
    try:
        terminal.wait_for("no errors")
        hands = DemoHands(world_path(folder))
        for key in (PAGE_DOWN, PAGE_DOWN, DOWN, DOWN):
            os.write(terminal.end, key)
            terminal.rest(0.3)
        terminal.wait_for("from above")
        os.write(terminal.end, b"\r")
        terminal.rest(1.0)
        times: list[float] = []
        for number in range(2 * tries):
            if len(times) == tries:
                break
            os.write(terminal.end, (RIGHT, LEFT)[number % 2])
            if _moves(terminal, hands):
                times.append(_halted_after(terminal, hands))
            _release(terminal, hands)
        return {
            "key_to_halted_ms": spread(times),
            "longest_ms": round(1000 * max(times), 1),
            "limit_ms": 50,
            "tries": len(times),
        }
    finally:
        terminal.close()


def _moves(terminal: PseudoTerminal, hands: DemoHands) -> bool:
    """Wait until the carriage is seen to move."""
    start, until = dict(hands.look().nozzle_mm), time.perf_counter() + 1.0
    while time.perf_counter() < until:
        terminal.read(0.005)
        now = hands.look().nozzle_mm
        if any(abs(now[axis] - start[axis]) > MOVING_MM for axis in now):
            return True
    return False


def _halted_after(terminal: PseudoTerminal, hands: DemoHands) -> float:
    began = time.perf_counter()
    os.write(terminal.end, F8)
    while hands.look().mode != "halted":
        terminal.read(0.0)
        if time.perf_counter() - began > PATIENCE_S:
            raise TimeoutError("F8 did not halt the board")
    return time.perf_counter() - began


def _release(terminal: PseudoTerminal, hands: DemoHands) -> None:
    until = time.perf_counter() + PATIENCE_S
    terminal.rest(0.15)
    while hands.look().mode == "halted" and time.perf_counter() < until:
        os.write(terminal.end, b"r")
        terminal.rest(0.2)


PHASES: dict[str, tuple[tuple[str, dict[str, Any]], ...]] = {
    "heating": (("heat.target", {"heater": "hotend", "celsius": 200}),),
    "homing": (("axis.home", {"axis": "x"}),),
    "one motor": (("motor.turn", {"motor": "x.motors.a", "mm": 15, "speed_mm_s": 5}),),
    "queue": (
        (
            "motion.add",
            {
                "program": "queue",
                "at": 0,
                "segments": [{"lift": {"axes.x.motors.a": 1.0 if n % 2 else -1.0}, "mm_s": 5} for n in range(100)],
                "last": True,
            },
        ),
    ),
    "resting": (
        ("motion.add", {"program": "rest", "at": 0, "segments": [{"rest_s": 60}], "last": True}),
        ("heat.target", {"heater": "hotend", "celsius": 60}),
    ),
    "held": (
        (
            "motion.add",
            {"program": "held", "at": 0, "segments": [{"lift": {"axes.x.motors.a": 9}, "mm_s": 2}], "last": True},
        ),
        ("motion.hold", {}),
    ),
    "probing": (
        ("axis.home", {"axis": "x"}),
        ("axis.home", {"axis": "y"}),
        ("axis.home", {"axis": "z"}),
        (
            "motion.add",
            {
                "program": "probe",
                "at": 0,
                "segments": [{"to": {"z": 20}, "mm_s": 20}, {"touch": {"z": 0}, "mm_s": 0.5}],
                "last": True,
            },
        ),
    ),
    "streaming": (
        ("stream.open", {"stream": "accelerometer", "rate_hz": 1600}),
        ("stream.credit", {"upto": 100_000}),
        ("heat.target", {"heater": "hotend", "celsius": 60}),
    ),
}
"""What goes on when it is halted, by the requests that begin it."""

CLOCK = 5
"""The board's clock runs so many times as fast, so that homing before a touch does not take the day."""


def halt_in_phases(folder: Path, tries: int) -> dict[str, Any]:
    """The halt byte over a pseudo-terminal to a board in a process of its own, in every phase of its work.

    The board's state is looked at beside the link, through the demonstration's hands. ``tries`` are shared evenly.
    """
    import asyncio
    import json
    import subprocess

    from ublet.benchmark.diagonals import corexy
    from ublet.link.client import Client
    from ublet.link.transport import open_transport

    folder.mkdir(parents=True, exist_ok=True)
    world, scenario = folder / "world", corexy(folder, 1)
    command = [sys.executable, "-m", "ublet", "board", "--scenario", str(scenario), "--world", str(world)]
    board = subprocess.Popen([*command, "--speed", str(CLOCK)], stdout=subprocess.PIPE, text=True)
    assert board.stdout is not None
    port = json.loads(board.stdout.readline())["port"]
    times: dict[str, list[float]] = {phase: [] for phase in PHASES}

    async def begin(client: Client, ended: asyncio.Queue[int], requests: Any) -> int:
        """Do what begins a phase, waiting for homings; returns the stream that is open, 0 for none."""
        stream = 0
        for number, (method, params) in enumerate(requests):
            reply = await client.call(method, {**params, "number": stream} if method == "stream.credit" else params)
            stream = reply.get("number", stream)
            if method == "axis.home" and number < len(requests) - 1:
                while await ended.get() != reply["motion"]:
                    pass
        return stream

    async def work() -> None:
        client, ended = Client(await open_transport(port, 250_000)), asyncio.Queue[int]()
        client.on_event = lambda event: ended.put_nowait(event.motion) if event.what == "ended" else None
        await client.hello()
        hands = DemoHands(world)
        for _ in range(max(1, tries // len(PHASES))):
            for phase, requests in PHASES.items():
                stream = await begin(client, ended, requests)
                await asyncio.sleep(1.0 if phase == "probing" else 0.35)
                began = time.perf_counter()
                client.halt()
                while hands.look().mode != "halted":
                    await asyncio.sleep(0)
                    if time.perf_counter() - began > PATIENCE_S:
                        raise TimeoutError(f"not halted while {phase}")
                times[phase].append(time.perf_counter() - began)
                await client.call("release")
                if stream:
                    await client.call("stream.close", {"number": stream})
        client.close()

    try:
        asyncio.run(work())
    finally:
        board.kill()
        board.wait()
    every = [moment for phase in times.values() for moment in phase]
    return {
        "byte_to_halted_ms": spread(every),
        "longest_ms": round(1000 * max(every), 1),
        "longest_by_phase_ms": {phase: round(1000 * max(time), 1) for phase, time in times.items()},
        "limit_median_ms": 10,
        "limit_ms": 50,
        "tries": len(every),
    }
