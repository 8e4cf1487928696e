"""What rings on after a sharp stop, shaped and not: how much a shaper leaves of each mode, measured."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Complex, Floats
from ublet.core.shake.frame import Mode, in_print

WINDOW_S = 0.35
"""Ringing is read over so long after a stop, s."""

SLOW_HZ, APART = (5.0, 8.0, 12.0), 1.5
"""Between them, and so near to them, a machine may swing on its feet; a reported mode is further away."""

LEAST_READINGS = 20
CLEAR = 5.0
"""A mode is read where it rings so many times above its noise without a shaper."""

FORM = 0.004
"""What friction, and modes that are not reported, leave open of a measured share, standard."""


@dataclass(frozen=True)
class ResidualVibration:
    """The share of ringing that is left, with its standard uncertainty; and of each mode, where it could be read."""

    fraction: float
    uncertainty: float
    modes: tuple[float | None, ...]


def amplitudes(time_s: Floats, response: Floats, modes: Sequence[Mode], from_s: float) -> tuple[Complex, Floats] | None:
    """How each mode rings at a time: amplitudes of ``exp(pole (t - from_s))`` (k) by least squares over what is
    measured then (n times, n accelerations), with an offset, and their standard uncertainties. None: too little was
    measured.

    Slow swings of the machine on its feet are fitted along, as far as no mode is reported near them: a small one that
    no sweep showed would look like ringing that a shaper leaves.
    """
    inside = (time_s >= from_s) & (time_s <= from_s + WINDOW_S)
    if int(inside.sum()) < LEAST_READINGS + 2 * len(modes):
        return None
    basis, solution, left = _fitted(time_s[inside] - from_s, response[inside], modes)
    noise = float(left @ left) / (len(left) - basis.shape[1])
    spread = noise * np.diag(np.linalg.pinv(basis.T @ basis))
    real, imaginary = slice(1, 2 * len(modes), 2), slice(2, 2 * len(modes) + 1, 2)
    return solution[real] + 1j * solution[imaginary], np.sqrt(spread[real] + spread[imaginary])


def _fitted(t: Floats, y: Floats, modes: Sequence[Mode]) -> tuple[Floats, Floats, Floats]:
    """The basis of modes, an offset and slow swings at times since a stop, their amplitudes, and what they leave."""
    columns = [np.ones_like(t)]
    for mode in modes:
        pole = mode.w * complex(-mode.damping_ratio, math.sqrt(1 - mode.damping_ratio**2))
        turning = np.exp(pole * t)
        columns += [turning.real, -turning.imag]
    for hz in SLOW_HZ:
        if all(mode.frequency_hz > APART * hz or hz > APART * mode.frequency_hz for mode in modes):
            columns += [np.cos(2 * np.pi * hz * t), np.sin(2 * np.pi * hz * t)]
    basis = np.stack(columns, axis=1)
    solution = np.asarray(np.linalg.lstsq(basis, y, rcond=None)[0], dtype=np.float64)
    return basis, solution, y - basis @ solution


FURTHEST, TRIED = 0.4, 81
"""By so much more or less, as a share, the frequencies of a frame are looked for in what rings."""


def moved_by(time_s: Floats, response: Floats, modes: Sequence[Mode], stops_s: Sequence[float]) -> tuple[float, float]:
    """By what share the frequencies are others than a frame's, by what rings on after stops: the share at which its
    modes leave least of it, with its standard uncertainty (by the curvature there).
    """
    fractions = np.linspace(-FURTHEST, FURTHEST, TRIED)
    power, readings = np.zeros(TRIED), 0
    for stop in stops_s:
        there = (time_s >= stop) & (time_s <= stop + WINDOW_S)
        if int(there.sum()) < LEAST_READINGS + 2 * len(modes):
            continue
        readings += int(there.sum())
        for at, fraction in enumerate(fractions.tolist()):
            _, _, left = _fitted(time_s[there] - stop, response[there], [mode.moved(fraction) for mode in modes])
            power[at] += float(left @ left)
    best = int(np.clip(np.argmin(power), 1, TRIED - 2))
    below, here, above = power[best - 1 : best + 2].tolist()
    bend, step = below - 2 * here + above, float(fractions[1] - fractions[0])
    if bend <= 0:
        return float(fractions[best]), math.inf
    u = step * math.sqrt(2 * here / max(1, readings) / bend)
    return float(fractions[best]) + step * (below - above) / (2 * bend), u


RingDown = tuple[Complex, Floats]
"""Amplitudes of modes after a stop, with their standard uncertainties (k each)."""


def left_of(unshaped: Sequence[RingDown], shaped: Sequence[RingDown], modes: Sequence[Mode]) -> ResidualVibration:
    """What is left of each mode: the one number by which amplitudes after the same stops differ with the shaper (k
    each), by least squares; all of it weighed by the modes' shares.

    The same move rings the same; shaped, every mode by the same complex factor, whatever the move. Where noise alone
    would show as much, its part is taken off (amplitudes are lengths, and never below 0). The machine on its feet rings
    along, and does not count.
    """
    by_mode: list[float | None] = []
    total = weights = variance = 0.0
    counts = {mode.frequency_hz for mode in in_print(modes)}
    for at, mode in enumerate(modes):
        before = np.array([one[at] for one, _ in unshaped])
        after = np.array([one[at] for one, _ in shaped])
        noise = float(np.mean([spread[at] ** 2 for _, spread in (*unshaped, *shaped)]))
        power = float(np.sum(np.abs(before) ** 2))
        if mode.frequency_hz not in counts or power < CLEAR**2 * noise * len(before):
            by_mode.append(None)
            continue
        factor = complex(np.vdot(before, after)) / power
        off = after - factor * before
        scatter = max(noise, float(np.sum(np.abs(off) ** 2)) / max(1, len(before) - 1))  # both parts of it together
        u2 = scatter / power
        fraction = math.sqrt(max(0.0, abs(factor) ** 2 - u2))
        by_mode.append(fraction)
        total, weights = total + abs(mode.modal_share) * fraction, weights + abs(mode.modal_share)
        variance += mode.modal_share**2 * u2
    if not weights:
        return ResidualVibration(math.nan, math.inf, tuple(by_mode))
    return ResidualVibration(total / weights, math.hypot(math.sqrt(variance) / weights, FORM), tuple(by_mode))
