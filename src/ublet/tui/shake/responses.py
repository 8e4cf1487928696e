"""Pictures of sweeps: how much more an axis moves than commanded, over the frequency; how much shakes, over time."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ublet.core.run import Series
from ublet.core.shake.frame import Mode, frequency_response
from ublet.core.shake.sweep_response import BINS
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import Graph, graph

SHADES = " ·░▒▓█"
QUIETEST_M_S2, LOUDEST_M_S2 = 0.02, 10.0
"""Shades go by the logarithm between these amplitudes."""

DRAWN = 400
"""Number of points drawn of a curve."""


def gain_graph(
    cells: Cells, left: int, top: int, size: tuple[int, int], title: str, hz: tuple[float, float], most: float
) -> Graph:
    """Axes for gains over the frequency."""
    return graph(cells, left, top, size, hz, (0.0, most), (title, "Hz"))


def put_curve(drawn: Graph, hz: np.ndarray, gain: np.ndarray, style: str) -> None:
    """A curve of gains."""
    every = max(1, len(hz) // DRAWN)
    low, high = drawn.across
    inside = (hz >= low) & (hz <= high)
    drawn.line(hz[inside][::every].tolist(), np.minimum(gain[inside][::every], drawn.up[1]).tolist(), style)


def put_modes(drawn: Graph, modes: Sequence[Mode], style: str) -> None:
    """The curve that modes make."""
    hz = np.linspace(*drawn.across, DRAWN)
    put_curve(drawn, hz, np.abs(frequency_response(modes, hz)), style)


def put_peaks(drawn: Graph, modes: Sequence[Mode], style: str) -> None:
    """A word over each peak; after all curves, which would go through it."""
    gains = np.abs(frequency_response(modes, np.array([mode.frequency_hz for mode in modes])))
    for mode, at in zip(modes, gains.tolist(), strict=True):
        if not drawn.across[0] < mode.frequency_hz < drawn.across[1]:
            continue
        column, row = drawn.at(mode.frequency_hz, min(at, drawn.up[1]))
        word = f"{mode.frequency_hz:.1f}"
        drawn.cells.put(
            min(round(column) + 2, drawn.left + drawn.width - len(word)),
            max(drawn.top, round(row) - (0 if at > drawn.up[1] / 3 else 1)),
            word,
            f"bold {style}",
        )


def highest(curves: Sequence[np.ndarray]) -> float:
    """A round gain above all curves."""
    most = max((float(np.max(curve)) for curve in curves if len(curve)), default=5.0)
    return max(3.0, float(np.ceil(most * 1.15)))


def put_spectrogram(
    cells: Cells, left: int, top: int, size: tuple[int, int], series: Series | None, seconds: float
) -> None:
    """Time to the right, frequency up, shades by how much shakes."""
    width, height = max(10, size[0] - 6), max(4, size[1] - 3)
    cells.put(left, top, "spectrogram, m/s²: Hz over s", Ink.dim)
    bottom = top + 1 + height
    for fraction in (0.0, 0.5, 1.0):
        hz = BINS[0] + fraction * (BINS[-1] - BINS[0])
        cells.put(left, bottom - 1 - round(fraction * (height - 1)), f"{hz:>4.0f}", Ink.dim)
    cells.put(left + 6, bottom, f"0{f'{seconds:.0f} s':>{width - 1}}", Ink.dim)
    for row in range(height):
        cells.put(left + 5, top + 1 + row, "│", Ink.faint)
    if series is None or not len(series.rows):
        return
    times, power = series.rows[:, 0], series.rows[:, 1:]
    columns = np.clip((times / seconds * (width - 1)).astype(int), 0, width - 1)
    bins = np.clip((np.arange(height)[::-1] / height * len(BINS)).astype(int), 0, len(BINS) - 1)
    span = np.log10(LOUDEST_M_S2 / QUIETEST_M_S2)
    level = np.log10(np.maximum(power, QUIETEST_M_S2) / QUIETEST_M_S2) / span
    shade = np.clip((level * len(SHADES)).astype(int), 0, len(SHADES) - 1)
    wide = max(1, int(np.ceil((width - 1) / max(1.0, seconds / 0.5))))
    for number, column in enumerate(columns.tolist()):
        for row in range(height):
            at = int(shade[number, bins[row]])
            if at:
                cells.put(left + 6 + column, top + 1 + row, SHADES[at] * wide, Ink.focus if at > 3 else Ink.quiet)
