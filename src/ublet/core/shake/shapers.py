"""Input shapers: named impulse sequences, those optimised for one frame, and the one that is live on a board.

Optimised for one frame: the sequence with the least rounding below a limit of residual vibration, and the one with the
least vibration below a limit of rounding, at its frequencies and when they drift.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.settings import Value
from ublet.core.shake.frame import Mode

TOLERATED = 0.05
"""Vibration that the tolerant trains leave at their middle."""


@dataclass(frozen=True)
class ImpulseSequence:
    """Impulses (n): times in s from 0, and amplitudes that sum to one."""

    times: Floats
    amplitudes: Floats

    @property
    def duration_s(self) -> float:
        """From the first to the last."""
        return float(self.times[-1])

    @property
    def spread_s2(self) -> float:
        """Variance of the train in time: ``sum A (t - mean)^2``, s²."""
        mean = float(self.amplitudes @ self.times)
        return float(self.amplitudes @ (self.times - mean) ** 2)

    def rounding_mm(self, acceleration_mm_s2: float) -> float:
        """By how much it rounds a corner at an acceleration: ``a / 2 sum A (t - mean)^2`` (handbook, section 8)."""
        return acceleration_mm_s2 / 2 * self.spread_s2

    def highest_mm_s2(self, rounding_mm: float) -> float:
        """Largest acceleration at which it rounds no more than this."""
        return 2 * rounding_mm / self.spread_s2 if self.spread_s2 > 0 else math.inf


def residual(impulses: ImpulseSequence, modes: Sequence[Mode], moved: float = 0.0) -> float:
    """What a train leaves of a frame's ringing, all its frequencies moved by a share: ``sum p V / sum p``."""
    return float(residuals(impulses.times[None, :], impulses.amplitudes, modes, moved)[0])


def residuals(times: Floats, amplitudes: Floats, modes: Sequence[Mode], moved: float = 0.0) -> Floats:
    """The same of k trains of the same n amplitudes at once; times (k x n) in s."""
    whole = sum(abs(mode.modal_share) for mode in modes)
    total = np.zeros(len(times))
    for mode in modes:
        total += abs(mode.modal_share) / whole * _vibrations(times, amplitudes, mode.moved(moved))
    return total


def vibration(impulses: ImpulseSequence, mode: Mode) -> float:
    """What a train leaves of one mode: ``V = exp(-z w tn) |sum A exp(z w t) exp(j wd t)|`` (Singer & Seering 1990)."""
    return float(_vibrations(impulses.times[None, :], impulses.amplitudes, mode)[0])


def _vibrations(times: Floats, amplitudes: Floats, mode: Mode) -> Floats:
    w, z = mode.w, mode.damping_ratio
    turns = np.exp((z * w + 1j * w * math.sqrt(1 - z * z)) * (times - times[:, -1:]))
    return np.asarray(np.abs(turns @ amplitudes))


def _zv(k: float) -> list[float]:
    return [1, k]


def _zvd(k: float) -> list[float]:
    return [1, 2 * k, k * k]


def _ei(k: float) -> list[float]:
    v = TOLERATED
    return [(1 + v) / 4, (1 - v) / 2 * k, (1 + v) / 4 * k * k]


def _two_hump(k: float) -> list[float]:
    v = TOLERATED
    x = (v * v * (math.sqrt(1 - v * v) + 1)) ** (1 / 3)
    a = (3 * x * x + 2 * x + 3 * v * v) / (16 * x)
    return [a, (0.5 - a) * k, (0.5 - a) * k**2, a * k**3]


def _three_hump(k: float) -> list[float]:
    v = TOLERATED
    a = (1 + 3 * v + 2 * math.sqrt(2 * (v * v + v))) / 16
    b = (1 - v) / 4
    return [a, b * k, (1 - 2 * (a + b)) * k**2, b * k**3, a * k**4]


NAMED: Mapping[str, Callable[[float], list[float]]] = {
    "zv": _zv,
    "zvd": _zvd,
    "ei": _ei,
    "two-hump-ei": _two_hump,
    "three-hump-ei": _three_hump,
}
"""Amplitudes of the named trains, half a damped period apart, before they are made to sum to one; by
``K = exp(-z pi / sqrt(1 - z^2))`` (Singer & Seering 1990; Singhose et al. 1994, 1997).
"""


def named(name: str, frequency_hz: float, damping_ratio: float) -> ImpulseSequence:
    """A named train for an undamped frequency, Hz, and a damping ratio.

    Raises:
        KeyError: there is none of that name.
    """
    root = math.sqrt(1 - damping_ratio**2)
    amplitudes = np.array(NAMED[name](math.exp(-damping_ratio * math.pi / root)))
    half = 0.5 / (frequency_hz * root)
    return ImpulseSequence(
        half * np.arange(len(amplitudes), dtype=np.float64), np.asarray(amplitudes / amplitudes.sum())
    )


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


def optimised(modes: Sequence[Mode], limit: float, drift: float, longest_s: float) -> ImpulseSequence | None:
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
    best: ImpulseSequence | None = None
    for longer in LONGER:
        program = _Program(modes, drift, high * longer)
        centre = 0.5
        for _ in range(1 + CENTRINGS):
            impulses = program.rounding_least(limit, centre)
            if impulses is None:
                break
            centre = program.centre_of(impulses)
            if _keeps(impulses, modes, limit, drift) and (best is None or impulses.spread_s2 < best.spread_s2):
                best = impulses
    return best


def gentlest(modes: Sequence[Mode], spread_s2: float, drift: float, longest_s: float) -> ImpulseSequence | None:
    """The train of non-negative impulses that leaves least, the larger of what it leaves and of half of what it leaves
    drifted, of those whose variance in time is at most ``spread_s2``; None: there is none.

    By the same linear program, with ringing and rounding changed about; of trains of several durations.
    """
    best: ImpulseSequence | None = None
    least = math.inf
    shortest = 0.5 * math.sqrt(spread_s2)
    for seconds in np.geomspace(shortest, min(longest_s, 6 * math.sqrt(spread_s2)), DURATIONS).tolist():
        impulses = _Program(modes, drift, seconds).ringing_least(spread_s2)
        if impulses is not None and impulses.spread_s2 <= spread_s2 * (1 + 1e-6):
            left = worst_of(impulses, modes, drift)
            if left < least:
                best, least = impulses, left
    return best


def worst_of(impulses: ImpulseSequence, modes: Sequence[Mode], drift: float) -> float:
    """What a train leaves, or half of what it leaves when the frame drifts: the larger."""
    return max(residual(impulses, modes), _drifted(impulses, modes, drift) / 2)


def _drifted(impulses: ImpulseSequence, modes: Sequence[Mode], drift: float) -> float:
    return max(residual(impulses, modes, direction * drift) for direction in (-1, 1))


def _keeps(impulses: ImpulseSequence, modes: Sequence[Mode], limit: float, drift: float) -> bool:
    """Whether it really does, but for what small impulses that were left out would take away."""
    return worst_of(impulses, modes, drift) <= SLACK * limit


class _Program:
    """The linear program of trains of one duration: impulses (PLACES), lengths of every mode's vibration at rest and
    drifted, and the limit of ringing.
    """

    def __init__(self, modes: Sequence[Mode], drift: float, seconds: float) -> None:
        self.seconds = seconds
        self.times = np.linspace(0.0, seconds, PLACES)
        moves = ((0.0, 1.0), (-drift, 2.0), (drift, 2.0))
        self.count = PLACES + len(modes) * len(moves) + 1
        whole = sum(abs(mode.modal_share) for mode in modes)
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
                total[which] = abs(mode.modal_share) / whole
            total[-1] = -most
            rows.append(total)
        self._rows = np.array(rows)

    def rounding_least(self, limit: float, centre: float = 0.5) -> ImpulseSequence | None:
        """Of those that ring at most so much the one that rounds least about a centre, a share of the duration."""
        cost = np.zeros(self.count)
        cost[:PLACES] = self._spread(centre)
        return self._solved(cost, self._rows, (limit, limit))

    def ringing_least(self, spread_s2: float) -> ImpulseSequence | None:
        """Of those that round at most so much the one that rings least."""
        cost = np.zeros(self.count)
        cost[-1] = 1.0
        row = np.zeros(self.count)
        row[:PLACES] = self._spread(0.5)
        return self._solved(cost, np.vstack([self._rows, row]), (0.0, None), spread_s2 / self.seconds**2)

    def centre_of(self, impulses: ImpulseSequence) -> float:
        """The mean of a train, as a share of the duration."""
        return float(impulses.amplitudes @ impulses.times) / self.seconds

    def _spread(self, centre: float) -> Floats:
        return np.asarray((self.times / self.seconds - centre) ** 2)

    def _solved(
        self, cost: Floats, rows: Floats, ringing: tuple[float, float | None], spread: float | None = None
    ) -> ImpulseSequence | None:
        from scipy.optimize import linprog

        ceilings = np.zeros(len(rows))
        if spread is not None:
            ceilings[-1] = spread
        sums = np.zeros((1, self.count))
        sums[0, :PLACES] = 1.0
        bounds = [(0.0, None)] * (self.count - 1) + [ringing]
        solution = linprog(cost, rows, ceilings, sums, [1.0], bounds, method="highs")
        if solution.status != 0:
            return None
        amplitudes = np.asarray(solution.x[:PLACES], dtype=np.float64)
        there = amplitudes > LEAST
        if not there.any():
            return None
        return ImpulseSequence(self.times[there] - self.times[there][0], amplitudes[there] / amplitudes[there].sum())


KEYS = ("kind", "frequency_hz", "damping", "train")
"""Settings of a shaper, below ``axes.AXIS.shaper``."""

NONE, OWN = "none", "own"


SUM_OFF = 1e-3
"""Shares sum to one within this; else an axis would not arrive."""


def shaper_path(axis: str, key: str) -> str:
    """The path of a shaper's setting."""
    return f"axes.{axis}.shaper.{key}"


def live_impulses(read: Callable[[str], Value], axis: str) -> ImpulseSequence | None:
    """The train of an axis, from settings by their paths; None: motion is not shaped."""
    kind, hz, damping, own = (read(shaper_path(axis, key)) for key in KEYS)
    if kind == OWN and isinstance(own, tuple) and own:
        rows = np.array(own, dtype=np.float64)
        if rows.ndim != 2 or rows.shape[1] != 2 or rows[0, 0] != 0 or np.any(np.diff(rows[:, 0]) <= 0):
            return None  # no train: it would move the axis by something else than commanded
        return ImpulseSequence(rows[:, 0], rows[:, 1]) if abs(float(rows[:, 1].sum()) - 1) < SUM_OFF else None
    if kind not in NAMED or not isinstance(hz, (int, float)) or not isinstance(damping, (int, float)) or hz <= 0:
        return None
    return named(str(kind), float(hz), float(damping))
