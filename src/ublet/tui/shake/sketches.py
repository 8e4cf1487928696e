"""What to expect of a station of the leg Shake that has measured nothing yet: made-up figures, said to be so."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ublet.core.shake.shaper_trials import left_over
from ublet.core.shake.shapers import named
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph

HZ, DAMPING = 40.0, 0.05
"""How the axis of the sketches rings."""

LABELLED = {"zv": 1.15, "three-hump-ei": 0.62}
"""The shapers of the sketch, and where their names stand, as a share of the frequency."""

LEAST_ROWS = 9
POINTS = 160


def put_shapers(cells: Cells, top: int) -> None:
    """What a short and a long shaper leave of an axis's ringing, over where it rings."""
    caption = f"a sketch at {HZ:g} Hz: the longer the shaper, the wider it holds"
    if not (height := _room(cells, top, caption)):
        return
    hz = np.linspace(0.5 * HZ, 1.5 * HZ, POINTS)
    words = ("residual vibration, %, of a mode at this frequency", "Hz")
    drawn = graph(cells, 0, top, (cells.width, height), (float(hz[0]), float(hz[-1])), (0.0, 100.0), words)
    for (name, place), ink in zip(LABELLED.items(), (Ink.dim, Ink.quiet), strict=True):
        left = [100 * fraction for fraction in left_over(named(name, HZ, DAMPING), hz, DAMPING)]
        drawn.line(hz.tolist(), left, ink)
        at = int(np.argmax(hz > place * HZ))
        drawn.mark(float(hz[at]), left[at], f" {name}", ink)


def put_stops(cells: Cells, top: int) -> None:
    """What rings after a sharp stop, and what a shaper leaves of it."""
    if not (height := _room(cells, top, "a sketch: with the shaper next to nothing rings")):
        return
    ms = np.linspace(-50.0, 350.0, 2 * POINTS)
    words = ("an axis after a sharp stop", "ms since the stop")
    drawn = graph(cells, 0, top, (cells.width, height), (-50.0, 350.0), (-1.1, 1.1), words)
    turned = 2 * math.pi * HZ * np.maximum(0.0, ms) / 1000
    rings = np.exp(-DAMPING * turned) * np.sin(turned)
    drawn.line(ms.tolist(), rings.tolist(), Ink.quiet)
    drawn.line(ms.tolist(), (0.05 * rings).tolist(), Ink.dim)


def put_times(cells: Cells, top: int, side_mm: float, speed_mm_s: float) -> None:
    """What a square takes at each acceleration."""
    caption = "a sketch: each further mm/s² saves less and rounds corners more"
    if not (height := _room(cells, top, caption)):
        return
    mm_s2 = np.linspace(500.0, 20_000.0, POINTS)
    seconds = square_s(side_mm, speed_mm_s, mm_s2)
    words = (f"a square of {side_mm:g} mm takes, s", "mm/s²")
    across, up = (float(mm_s2[0]), float(mm_s2[-1])), (0.9 * float(seconds.min()), 1.05 * float(seconds.max()))
    graph(cells, 0, top, (cells.width, height), across, up, words).line(mm_s2.tolist(), seconds.tolist(), Ink.quiet)


def square_s(side_mm: float, speed_mm_s: float, mm_s2: NDArray[np.float64]) -> NDArray[np.float64]:
    """What the four sides of a square take at each acceleration, s, its corners taken standing: trapezoids of the
    speed, or triangles where a side is too short to reach it.
    """
    reached = side_mm / speed_mm_s + speed_mm_s / mm_s2
    short = 2 * np.sqrt(side_mm / mm_s2)
    return np.asarray(4 * np.where(speed_mm_s**2 / mm_s2 <= side_mm, reached, short), dtype=np.float64)


def _room(cells: Cells, top: int, given: str) -> int:
    """Say below what it is; returns the rows above that, or 0 where there are too few for a sketch."""
    height = cells.height - top - 1
    if height < LEAST_ROWS:
        return 0
    cells.put(0, cells.height - 1, f"what to expect, {given}", Ink.dim)
    return height
