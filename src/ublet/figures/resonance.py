"""Figure of a resonance: the transfer with its modes, and what each shaper leaves of it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.shake.choosing import Limits
from ublet.core.shake.frame import Mode, frequency_response
from ublet.core.shake.recorded_shake import Shaken
from ublet.core.shake.shapers import vibration

INK, QUIET, MODEL, CHOSEN = "#14130f", "#8d8574", "#3f6f5f", "#a3341c"
POINTS = 400


def draw_resonance(axes: Mapping[str, Shaken], limits: Limits, title: str, path: Path) -> None:
    """Draw it (SVG or PDF by the path's ending): above what moves over what was commanded, below what each shaper
    leaves.

    Raises:
        ValueError: another ending. OSError: it cannot be written.
    """
    if path.suffix.lower() not in (".svg", ".pdf"):
        raise ValueError(f"{path.name}: a figure is written as .svg or .pdf")
    from matplotlib.figure import Figure

    figure = Figure(figsize=(5.2 * len(axes), 6.2), layout="constrained")
    plots: Any = figure.subplots(2, len(axes), squeeze=False, sharex="col")
    for column, (axis, shaken) in enumerate(axes.items()):
        _draw(plots[0][column], plots[1][column], axis, shaken, limits)
    figure.suptitle(title, fontsize=9, x=0.01, ha="left", color=INK)
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={"Creator": "Ublet"})


def _draw(above: Any, below: Any, axis: str, shaken: Shaken, limits: Limits) -> None:
    if shaken.bands is not None:
        hz, size = shaken.bands.hz, np.abs(shaken.bands.frequency_response)
        above.plot(hz, size, ".", ms=1.5, color=QUIET, label="recorded")
        above.set_ylabel("measured / commanded acceleration", fontsize=8)
        fine = np.linspace(hz[0], hz[-1], POINTS)
        above.plot(fine, np.abs(frequency_response(shaken.modes, fine)), color=MODEL, lw=1.2, label="modes")
    elif shaken.density is not None:
        hz, density = shaken.density
        above.semilogy(hz, density, color=QUIET, lw=0.8, label="recorded")
        above.set_ylabel("density, (m/s²)²/Hz", fontsize=8)
        fine = np.linspace(hz[0], hz[-1], POINTS)
    for mode in shaken.modes:
        above.axvline(mode.frequency_hz, color=MODEL, lw=0.6, ls=":")
        above.text(mode.frequency_hz, above.get_ylim()[1], f" {mode.frequency_hz:.1f}", fontsize=7, va="top", color=INK)
    above.legend(fontsize=7, frameon=False)
    above.set_title(axis, fontsize=9, loc="left", color=INK)
    damping = shaken.modes[0].damping_ratio
    for shaper in shaken.choice.shapers:
        chosen = shaper is shaken.choice.chosen
        left = [100 * vibration(shaper.impulses, Mode(float(f), damping, 1.0)) for f in fine]
        below.plot(fine, left, lw=1.6 if chosen else 0.8, color=CHOSEN if chosen else None, label=shaper.name)
    below.axhline(100 * limits.residual, color=QUIET, lw=0.6, ls="--")
    below.set_ylabel("left of a mode there, %", fontsize=8)
    below.set_xlabel("Hz", fontsize=8)
    below.legend(fontsize=7, frameon=False, ncols=2)
    for plot in (above, below):
        plot.tick_params(labelsize=7)
