"""Every figure of ``ublet bench``, one after the other."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import Any

from ublet.benchmark.beds import beds, without_probe
from ublet.benchmark.coils import coils
from ublet.benchmark.coverage import coverage
from ublet.benchmark.declare import check_time, editor_keys, upload_share
from ublet.benchmark.diagonals import diagonals
from ublet.benchmark.extruders import extruders
from ublet.benchmark.frames import frames
from ublet.benchmark.halting import halt_from_key, halt_in_phases
from ublet.benchmark.holds import holds
from ublet.benchmark.hours import false_trips
from ublet.benchmark.interface import first_screen, interface
from ublet.benchmark.layers import layers
from ublet.benchmark.meshes import meshes
from ublet.benchmark.owners import owners
from ublet.benchmark.plants import analysing, plant_figures, soak_figures
from ublet.benchmark.record import flood, ledger_at_size
from ublet.benchmark.shaking import shaking
from ublet.benchmark.stops import stops
from ublet.benchmark.streaming import streams
from ublet.benchmark.sweeps import slide_keys, sweeps
from ublet.benchmark.trials import fit_speed, trial_figures
from ublet.benchmark.whole_route import whole_route


def measure(quick: bool) -> dict[str, Any]:
    """Every figure, with the limit that the project sets itself."""
    from ublet.session.library import DEMOS

    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # a user's commands are compiled once, too
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        folder = Path(name)
        return {
            "start": first_screen(folder, 3 if quick else 7),
            "check": check_time(5 if quick else 15),
            "editor": editor_keys(folder, 40 if quick else 150),
            "upload": upload_share(1 if quick else 3),
            "interface": interface(folder / "app", 40 if quick else 150, 8.0 if quick else 20.0),
            "halt": halt_from_key(folder / "halt", 20 if quick else 200),
            "halt_in_phases": halt_in_phases(folder / "phases", 24 if quick else 200),
            "holds": holds(),
            "trials": {kind: trial_figures(stem) for kind, stem in DEMOS.items()},
            "fit": fit_speed(5 if quick else 15),
            "plants": {part: plant_figures(part, 2 if quick else 10) for part in ("hotend", "bed")},
            "soak": soak_figures(2 if quick else 10),
            "analyse_heat": analysing(3 if quick else 9),
            "ledger": ledger_at_size(folder / "ledger", 100_000, 5 if quick else 15),
            "flood": flood(folder / "ledger", 1 if quick else 5),
            "route": whole_route(1 if quick else 5),
            "coverage": coverage(2 if quick else 24),
            "diagonals": diagonals(4 if quick else 50),
            "extruders": extruders(8 if quick else 50),
            "owners": owners(3, 2) if quick else owners(30, 12),
            "beds": beds(2 if quick else 50),
            "without_probe": without_probe(2 if quick else 50),
            "coils": coils(1 if quick else 50),
            "layers": layers(1 if quick else 50),
            "meshes": meshes(4 if quick else 50, folder / "meshes", 40 if quick else 150),
            "shaking": shaking(6 if quick else 100, 3 if quick else 9),
            "frames": frames(2 if quick else 50),
            "stops": stops(2 if quick else 50),
            "sweeps": sweeps(1 if quick else 10),
            "slide": slide_keys(folder / "slide", 40 if quick else 150),
            "streams": streams(20.0 if quick else 120.0),
            "guards": false_trips(10 if quick else 100),
        }
