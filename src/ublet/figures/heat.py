"""Figure of a heat record: the climb small, the cycles or the hold large, the duty below."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.run import Series

INK = "#14130f"
COPPER = "#8a6418"
STONE = "#6f8fae"
RUST = "#cf5b3c"
NEAR_C = 12.0
"""The large chart shows this much above and below the target, °C."""


def draw_heat(series: Mapping[str, Series], title: str, target_c: float | None, path: Path) -> None:
    """Draw the records of a heat trial and write them to ``path`` (SVG or PDF by its ending).

    series: recorded and predicted ones by name; predicted ones are drawn dashed.

    Raises:
        ValueError: another ending, or nothing to draw. OSError: it cannot be written.
    """
    if path.suffix.lower() not in (".svg", ".pdf"):
        raise ValueError(f"{path.name}: a figure is written as .svg or .pdf")
    recorded = {name: s for name, s in series.items() if not name.startswith("predicted") and len(s.rows)}
    predicted = {name: s for name, s in series.items() if name.startswith("predicted") and len(s.rows)}
    if not recorded and not predicted:
        raise ValueError("there is no record to draw")
    figure, heat_up, near, duty = _axes(title)
    for name, one in {**recorded, **predicted}.items():
        time_s, celsius = one.column("time_s"), one.column("temperature_c")
        dashed = name in predicted
        style: dict[str, Any] = {"color": STONE if dashed else COPPER, "lw": 0.9 if dashed else 1.3}
        style["ls"] = (0, (4, 2)) if dashed else "-"
        near.plot(time_s, celsius, label=name, **style)
        if not dashed:
            heat_up.plot(time_s, celsius, color=COPPER, lw=1)
            duty.step(time_s, 100 * one.column("duty"), where="post", color=RUST, lw=0.9)
    if target_c is not None:
        near.axhline(target_c, color=INK, lw=0.6)
        heat_up.axhline(target_c, color=INK, lw=0.6)
        near.set_ylim(target_c - NEAR_C, target_c + NEAR_C)
    longest = max(float(np.max(s.column("time_s"))) for s in {**recorded, **predicted}.values())
    near.set_xlim(0, longest)
    near.legend(frameon=False, fontsize=7, loc="lower right")
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})


def draw_record(series: Series, title: str, path: Path) -> None:
    """Draw what a heater did over a while: temperature above, duty and part fan below (SVG or PDF by its ending).

    Raises:
        OSError: it cannot be written.
    """
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9, 4.6), layout="constrained")
    upper, lower = figure.subplots(2, 1, sharex=True, height_ratios=(3, 1))
    figure.suptitle(title, fontsize=10, color=INK, x=0.01, ha="left")
    time_s = series.column("time_s")
    upper.plot(time_s, series.column("temperature_c"), color=COPPER, lw=1.2)
    lower.step(time_s, 100 * series.column("duty"), where="post", color=RUST, lw=0.9, label="duty")
    if "fan" in series.columns and float(series.column("fan").max()) > 0:
        lower.step(time_s, 100 * series.column("fan"), where="post", color=STONE, lw=0.9, label="part fan")
        lower.legend(frameon=False, fontsize=7)
    upper.set_ylabel("temperature, °C", fontsize=8)
    lower.set_ylabel("%", fontsize=8)
    lower.set_ylim(-5, 105)
    lower.set_xlabel("time, s", fontsize=8)
    _plain(upper, lower)
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})


def _plain(*charts: Any) -> None:
    for axes in charts:
        axes.tick_params(labelsize=7, color=INK)
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)


def _axes(title: str) -> Any:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9, 5.6), layout="constrained")
    grid = figure.add_gridspec(2, 2, width_ratios=(1, 3), height_ratios=(4, 1))
    heat_up = figure.add_subplot(grid[:, 0])
    near = figure.add_subplot(grid[0, 1])
    duty = figure.add_subplot(grid[1, 1], sharex=near)
    figure.suptitle(title, fontsize=10, color=INK, x=0.01, ha="left")
    heat_up.set_title("the heat-up", fontsize=8, color=INK, loc="left")
    near.set_title("around the target", fontsize=8, color=INK, loc="left")
    near.set_ylabel("temperature, °C", fontsize=8)
    duty.set_ylabel("duty, %", fontsize=8)
    duty.set_ylim(-5, 105)
    duty.set_xlabel("time, s", fontsize=8)
    heat_up.set_xlabel("time, s", fontsize=8)
    _plain(heat_up, near, duty)
    return figure, heat_up, near, duty
