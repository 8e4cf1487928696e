"""Layouts of the lines that show pressure advance, compared by what an eye reads from each on made-up extruders."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ublet.benchmark.melts import errors_of, eye_limit_s, made_up_melt
from ublet.core.extrude.advance import AdvanceEstimate, finer_range, from_pick, together
from ublet.core.extrude.advance_lines import (
    LineKind,
    LinesParameters,
    fast_mm_s_of,
    line_kind,
    proposed_range,
    stroke_of,
)
from ublet.core.machine.schema import MachineFile
from ublet.world.extrude_truth import laid_on, printed_line
from ublet.world.eye import Eye
from ublet.world.line_truth import LineLaid
from ublet.world.scenario import Scenario, load_scenario

LAYOUTS = {
    "slow fast slow": "sfs",
    "slow fast slow fast slow": "sfsfs",
    "fast slow fast": "fsf",
    "slow fast slow, 20 mm/s": "sfs",
}
"""Each line's stretches, slow and fast. The last is slow at 20 mm/s with any drive."""

VALUES, EYES = 25, 20
"""Lines that are laid of each machine, over the values that are looked at; eyes that read them."""


def line_layouts(machines: int) -> dict[str, Any]:
    """For each layout, over machines and eyes, after one look and after a second one at the same bracket: how often it
    is within 10 % or 0.004 s of what is evenest on that layout, how often two uncertainties cover that, median error.
    """
    rows: dict[str, list[tuple[float, AdvanceEstimate, AdvanceEstimate]]] = {name: [] for name in LAYOUTS}
    for number in range(machines):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            path, machine = made_up_melt(Path(name), number)
            scenario = load_scenario(path)
            for layout in LAYOUTS:
                rows[layout] += _read(scenario, machine, layout, number)
    figures: dict[str, Any] = {"machines": machines}
    for layout, read in rows.items():
        true = np.array([truth for truth, _, _ in read])
        figures[layout] = {"of": len(read)}
        once, twice = [one for _, one, _ in read], [both for _, _, both in read]
        for looks, estimates in (("one_look", once), ("two_looks", twice)):
            value, error = (np.array([getattr(one, of) for one in estimates]) for of in ("advance_s", "uncertainty_s"))
            figures[layout][looks] = errors_of(true, value, error, eye_limit_s(true))
    return figures


def _read(
    scenario: Scenario, machine: MachineFile, layout: str, seed: int
) -> list[tuple[float, AdvanceEstimate, AdvanceEstimate]]:
    """The evenest value of a layout, and what eyes read from it: with one look, with two."""
    kind = line_kind(machine)
    line = _line(machine, kind, layout)
    last, step = proposed_range(machine, "")
    melt = laid_on(scenario, machine, "", line)
    true = melt.evenest_s(2 * last)
    last = max(last, 1.3 * true)
    grid = np.linspace(0.0, last, VALUES)
    grid = np.unique(np.concatenate([grid, np.linspace(0.6, 1.5, VALUES) * true]))
    differences = np.array([_difference_mm(line, melt.widths(value), kind.look_mm) for value in grid])
    read = []
    for eye in range(EYES):
        person = Eye(scenario.builder.width_eye_mm, np.random.default_rng([seed, eye]))
        values = np.arange(0.0, last + step / 2, step)
        one = _look(person, values, grid, differences)
        if one is None:
            continue
        if one.worth_finer:
            low, high, fine = finer_range(one)
            values = np.arange(low, high + fine / 2, fine)
            one = _look(person, values, grid, differences) or one
        other = _look(person, values, grid, differences) or one
        read.append((true, one, together([one, other])))
    return read


def _look(
    eye: Eye, values: NDArray[np.float64], grid: NDArray[np.float64], differences: NDArray[np.float64]
) -> AdvanceEstimate | None:
    even = eye.even(np.interp(values, grid, differences).tolist())
    return None if isinstance(even, str) else from_pick(values.tolist(), *even)


def _line(machine: MachineFile, kind: LineKind, layout: str) -> LineLaid:
    slow_mm_s = 20.0 if layout.endswith("mm/s") else kind.slow_mm_s
    aim = LinesParameters(slow_mm_s=slow_mm_s)
    stroke = stroke_of(aim, kind)
    stretches = {"s": (kind.slow_mm, slow_mm_s), "f": (kind.fast_mm, fast_mm_s_of(machine, aim, kind, stroke))}
    return printed_line(machine, [stretches[of] for of in LAYOUTS[layout]], stroke, kind.acceleration_mm_s2)


def _difference_mm(line: LineLaid, rows: NDArray[np.float64], look_mm: float) -> float:
    """How much wider it is where it slowed down, and thinner where it sped up: the mean over all changes, mm."""

    def mean(low: float, high: float) -> float:
        return float(np.interp(np.arange(low, high, 0.25), rows[:, 0], rows[:, 1]).mean())

    ends, slow = np.cumsum([length for length, _ in line.stretches]), min(mm_s for _, mm_s in line.stretches)
    slows_down, speeds_up = list[float](), list[float]()
    for at, (_, mm_s) in zip(ends, line.stretches[1:], strict=False):
        both = mean(at - look_mm, at) + mean(at, at + look_mm)
        (slows_down if mm_s == slow else speeds_up).append(both)
    return float(np.mean(slows_down) - np.mean(speeds_up)) / 2
