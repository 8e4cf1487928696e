"""How fast a sweep on the simulated board goes headless, and whether what it finds, and what is left, is as claimed."""

from __future__ import annotations

import asyncio
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.interface import spread
from ublet.benchmark.terminal import PseudoTerminal
from ublet.benchmark.wired import well_wired
from ublet.core.catalogue import TRIALS
from ublet.core.run import Progress, TrialResult
from ublet.firmware.clock import run_virtually
from ublet.session.demo import prepare
from ublet.session.headless import on_scenario
from ublet.tui.shake.shaper import HZ_STEP

LEG: tuple[tuple[str, dict[str, Any]], ...] = (
    ("resonance", {"hands_off_s": 0.0}),
    ("input-shaper", {}),
    ("shaper-verify", {"hands_off_s": 0.0}),
)


class Stopwatch:
    """Notes when sweeps go on, by the wall's clock and the loop's: what lies between two progresses of a sweep."""

    def __init__(self) -> None:
        self.wall_s = self.machine_s = 0.0
        self._last: tuple[str, float, float] | None = None

    def on_progress(self, progress: Progress) -> None:
        """Note a progress."""
        now = (progress.phase, time.perf_counter(), asyncio.get_running_loop().time())
        if self._last is not None and self._last[0] == now[0] and "sweep" in now[0]:
            self.wall_s += now[1] - self._last[1]
            self.machine_s += now[2] - self._last[2]
        self._last = now


def leg(kind: str, seed: int, kept: Path | None = None) -> tuple[dict[str, TrialResult], Stopwatch]:
    """The leg on one of the shipped machines: swept, shaped, verified. kept: a folder for machine file and ledger."""
    watch = Stopwatch()

    async def work(folder: Path) -> dict[str, TrialResult]:
        machine, scenario = prepare(kind, folder)
        if kind == "tern":
            scenario.write_text(well_wired(scenario.read_text(encoding="utf-8")), encoding="utf-8")
        else:
            text = scenario.read_text(encoding="utf-8")
            scenario.write_text(text.replace('reads_x = "-y"\nreads_y = "x"\n', ""), encoding="utf-8")
        own = (kept or folder) / "own.toml"
        shutil.copyfile(machine, own)
        outcome = {}
        async with on_scenario(scenario, own, seed, watch.on_progress) as (session, looking):
            for name, parameters in LEG:
                spec = TRIALS[name]
                entered = await session.run(spec, spec.parameters(**parameters), looking)
                outcome[name] = entered.ran.result
                if (option := outcome[name].choice) is not None:
                    await session.keep(option, entered.number)
        return outcome

    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        return run_virtually(work(Path(name))), watch


def sweeps(seeds: int) -> dict[str, Any]:
    """Both machines with so many seeds: how many times real time a sweep goes, how often all is proven, and whether
    what is left agrees with what was predicted.
    """
    figures: dict[str, Any] = {}
    for kind in ("tern", "wren"):
        fast, proven, agree, left = [], [], [], []
        for seed in range(1, seeds + 1):
            results, watch = leg(kind, seed)
            fast.append(watch.machine_s / watch.wall_s)
            proven.append(all(result.outcome == "proven" for result in results.values()))
            verified = results.get("shaper-verify")
            for axis in ("x", "y") if verified is not None else ():
                assert verified is not None
                measured, predicted = verified.finding("left", axis=axis), verified.finding("predicted", axis=axis)
                if measured is None or predicted is None:
                    continue
                both = float(np.hypot(measured.uncertainty or 0.0, predicted.uncertainty or 0.0))
                agree.append(abs(measured.value - predicted.value) <= 2 * both)
                left.append(measured.value)
        figures[kind] = {
            "seeds": seeds,
            "times_real_time_median": round(float(np.median(fast)), 1),
            "proven": round(float(np.mean(proven)), 3),
            "verify_agrees": round(float(np.mean(agree)), 3),
            "left_median": round(float(np.median(left)), 4),
        }
    return figures


def slide_keys(folder: Path, keys: int) -> dict[str, Any]:
    """A key that slides a shaper's frequency to the frame that shows it, with all that follows; in the real app."""
    folder.mkdir(parents=True, exist_ok=True)
    results, _ = leg("tern", 1, folder)
    assert results["input-shaper"].outcome == "proven"
    first = next(option for option in results["input-shaper"].options if option.name == "zv")
    hz = next(float(str(p.after)) for p in first.proposals if p.setting == "axes.x.shaper.frequency_hz")
    up = round(hz + HZ_STEP, 1)
    shows = (f"{up:.1f}".encode(), f"{up - HZ_STEP:.1f}".encode())
    machine = folder / "own.toml"
    terminal = PseudoTerminal([sys.executable, "-m", "ublet", "open", str(machine), "--port", str(folder / "none")])
    try:
        terminal.go_to(b"input shaper", "moves that do not", "up to mm/s")
        os.write(terminal.end, b"\x1b[B")  # of the named ones the first
        terminal.rest(1.0)
        taken = []
        for number in range(keys):
            key = (b"\x1b[1;5C", b"\x1b[1;5D")[number % 2]
            taken.append(terminal.key_to_paint(key, shows[number % 2]))
            terminal.rest(0.03)
        return {"key_to_paint_ms": spread(taken), "limit_ms": 50, "keys": keys}
    finally:
        terminal.close()
