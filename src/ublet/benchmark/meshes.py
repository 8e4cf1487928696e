"""Meshes: how near a surface between points is to the bed, what it costs, keys in the app; five touches that
distinguish what has changed.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.beds import made_up
from ublet.benchmark.declare import spread
from ublet.benchmark.layers import on_made_up, smooth
from ublet.benchmark.terminal import PseudoTerminal
from ublet.core.catalogue import TRIALS
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.level.mesh.trials import MeshParameters
from ublet.core.run import TrialResult
from ublet.world.bed_parts import At, Knock

POINTS = 7
FINE = 60
SIDE = 1000
"""A million points."""

MESH_SIDE = 50
KNOCKS: Mapping[str, tuple[At, float]] = {
    "same": ("everywhere", 0.0),
    "shift": ("everywhere", 0.06),
    "tilt": ("left", 0.12),
    "shape": ("middle", 0.09),
}
"""What is done to the bed, mm, and what five touches should then say."""


def meshes(machines: int, folder: Path, keys: int) -> dict[str, Any]:
    """All of it."""
    return {
        "surface": surfaces(machines),
        "million_points": million(5 if machines < 10 else 15),
        "keys": mesh_keys(folder, keys),
        "five_touches": five_touches(max(1, machines // 2)),
    }


def surfaces(machines: int) -> dict[str, Any]:
    """RMS between a bicubic surface through 7 x 7 true heights and the true bed, on beds that are bent; µm."""
    from ublet.session.document import Document
    from ublet.world.scenario import load_scenario
    from ublet.world.world import World

    errors = []
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        for seed in range(machines):
            path = smooth(made_up(Path(name), seed, 3, "pin")[0], seed)
            scenario = load_scenario(path)
            bed = World(scenario, Document(path.parent / scenario.scenario.machine_file).machine, seed).bed
            x, y = np.linspace(30, 250, POINTS), np.linspace(30, 230, POINTS)
            mesh = Mesh(x, y, np.array([[bed.height(a, b) for a in x] for b in y]))
            fx, fy = np.linspace(30, 250, FINE), np.linspace(30, 230, FINE)
            true = np.array([[bed.height(a, b) for a in fx] for b in fy])
            errors.append(1000 * float(np.sqrt(np.mean((mesh.over(fx, fy) - true) ** 2))))
    return {
        "machines": machines,
        "rms_um_median": round(float(np.median(errors)), 3),
        "rms_um_most": round(max(errors), 3),
        "limit_um": 5,
    }


def million(rounds: int) -> dict[str, Any]:
    """A million points of a surface, beside a spline of SciPy on the same grid; s."""
    from scipy.interpolate import RectBivariateSpline

    random = np.random.default_rng(3)
    mesh = Mesh(np.linspace(0, 200, POINTS), np.linspace(0, 200, POINTS), random.normal(0, 0.1, (POINTS, POINTS)))
    at = np.linspace(0, 200, SIDE)
    ours, plain = [], []
    for _ in range(rounds):
        began = time.perf_counter()
        mesh.over(at, at)
        ours.append(time.perf_counter() - began)
        began = time.perf_counter()
        RectBivariateSpline(mesh.y, mesh.x, mesh.heights, kx=3, ky=3)(at, at)
        plain.append(time.perf_counter() - began)
    return {
        "s_median": round(float(np.median(ours)), 4),
        "scipy_s_median": round(float(np.median(plain)), 4),
        "limit_s": 0.1,
    }


def mesh_keys(folder: Path, keys: int) -> dict[str, Any]:
    """A key that moves the cursor in a recorded mesh of 50 x 50 to the frame that shows its row, in the real app."""
    folder.mkdir(exist_ok=True)
    machine = _recorded(folder)
    terminal = PseudoTerminal([sys.executable, "-m", "ublet", "open", str(machine), "--port", str(folder / "none")])
    try:
        terminal.go_to(b"go to bed mesh", "the bed's shape", "section at Y")
        taken = []
        for number in range(keys):
            key, shown = ((b"\x1b[1;5A", b"136"), (b"\x1b[1;5B", b"132"))[number % 2]  # Y of its row, beside the middle
            taken.append(terminal.key_to_paint(key, shown))
            terminal.rest(0.03)
        return {"key_to_paint_ms": spread(taken), "limit_ms": 50, "points": MESH_SIDE**2, "keys": keys}
    finally:
        terminal.close()


def _recorded(folder: Path) -> Path:
    """A machine file with a run of a mesh of 50 x 50 in its ledger."""
    from ublet.ledger.book import Ledger
    from ublet.ledger.entries import Opening
    from ublet.session.library import machine_path

    machine = folder / "tern-280.toml"
    machine.write_text(machine_path("tern-280").read_text(encoding="utf-8"), encoding="utf-8")
    spec = TRIALS["bed-mesh"]
    values = spec.parameters().model_dump()
    book = Ledger(machine.with_suffix(".ledger"), threaded=False)
    opening = Opening("2026-01-02T03:04:05", spec.name, spec.station, values, {}, "", "", {}, (), None, {}, None)
    recorded = book.open_run(opening)
    x, y = np.linspace(34, 246, MESH_SIDE), np.linspace(34, 226, MESH_SIDE)
    heights = 0.1 * np.sin(x / 40)[None, :] * np.cos(y / 50)[:, None]
    rows = [
        (float(c), float(r), float(x[c]), float(y[r]), float(heights[r, c]))
        for r in range(MESH_SIDE)
        for c in range(MESH_SIDE)
    ]
    recorded.rows(spec.stream("meshed"), "meshed", rows)
    recorded.end(TrialResult("proven", "made up"), 1.0, ())
    book.close()
    return machine


def five_touches(machines: int) -> dict[str, Any]:
    """A mesh that is live, the bed then changed: which share of the verdicts is right, by what was changed."""
    right: dict[str, list[bool]] = {change: [] for change in KNOCKS}
    for seed in range(machines):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            scenario = smooth(made_up(Path(name), seed, 3, "pin")[0], seed)
            for change, verdict in _verdicts(scenario, seed).items():
                right[change].append(verdict == change)
    return {"machines": machines, **{change: round(float(np.mean(expected)), 3) for change, expected in right.items()}}


def _verdicts(scenario: Path, seed: int) -> dict[str, str]:
    """What five touches say after each change; the bed is put back after each."""
    random = np.random.default_rng([seed, 5])
    expected: dict[str, str] = {}

    async def work(session: Any, watcher: Any) -> None:
        bed = watcher.simulated.world.bed
        mesh, check = TRIALS["bed-mesh"], TRIALS["mesh-check"]
        run = await session.run(mesh, MeshParameters(columns=POINTS, rows=POINTS), watcher)
        result = run.ran.result
        assert result.choice is not None, result.why
        await session.keep(result.choice, run.number)
        for change in KNOCKS:
            at, mm = KNOCKS[change]
            knock = Knock(after_touches=1, at=at, mm=mm * float(random.choice((-1, 1))))
            bed.knock(knock)
            entered = await session.run(check, check.parameters(), watcher)
            bed.knock(knock.model_copy(update={"mm": -knock.mm}))
            expected[change] = _verdict(entered.ran.result.why)

    on_made_up(scenario, seed, work)
    return expected


def _verdict(why: str) -> str:
    """The verdict that a sentence states."""
    words = {"still holds": "same", "everywhere": "shift", "tilted": "tilt", "another shape": "shape"}
    return next((verdict for word, verdict in words.items() if word in why), why)
