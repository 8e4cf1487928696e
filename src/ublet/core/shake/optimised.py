"""Trains made for one frame: that which rounds least below a limit of ringing, and that which rings least below one of
rounding; at its frequencies and when they drift.
"""

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
LONGER = (1.0, 1.02, 1.05, 1.1, 1.2, 1.35)
"""How much longer than the shortest trains are looked at, for the one that rounds least."""

CENTRINGS = 2
"""Rounding counts from the mean of a train, which is known only once it is made: it is made so many times more."""

DURATIONS = 14
LEAST, SLACK = 1e-4, 1.02
"""Smaller impulses are left out."""


def optimised(modes: Sequence[Mode], limit: float, drift: float, longest_s: float) -> Train | None:
    """The train of non-negative impulses that sum to one which rounds least of those that leave at most ``limit`` of
    the ringing at the modes' frequencies, and at most twice that when all are moved by ±``drift``; None: none so long
    does.

    For a duration the vibration of each mode is the length of a vector that is linear in the impulses; held inside a
    polygon in a circle that is a linear program (after Singhose et al. 1997, who optimise by penalties). The shortest
    duration is halved in; of it and of longer ones the train is taken whose variance in time, which is what rounds, is
    the smallest, among those whose vibration, seen from their own last impulse, is low.
    """
    low, high = 0.0, longest_s
    if _Program(modes, drift, high).rounding_least(limit) is None:
        return None
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        there = _Program(modes, drift, middle).rounding_least(limit) is not None
        low, high = (low, middle) if there else (middle, high)
    found: Train | None = None
    for longer in LONGER:
        program = _Program(modes, drift, high * longer)
        centre = 0.5
        for _ in range(1 + CENTRINGS):
            train = program.rounding_least(limit, centre)
            if train is None:
                break
            centre = program.centre_of(train)
            if _keeps(train, modes, limit, drift) and (found is None or train.spread_s2 < found.spread_s2):
                found = train
    return found


def gentlest(modes: Sequence[Mode], spread_s2: float, drift: float, longest_s: float) -> Train | None:
    """The train of non-negative impulses that leaves least, the larger of what it leaves and of half of what it leaves
    drifted, of those whose variance in time is at most ``spread_s2``; None: there is none.

    By the same linear program, with ringing and rounding changed about; of trains of several durations.
    """
    found: Train | None = None
    least = math.inf
    shortest = 0.5 * math.sqrt(spread_s2)
    for seconds in np.geomspace(shortest, min(longest_s, 6 * math.sqrt(spread_s2)), DURATIONS).tolist():
        train = _Program(modes, drift, seconds).ringing_least(spread_s2)
        if train is not None and train.spread_s2 <= spread_s2 * (1 + 1e-6):
            left = worst_of(train, modes, drift)
            if left < least:
                found, least = train, left
    return found


def worst_of(train: Train, modes: Sequence[Mode], drift: float) -> float:
    """What a train leaves, or half of what it leaves when the frame drifts: the larger."""
    return max(residual(train, modes), _drifted(train, modes, drift) / 2)


def _drifted(train: Train, modes: Sequence[Mode], drift: float) -> float:
    return max(residual(train, modes, way * drift) for way in (-1, 1))


def _keeps(train: Train, modes: Sequence[Mode], limit: float, drift: float) -> bool:
    """Whether it really does, but for what small impulses that were left out would take away."""
    return worst_of(train, modes, drift) <= SLACK * limit


class _Program:
    """The linear program of trains of one duration: impulses (PLACES), lengths of every mode's vibration at rest and
    drifted, and the limit of ringing.
    """

    def __init__(self, modes: Sequence[Mode], drift: float, seconds: float) -> None:
        self.seconds = seconds
        self.times = np.linspace(0.0, seconds, PLACES)
        moves = ((0.0, 1.0), (-drift, 2.0), (drift, 2.0))
        self.count = PLACES + len(modes) * len(moves) + 1
        whole = sum(abs(mode.share) for mode in modes)
        inner = math.cos(math.pi / SIDES)
        angles = 2 * np.pi * np.arange(SIDES) / SIDES
        rows: list[Floats] = []
        for number, (move, most) in enumerate(moves):
            total = np.zeros(self.count)
            for at, mode in enumerate(modes):
                drifted, which = mode.moved(move), PLACES + number * len(modes) + at
                w, z = drifted.w, drifted.damping_ratio
                turns = np.exp((z * w + 1j * w * math.sqrt(1 - z * z)) * (self.times - seconds))
                for angle in angles:
                    row = np.zeros(self.count)
                    row[:PLACES] = (turns * np.exp(-1j * angle)).real
                    row[which] = -inner
                    rows.append(row)
                total[which] = abs(mode.share) / whole
            total[-1] = -most
            rows.append(total)
        self._rows = np.array(rows)

    def rounding_least(self, limit: float, centre: float = 0.5) -> Train | None:
        """Of those that ring at most so much the one that rounds least about a centre, a share of the duration."""
        cost = np.zeros(self.count)
        cost[:PLACES] = self._spread(centre)
        return self._solved(cost, self._rows, (limit, limit))

    def ringing_least(self, spread_s2: float) -> Train | None:
        """Of those that round at most so much the one that rings least."""
        cost = np.zeros(self.count)
        cost[-1] = 1.0
        row = np.zeros(self.count)
        row[:PLACES] = self._spread(0.5)
        return self._solved(cost, np.vstack([self._rows, row]), (0.0, None), spread_s2 / self.seconds**2)

    def centre_of(self, train: Train) -> float:
        """The mean of a train, as a share of the duration."""
        return float(train.amplitudes @ train.times) / self.seconds

    def _spread(self, centre: float) -> Floats:
        return np.asarray((self.times / self.seconds - centre) ** 2)

    def _solved(
        self, cost: Floats, rows: Floats, ringing: tuple[float, float | None], spread: float | None = None
    ) -> Train | None:
        from scipy.optimize import linprog

        ceilings = np.zeros(len(rows))
        if spread is not None:
            ceilings[-1] = spread
        sums = np.zeros((1, self.count))
        sums[0, :PLACES] = 1.0
        bounds = [(0.0, None)] * (self.count - 1) + [ringing]
        told = linprog(cost, rows, ceilings, sums, [1.0], bounds, method="highs")
        if told.status != 0:
            return None
        amplitudes = np.asarray(told.x[:PLACES], dtype=np.float64)
        there = amplitudes > LEAST
        if not there.any():
            return None
        return Train(self.times[there] - self.times[there][0], amplitudes[there] / amplitudes[there].sum())
