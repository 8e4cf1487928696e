"""Speed of the interface: first screen, key to paint, idle."""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from ublet.benchmark.terminal import BARE_APP, PseudoTerminal


def first_screen(folder: Path, runs: int) -> dict[str, Any]:
    """First usable screen (the route is painted and takes keys) beside a bare Textual app with one label."""
    from ublet.session.library import machine_path

    machine = folder / "tern.toml"
    machine.write_text(machine_path("tern-280").read_text(encoding="utf-8"), encoding="utf-8")
    ours, bare = [], []
    for run in range(runs + 1):
        pair = []
        for command, text in (
            ([sys.executable, "-m", "ublet", "open", str(machine), "--port", str(folder / "none")], "hotend control"),
            ([sys.executable, "-c", BARE_APP], "ready-to-use"),
        ):
            terminal = PseudoTerminal(command)
            pair.append(terminal.wait_for(text))
            terminal.close()
        if run:  # the first pair warms the disk cache
            ours.append(pair[0])
            bare.append(pair[1])
    ratios = [a / b for a, b in zip(ours, bare, strict=True)]
    return {
        "ours_s": round(statistics.median(ours), 3),
        "bare_textual_s": round(statistics.median(bare), 3),
        "ratio": round(statistics.median(ratios), 3),
        "limit_ratio": 1.3,
        "runs": runs,
    }


def interface(folder: Path, keys: int, idle_s: float) -> dict[str, Any]:
    """Key to painted frame while a trial runs and state streams; processor share of the idle app.

    Each key is also given to a bare Textual app that changes one label, at the same moment.
    """
    bare = PseudoTerminal([sys.executable, "-c", BARE_APP])
    terminal = PseudoTerminal([sys.executable, "-m", "ublet", "demo", "--dir", str(folder), "--speed", "1"])
    try:
        bare.wait_for("ready-to-use")
        terminal.wait_for("no errors")
        for key in (b"\x1b[6~",) * 3 + (b"\x1b[B",):  # page down to the leg Heat, down to hotend control
            os.write(terminal.end, key)
            time.sleep(0.3)
        terminal.wait_for("from room")
        time.sleep(4)
        idle = _idle(terminal, idle_s)
        os.write(terminal.end, b"\r")
        time.sleep(0.5)
        os.write(terminal.end, b"b")  # anyway: nothing that it stands on was done in this demonstration
        terminal.wait_for("heating up")
        os.write(terminal.end, b"\t")  # to the route, whose cursor moves
        time.sleep(0.5)
        ours, plain = _keys(terminal, bare, keys)
        stall_ms = round(1000 * _longest_stall(3.0), 1)
        return {**_figures(ours, plain, idle), "longest_stall_of_a_sleeping_process_ms": stall_ms}
    finally:
        terminal.close()
        bare.close()


def beside_dialect(folder: Path, keys: int, idle_s: float) -> dict[str, Any]:
    """The same of an app whose board is asked for its readings, line by line, in plain words."""
    from ublet.session.library import machine_path, scenario_path

    folder.mkdir(parents=True, exist_ok=True)
    machine = folder / "wren.toml"
    machine.write_text(machine_path("wren-180").read_text(encoding="utf-8"), encoding="utf-8")
    ublet = [sys.executable, "-m", "ublet"]
    words = ["board", "--scenario", str(scenario_path("wren-180")), "--dialect", "moss", "--listen", "tcp:localhost:0"]
    board = subprocess.Popen([*ublet, *words], stdout=subprocess.PIPE, text=True)
    assert board.stdout is not None
    port = json.loads(board.stdout.readline())["port"]
    bare = PseudoTerminal([sys.executable, "-c", BARE_APP])
    terminal = PseudoTerminal([*ublet, "open", str(machine), "--port", port, "--dialect", "moss"])
    try:
        bare.wait_for("ready-to-use")
        terminal.wait_for("alder-4")
        for key in (b"\x1b[6~",) * 3 + (b"\x1b[B",):
            os.write(terminal.end, key)
            terminal.rest(0.3)
        terminal.rest(4)
        idle = _idle(terminal, idle_s)
        ours, plain = _keys(terminal, bare, keys)
        return _figures(ours, plain, idle)
    finally:
        terminal.close()
        bare.close()
        board.terminate()
        board.wait(10)


def _figures(ours: list[float], plain: list[float], idle: float) -> dict[str, Any]:
    """What was measured beside a bare app, with its limits."""
    return {
        "key_to_paint_ms": spread(ours),
        "bare_textual_key_to_paint_ms": spread(plain),
        "limit_p95_ms": 30,
        "keys": len(ours),
        "idle_share_of_a_core": round(idle, 4),
        "limit_idle_share": 0.03,
    }


def _idle(terminal: PseudoTerminal, seconds: float) -> float:
    """The share of a core that a program takes while nothing is asked of it."""
    before, began = terminal.cpu_s(), time.perf_counter()
    while time.perf_counter() - began < seconds:
        terminal.read(0.1)
    return (terminal.cpu_s() - before) / (time.perf_counter() - began)


def _keys(terminal: PseudoTerminal, bare: PseudoTerminal, keys: int) -> tuple[list[float], list[float]]:
    """Times from a key to its frame, s: of the route's cursor, and of a bare app at the same moments."""
    ours, plain = [], []
    for number in range(keys):
        key, our_text, bare_text = (
            (b"\x1b[B", b"bed control", b"lower-word"),
            (b"\x1b[A", b"hotend control", b"upper-word"),
        )[number % 2]
        ours.append(terminal.key_to_paint(key, our_text))
        plain.append(bare.key_to_paint(key, bare_text))
        began = time.perf_counter()
        while time.perf_counter() - began < 0.06:
            terminal.read(0.02)
    return ours, plain


def spread(values: list[float]) -> dict[str, float]:
    """Median and high percentiles in ms of times in s."""
    ranked = sorted(values)
    return {
        "p50": round(1000 * statistics.median(ranked), 1),
        "p90": round(1000 * ranked[int(0.90 * len(ranked))], 1),
        "p95": round(1000 * ranked[int(0.95 * len(ranked))], 1),
    }


def _longest_stall(seconds: float) -> float:
    """How much later than asked for a sleep of 10 ms ends at the worst: what the machine itself adds."""
    worst, end = 0.0, time.perf_counter() + seconds
    while time.perf_counter() < end:
        began = time.perf_counter()
        time.sleep(0.01)
        worst = max(worst, time.perf_counter() - began - 0.01)
    return worst
