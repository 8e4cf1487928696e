"""The shortest train that keeps a frame's ringing below a limit, at its frequencies and when they drift."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from ublet.core.shake.frame import Floats, Mode
from ublet.core.shake.shapers import Train, residual

PLACES = 21
"""Impulses may stand at so many even places of the train; most of them come out empty."""

SIDES = 12
"""A circle is taken as a polygon of so many sides around it."""

HALVINGS = 8
LONGER = (1.0, 1.01, 1.02, 1.04, 1.07, 1.1, 1.15)
LEAST, SLACK = 1e-4, 1.02
"""Smaller impulses are left out."""


def optimised(modes: Sequence[Mode], limit: float, drift: float, longest_s: float) -> Train | None:
    """The shortest train of non-negative impulses that sum to one and leave at most ``limit`` of the ringing at the
    modes' frequencies, and at most twice that when all are moved by ±``drift``; None: none so long does.

    For a duration the vibration of each mode is the length of a vector that is linear in the impulses; held inside a
    polygon in a circle that is a linear program (after Singhose et al. 1997, who optimise by penalties). The duration
    is halved in; from the shortest on the first one is taken whose vibration, seen from its own last impulse, is low.
    """
    low, high = 0.0, longest_s
    if _train(modes, limit, drift, high) is None:
        return None
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        low, high = (middle, high) if _train(modes, limit, drift, middle) is None else (low, middle)
    for longer in LONGER:
        train = _train(modes, limit, drift, high * longer)
        if train is not None and _keeps(train, modes, limit, drift):
            return train
    return None


def _keeps(train: Train, modes: Sequence[Mode], limit: float, drift: float) -> bool:
    """Whether it really does, but for what small impulses that were left out would take away."""
    drifted = max(residual(train, modes, way * drift) for way in (-1, 1))
    return residual(train, modes) <= SLACK * limit and drifted <= 2 * SLACK * limit


def _train(modes: Sequence[Mode], limit: float, drift: float, seconds: float) -> Train | None:
    """Impulses within a duration that keep the limits at its end, and round least; None: there are none."""
    from scipy.optimize import linprog

    times = np.linspace(0.0, seconds, PLACES)
    moves = ((0.0, limit), (-drift, 2 * limit), (drift, 2 * limit))
    count = len(modes) * len(moves)
    rows: list[Floats] = []
    ceilings: list[float] = []
    whole = sum(abs(mode.share) for mode in modes)
    inner = math.cos(math.pi / SIDES)
    angles = 2 * np.pi * np.arange(SIDES) / SIDES
    for number, (move, most) in enumerate(moves):
        total = np.zeros(PLACES + count)
        for at, mode in enumerate(modes):
            drifted, which = mode.moved(move), number * len(modes) + at
            w, z = drifted.w, drifted.damping_ratio
            turns = np.exp((z * w + 1j * w * math.sqrt(1 - z * z)) * (times - seconds))
            for angle in angles:
                row = np.zeros(PLACES + count)
                row[:PLACES] = (turns * np.exp(-1j * angle)).real
                row[PLACES + which] = -inner
                rows.append(row)
                ceilings.append(0.0)
            total[PLACES + which] = abs(mode.share) / whole
        rows.append(total)
        ceilings.append(most)
    cost = np.zeros(PLACES + count)
    cost[:PLACES] = (times / seconds - 0.5) ** 2
    sums = np.zeros((1, PLACES + count))
    sums[0, :PLACES] = 1.0
    told = linprog(cost, np.array(rows), np.array(ceilings), sums, [1.0], method="highs")
    if told.status != 0:
        return None
    amplitudes = np.asarray(told.x[:PLACES], dtype=np.float64)
    there = amplitudes > LEAST
    if not there.any():
        return None
    return Train(times[there] - times[there][0], amplitudes[there] / amplitudes[there].sum())
