"""``ublet bench``: speed beside plain references in the same run, and the accuracy of the trials."""

from __future__ import annotations

import contextlib
import fcntl
import os
import pty
import select
import signal
import statistics
import struct
import subprocess
import sys
import tempfile
import termios
import time
from pathlib import Path
from typing import Any

BARE_APP = """
from textual.app import App
from textual.widgets import Label
class Bare(App):
    BINDINGS = [("down", "say('lower-word')", ""), ("up", "say('upper-word')", "")]
    def compose(self):
        yield Label("ready-to-use")
    def action_say(self, word):
        self.query_one(Label).update(word)
Bare().run()
"""


class Terminal:
    """A program on a pseudo-terminal of 160 x 47, with the time at which things appear."""

    def __init__(self, command: list[str]) -> None:
        self.began = time.perf_counter()
        self.pid, self.end = pty.fork()
        if self.pid == 0:
            os.environ.update(TERM="xterm-256color", COLORTERM="truecolor")
            os.execvp(command[0], command)
        fcntl.ioctl(self.end, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 1280, 800))
        self.seen = b""

    def wait_for(self, text: str, timeout: float = 60.0) -> float:
        """Seconds since the start until the text was painted.

        Raises:
            TimeoutError: it never was.
        """
        wanted = text.encode()
        while wanted not in self.seen:
            if time.perf_counter() - self.began > timeout:
                raise TimeoutError(f"{text!r} was not painted in {timeout:.0f} s")
            self.read(0.05)
        return time.perf_counter() - self.began

    def read(self, timeout: float) -> bytes:
        """What was painted within a time, or nothing."""
        if not select.select([self.end], [], [], timeout)[0]:
            return b""
        with contextlib.suppress(OSError):
            data = os.read(self.end, 1 << 16)
            self.seen = (self.seen + data)[-400_000:]
            return data
        return b""

    def key_to_paint(self, key: bytes, text: bytes, timeout: float = 3.0) -> float:
        """Seconds from a key until a frame that contains the text."""
        while self.read(0.0):
            pass
        began, got = time.perf_counter(), b""
        os.write(self.end, key)
        while text not in got:
            if time.perf_counter() - began > timeout:
                raise TimeoutError(f"no paint of {text!r} after {key!r}")
            got += self.read(0.01)
        return time.perf_counter() - began

    def cpu_s(self) -> float:
        """Processor seconds that the program has used."""
        fields = Path(f"/proc/{self.pid}/stat").read_text(encoding="utf-8").rsplit(")", 1)[1].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

    def close(self) -> None:
        """End the program."""
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGTERM)
        deadline = time.perf_counter() + 3
        while time.perf_counter() < deadline:
            self.read(0.05)
            if os.waitpid(self.pid, os.WNOHANG)[0]:
                break
        else:
            os.kill(self.pid, signal.SIGKILL)
            os.waitpid(self.pid, 0)
        os.close(self.end)


def measure(quick: bool) -> dict[str, Any]:
    """Every figure, with the limit that the project sets itself."""
    from ublet.session.library import DEMOS

    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        folder = Path(name)
        return {
            "start": first_screen(folder, 3 if quick else 7),
            "interface": interface(folder / "app", 40 if quick else 150, 8.0 if quick else 20.0),
            "trials": {kind: trial_figures(stem) for kind, stem in DEMOS.items()},
            "fit": fit_speed(5 if quick else 15),
        }


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
            terminal = Terminal(command)
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
        "limit_ratio": 1.6,
        "runs": runs,
    }


def interface(folder: Path, keys: int, idle_s: float) -> dict[str, Any]:
    """Key to painted frame while a trial runs and state streams; processor share of the idle app.

    Each key is also given to a bare Textual app that changes one label, at the same moment.
    """
    bare = Terminal([sys.executable, "-c", BARE_APP])
    terminal = Terminal([sys.executable, "-m", "ublet", "demo", "--dir", str(folder), "--speed", "1"])
    try:
        bare.wait_for("ready-to-use")
        terminal.wait_for("no errors")
        for key in (b"\x1b[6~",) * 3 + (b"\x1b[B",):  # page down to the leg Heat, down to hotend control
            os.write(terminal.end, key)
            time.sleep(0.3)
        terminal.wait_for("from room")
        time.sleep(4)
        before, began = terminal.cpu_s(), time.perf_counter()
        while time.perf_counter() - began < idle_s:
            terminal.read(0.1)
        idle = (terminal.cpu_s() - before) / (time.perf_counter() - began)
        os.write(terminal.end, b"\r")
        time.sleep(0.5)
        os.write(terminal.end, b"\r")
        terminal.wait_for("climbing")
        os.write(terminal.end, b"\t")  # to the route, whose cursor moves
        time.sleep(0.5)
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
        return {
            "key_to_paint_ms": _spread(ours),
            "bare_textual_key_to_paint_ms": _spread(plain),
            "limit_p95_ms": 50,
            "keys": keys,
            "longest_stall_of_a_sleeping_process_ms": round(1000 * _longest_stall(3.0), 1),
            "idle_share_of_a_core": round(idle, 4),
            "limit_idle_share": 0.05,
        }
    finally:
        terminal.close()
        bare.close()


def _spread(values: list[float]) -> dict[str, float]:
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


def trial_figures(stem: str) -> dict[str, Any]:
    """The headless hotend trial with keep, verify and save, as a process of its own."""
    import json

    from ublet.session.library import scenario_path

    command = [sys.executable, "-m", "ublet", "run", "hotend-control", "--scenario", str(scenario_path(stem))]
    walls, report = [], {}
    for _ in range(3):
        began = time.perf_counter()
        done = subprocess.run([*command, "--keep", "--save", "--json"], capture_output=True, text=True, check=False)
        walls.append(time.perf_counter() - began)
        report = json.loads(done.stdout)
    machine_s = report["duration_s"] + report["verify"]["duration_s"]
    found = {finding["name"]: finding["value"] for finding in report["verify"]["findings"]}
    wall = statistics.median(walls)
    model = {finding["name"]: finding["value"] for finding in report["findings"]}
    return {
        "outcome": report["outcome"],
        "machine_s": machine_s,
        "wall_s_with_start_up": round(wall, 2),
        "times_real": round(machine_s / wall),
        "limit_times_real": 200,
        "overshoot_c": round(found["overshoot"], 3),
        "predicted_overshoot_c": round(found["predicted_overshoot"], 3),
        "difference_c": round(found["overshoot_against_prediction"], 3),
        "limits_c": {"overshoot": 2.0, "ripple": 0.5, "difference": 1.0},
        "ripple_c": round(found["ripple"], 3),
        "gain_error": round(model["gain"] / report["truth"]["gain"] - 1, 4),
        "time_constant_error": round(model["time_constant"] / report["truth"]["time_constant"] - 1, 4),
    }


def fit_speed(runs: int) -> dict[str, Any]:
    """Our least squares beside scipy's on the same record, when scipy is installed (development only)."""
    import numpy as np

    from ublet.core.heat.model import HeaterModel, respond
    from ublet.core.least_squares import minimise

    truth = np.log([540.0, 205.0, 1.6, 2.0])
    time_s = np.arange(2500, dtype=np.float64) * 0.1
    duty = np.where(time_s < 90, 1.0, (np.sin(time_s * 0.4) > 0.2) * 0.7)

    def response(logs: Any) -> Any:
        gain, lag, dead, second = np.exp(logs).tolist()
        return respond(HeaterModel(gain, lag, dead, 23.0, second), time_s, duty, 23.0)

    seen = response(truth) + 0.06 * np.random.default_rng(1).standard_normal(len(time_s))
    start, low, high = truth + 0.3, truth - 3, truth + 3
    ours, plain = [], []
    try:
        from scipy.optimize import least_squares
    except ImportError:
        least_squares = None
    for _ in range(runs):
        began = time.perf_counter()
        minimise(lambda x: response(x) - seen, start, low, high)
        ours.append(time.perf_counter() - began)
        if least_squares is not None:
            began = time.perf_counter()
            least_squares(lambda x: response(x) - seen, start, bounds=(low, high))
            plain.append(time.perf_counter() - began)
    figures: dict[str, Any] = {"ours_s": round(statistics.median(ours), 4), "samples": len(time_s)}
    if plain:
        ratios = [a / b for a, b in zip(ours, plain, strict=True)]
        figures.update(scipy_s=round(statistics.median(plain), 4), ratio=round(statistics.median(ratios), 3))
    return figures
