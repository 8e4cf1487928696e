"""HALT from the key: how long until the board is halted while an axis moves."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path
from typing import Any

from ublet.benchmark.interface import spread
from ublet.benchmark.terminal import Terminal

F8, RIGHT, LEFT, DOWN, PAGE_DOWN = b"\x1b[19~", b"\x1b[C", b"\x1b[D", b"\x1b[B", b"\x1b[6~"
MOVING_MM = 0.05
PATIENCE_S = 3.0


def halt_from_key(folder: Path, tries: int) -> dict[str, Any]:
    """F8 in the real app on a pseudo-terminal, while an axis is jogged on a board in a process of its own.

    The board's state is looked at beside the link, through the demonstration's hands, so that the app's own news of it
    takes no part. Tries in which nothing was moving when the key was pressed are not counted.
    """
    from ublet.session.demo import world_path
    from ublet.session.hands import DemoHands

    folder.mkdir(parents=True, exist_ok=True)
    command = ["demo", "--machine", "wren", "--dir", str(folder), "--speed", "1"]
    terminal = Terminal([sys.executable, "-m", "ublet", *command])
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


def _moves(terminal: Terminal, hands: Any) -> bool:
    """Wait until the carriage is seen to move."""
    start, until = dict(hands.look().nozzle), time.perf_counter() + 1.0
    while time.perf_counter() < until:
        terminal.read(0.005)
        now = hands.look().nozzle
        if any(abs(now[axis] - start[axis]) > MOVING_MM for axis in now):
            return True
    return False


def _halted_after(terminal: Terminal, hands: Any) -> float:
    began = time.perf_counter()
    os.write(terminal.end, F8)
    while hands.look().mode != "halted":
        terminal.read(0.0)
        if time.perf_counter() - began > PATIENCE_S:
            raise TimeoutError("F8 did not halt the board")
    return time.perf_counter() - began


def _release(terminal: Terminal, hands: Any) -> None:
    until = time.perf_counter() + PATIENCE_S
    terminal.rest(0.15)
    while hands.look().mode == "halted" and time.perf_counter() < until:
        os.write(terminal.end, b"r")
        terminal.rest(0.2)
