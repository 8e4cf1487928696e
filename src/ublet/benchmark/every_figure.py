"""Every figure of ``ublet bench``, one after the other."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from ublet.benchmark.bad_lines import bad_lines
from ublet.benchmark.beds import beds, without_probe
from ublet.benchmark.coils import coils
from ublet.benchmark.coverage import coverage
from ublet.benchmark.cubes import cubes, skews
from ublet.benchmark.declare import check_time, editor_keys, upload_fraction
from ublet.benchmark.diagonals import diagonals
from ublet.benchmark.dialects import dialects
from ublet.benchmark.extruders import extruders
from ublet.benchmark.faults import faults
from ublet.benchmark.frames import frames
from ublet.benchmark.halting import halt_from_key, halt_in_phases
from ublet.benchmark.holds import holds
from ublet.benchmark.hours import false_trips
from ublet.benchmark.interface import beside_dialect, first_screen, interface
from ublet.benchmark.kills import kills
from ublet.benchmark.layers import layers
from ublet.benchmark.line_layouts import line_layouts
from ublet.benchmark.melts import advances, flows, retractions
from ublet.benchmark.meshes import meshes
from ublet.benchmark.owners import owners
from ublet.benchmark.plants import analysing, plant_figures, soak_figures
from ublet.benchmark.prints import prints
from ublet.benchmark.record import flood, ledger_at_size
from ublet.benchmark.shaking import shaking
from ublet.benchmark.stops import stops
from ublet.benchmark.streaming import streams
from ublet.benchmark.sweeps import slide_keys, sweeps
from ublet.benchmark.times import times_left
from ublet.benchmark.trends import trends
from ublet.benchmark.trials import fit_speed, trial_figures
from ublet.benchmark.whole_route import whole_route
from ublet.core.trouble import Trouble

FELL_SHORT = "fell_short"
"""Where a part says, in sentences, which of its figures fell short of their limits."""


BenchPart = Callable[[Path, bool], Any]
"""A part of the figures, from a folder of its own and whether few repetitions will do."""


def _demos(part: Callable[[str], Any]) -> Any:
    from ublet.session.library import DEMOS

    return {kind: part(stem) for kind, stem in DEMOS.items()}


PARTS: Mapping[str, BenchPart] = {
    "start": lambda folder, quick: first_screen(folder, 3 if quick else 7),
    "check": lambda folder, quick: check_time(5 if quick else 15),
    "editor": lambda folder, quick: editor_keys(folder, 40 if quick else 150),
    "upload": lambda folder, quick: upload_fraction(1 if quick else 3),
    "interface": lambda folder, quick: interface(folder / "app", 40 if quick else 150, 8.0 if quick else 20.0),
    "interface-dialect": lambda folder, quick: beside_dialect(
        folder / "dialect", 40 if quick else 150, 8.0 if quick else 20.0
    ),
    "halt": lambda folder, quick: halt_from_key(folder / "halt", 20 if quick else 200),
    "halt_in_phases": lambda folder, quick: halt_in_phases(folder / "phases", 24 if quick else 200),
    "holds": lambda folder, quick: holds(),
    "trials": lambda folder, quick: _demos(trial_figures),
    "fit": lambda folder, quick: fit_speed(5 if quick else 15),
    "plants": lambda folder, quick: {part: plant_figures(part, 2 if quick else 10) for part in ("hotend", "bed")},
    "soak": lambda folder, quick: soak_figures(2 if quick else 10),
    "analyse_heat": lambda folder, quick: analysing(3 if quick else 9),
    "ledger": lambda folder, quick: ledger_at_size(folder / "ledger", 100_000, 5 if quick else 15),
    "flood": lambda folder, quick: flood(folder / "ledger", 1 if quick else 5),
    "route": lambda folder, quick: whole_route(1 if quick else 5),
    "coverage": lambda folder, quick: coverage(2 if quick else 24),
    "bad_lines": lambda folder, quick: bad_lines(1 if quick else 25),
    "dialects": lambda folder, quick: dialects(1 if quick else 3, 3 if quick else 20),
    "diagonals": lambda folder, quick: diagonals(4 if quick else 50),
    "extruders": lambda folder, quick: extruders(8 if quick else 50),
    "flows": lambda folder, quick: flows(2 if quick else 50),
    "advances": lambda folder, quick: advances(2 if quick else 50),
    "line_layouts": lambda folder, quick: line_layouts(1 if quick else 50),
    "retractions": lambda folder, quick: retractions(2 if quick else 50),
    "cubes": lambda folder, quick: cubes(1, 1) if quick else cubes(50, 10),
    "skews": lambda folder, quick: skews(1 if quick else 50),
    "owners": lambda folder, quick: owners(3, 2) if quick else owners(30, 12),
    "beds": lambda folder, quick: beds(2 if quick else 50),
    "without_probe": lambda folder, quick: without_probe(2 if quick else 50),
    "coils": lambda folder, quick: coils(1 if quick else 50),
    "layers": lambda folder, quick: layers(1 if quick else 50),
    "meshes": lambda folder, quick: meshes(4 if quick else 50, folder / "meshes", 40 if quick else 150),
    "shaking": lambda folder, quick: shaking(6 if quick else 100, 3 if quick else 9),
    "frames": lambda folder, quick: frames(2 if quick else 50),
    "stops": lambda folder, quick: stops(2 if quick else 50),
    "sweeps": lambda folder, quick: sweeps(1 if quick else 10),
    "slide": lambda folder, quick: slide_keys(folder / "slide", 40 if quick else 150),
    "streams": lambda folder, quick: streams(20.0 if quick else 120.0),
    "times": lambda folder, quick: times_left(),
    "prints": lambda folder, quick: prints(folder / "prints", 1 if quick else 5),
    "faults": lambda folder, quick: faults(1, 1) if quick else faults(17, 50),
    "kills": lambda folder, quick: kills(folder / "kills", 3 if quick else 200),
    "trends": lambda folder, quick: trends(100 if quick else 1000),
    "guards": lambda folder, quick: false_trips(10 if quick else 100),
}


def measure(quick: bool, parts: Sequence[str] = ()) -> dict[str, Any]:
    """These parts of the figures, by their names (empty: all), with the limits that the project sets itself.

    Raises:
        UnknownPart: one of them is none.
    """
    for name in parts:
        if name not in PARTS:
            raise UnknownPart(f"--part {name}: found {name!r}; allowed: {', '.join(PARTS)}.")
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # a user's commands are compiled once, too
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as folder:
        return {name: PARTS[name](Path(folder), quick) for name in parts or PARTS}


class UnknownPart(Trouble):
    """A part of the figures that is none; the message says what is allowed."""


def table_of(figures: Mapping[str, Any]) -> list[str]:
    """Every figure as a line, with the limits where they stand in the figures, and what fell short at the end."""
    lines: list[str] = []
    short: list[str] = []
    for part, figure in figures.items():
        lines += ["", part, *_lines(figure, 1)]
        short += [f"{part}: {words}" for words in _short(figure)]
    return [
        *lines,
        "",
        *(["fell short", *(f"  {words}" for words in short)] if short else ["no part says that anything fell short"]),
    ]


def _lines(figures: Any, depth: int) -> list[str]:
    if not isinstance(figures, Mapping):
        return [f"{'  ' * depth}{figures}"]
    lines = []
    for key, value in figures.items():
        if key == FELL_SHORT:
            continue
        label = f"{'  ' * depth}{str(key).replace('_', ' ')}"
        if isinstance(value, Mapping):
            lines += [label, *_lines(value, depth + 1)]
        elif isinstance(value, list) and any(isinstance(element, str) for element in value):
            lines += [f"{label:<44}{len(value)}", *(f"{'  ' * (depth + 1)}{element}" for element in value)]
        else:
            shown = (", ".join(map(str, value)) or "none") if isinstance(value, list) else value
            lines.append(f"{label:<44}{shown}")
    return lines


def _short(figures: Any) -> list[str]:
    """What parts themselves say fell short of their limits."""
    if not isinstance(figures, Mapping):
        return []
    return [*figures.get(FELL_SHORT, ()), *(words for value in figures.values() for words in _short(value))]
