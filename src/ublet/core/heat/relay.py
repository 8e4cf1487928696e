"""Relay oscillation: cycles found in a record, and the ultimate gain and period they show."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ublet.core.arrays import Floats

SETTLED = 0.02
"""Period and amplitude have settled when the last cycles agree within this share."""

AGREEING = 3
"""How many cycles in a row must agree."""


@dataclass(frozen=True)
class Cycle:
    """One relay cycle, from one switching-on to the next. Times in s, temperatures in °C.

    mean_duty is what holds this temperature: the mean over the cycle, whatever the levels did.
    """

    start_s: float
    period_s: float
    top_c: float
    bottom_c: float
    on_duty: float
    off_duty: float
    on_fraction: float
    mean_duty: float

    @property
    def amplitude_c(self) -> float:
        """Half of peak to peak."""
        return (self.top_c - self.bottom_c) / 2


def smooth(values: Floats, width: int) -> Floats:
    """Moving mean over an odd number of samples; the ends use what there is."""
    kernel = np.ones(width)
    return np.asarray(np.convolve(values, kernel, "same") / np.convolve(np.ones_like(values), kernel, "same"))


def find_cycles(time_s: Floats, duty: Floats, celsius: Floats) -> list[Cycle]:
    """Whole relay cycles in a record that starts with the climb (the climb itself is not a cycle).

    Args:
        time_s, duty, celsius: n samples; duty switches between an upper and a lower level that may
            change from cycle to cycle.
    """
    if len(duty) < 3:
        return []
    rises = [int(i) + 1 for i in np.flatnonzero(np.diff(duty) > 1e-6)]
    # the record may begin while off: the first rise is the climb's start, not a cycle's
    falls = [int(i) + 1 for i in np.flatnonzero(np.diff(duty) < -1e-6)]
    if not falls:
        return []
    rises = [at for at in rises if at > falls[0]]
    calm = smooth(celsius, 5)
    cycles = []
    for first, last in pairwise(rises):
        part = duty[first:last]
        on, off = float(part.max()), float(part.min())
        if on - off < 1e-6:
            continue
        span = float(time_s[last] - time_s[first])
        held = np.diff(time_s[first : last + 1])
        fraction = float(np.sum(held[part > (on + off) / 2])) / span
        mean = float(np.sum(held * part)) / span
        # the top comes after switching off: look for it within the cycle
        window = calm[first : last + 1]
        cycles.append(
            Cycle(float(time_s[first]), span, float(window.max()), float(window.min()), on, off, fraction, mean)
        )
    return cycles


def same_levels(cycles: Sequence[Cycle]) -> list[Cycle]:
    """The last cycles driven with the same two duties, without the first of them.

    The first cycle after the climb, or after the duties changed, still carries what was before it.
    """
    if not cycles:
        return []
    last = cycles[-1]
    kept: list[Cycle] = []
    for cycle in reversed(cycles):
        if abs(cycle.on_duty - last.on_duty) + abs(cycle.off_duty - last.off_duty) > 1e-6:
            break
        kept.append(cycle)
    return kept[::-1][1:]


def spread(cycles: Sequence[Cycle]) -> float:
    """Relative half-range of period or amplitude, whichever is larger, over the last AGREEING cycles."""
    if len(cycles) < AGREEING:
        return math.inf
    last = cycles[-AGREEING:]
    worst = 0.0
    for values in ([c.period_s for c in last], [c.amplitude_c for c in last]):
        worst = max(worst, (max(values) - min(values)) / 2 / (sum(values) / len(values)))
    return worst


@dataclass(frozen=True)
class Ultimate:
    """Ultimate gain (duty per °C) and period (s), with standard uncertainties over the cycles."""

    gain: float
    period_s: float
    gain_u: float
    period_u_s: float
    amplitude_c: float
    cycles: int


def ultimate(cycles: Sequence[Cycle], hysteresis_c: float) -> Ultimate:
    """Ku and Tu from cycles (Åström & Hägglund 1984).

    ``Ku = 4 d sin(pi f) / (pi sqrt(a^2 - eps^2))`` with half-swing d of the relay, share f of the
    cycle spent on (the fundamental of an asymmetric rectangular wave; 1 when on and off are equal),
    amplitude a and hysteresis eps.

    Raises:
        ValueError: no cycles, or an amplitude that does not exceed the hysteresis.
    """
    if not cycles:
        raise ValueError("no whole relay cycle was recorded")
    gains, periods, amplitudes = [], [], []
    for cycle in cycles:
        inner = cycle.amplitude_c**2 - hysteresis_c**2
        if inner <= 0:
            raise ValueError(
                f"the amplitude of {cycle.amplitude_c:.2f} °C up and down is not larger than "
                f"the relay's hysteresis of {hysteresis_c:g} °C"
            )
        half = (cycle.on_duty - cycle.off_duty) / 2
        gains.append(4 * half * math.sin(math.pi * cycle.on_fraction) / (math.pi * math.sqrt(inner)))
        periods.append(cycle.period_s)
        amplitudes.append(cycle.amplitude_c)
    root = math.sqrt(len(cycles))
    return Ultimate(
        float(np.mean(gains)),
        float(np.mean(periods)),
        float(np.std(gains, ddof=1)) / root if len(cycles) > 1 else float(gains[0]) * 0.1,
        float(np.std(periods, ddof=1)) / root if len(cycles) > 1 else float(periods[0]) * 0.1,
        float(np.mean(amplitudes)),
        len(cycles),
    )


def balanced_levels(hold_duty: float, limit: float) -> tuple[float, float]:
    """Upper and lower duty around the one that holds, so that on and off last about as long.

    The swing is as large as 0..``limit`` allows: ``u0 ± min(u0, limit - u0)``, at least ±0.05.
    """
    half = max(0.05, min(hold_duty, limit - hold_duty))
    return min(limit, hold_duty + half), max(0.0, hold_duty - half)
