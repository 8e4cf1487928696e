"""Ringing read off a printed part: ripples counted over a distance that was printed at a speed."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

READ_MM, PLACED = 0.05, 0.12
"""Callipers beside a lens: a distance is read within so much, half-width, mm; and where a ripple begins is seen within
this share of it, standard, at both ends.
"""

MOST_RIPPLES, MOST_MM, MOST_MM_S = 1000.0, 2000.0, 5000.0
LEAST_HZ, MOST_HZ = 1.0, 1000.0

SURE = 3.0


@dataclass(frozen=True)
class Rippled:
    """A frequency in Hz with its standard uncertainty, and what contradicts itself: as sentences, and which rows (from
    0) stand out.
    """

    frequency_hz: float
    frequency_u: float
    problems: tuple[str, ...]
    odd: tuple[int, ...] = ()


def frequency_of(rows: Sequence[tuple[float, float, float]], names: Sequence[str] = ()) -> Rippled:
    """From ripples, distance (mm) and speed (mm/s) of each band: ``f = v n / D``, the mean by their uncertainties;
    where bands differ by more than these, the scatter counts (Birge 1932), and those that stand out are named, by their
    number or by a name that is given.

    Raises:
        ValueError: no band, or one without ripples, distance or speed.
    """
    each: list[tuple[float, float]] = []
    for number, (ripples, distance, speed) in enumerate(rows, start=1):
        if ripples <= 0 or distance <= 0 or speed <= 0:
            raise ValueError(f"band {number}: ripples, distance and speed must be above 0")
        if not (ripples <= MOST_RIPPLES and distance <= MOST_MM and speed <= MOST_MM_S):
            raise ValueError(
                f"band {number}: no print is like that; up to {MOST_RIPPLES:g} ripples over {MOST_MM:g} mm at "
                f"{MOST_MM_S:g} mm/s"
            )
        if not LEAST_HZ <= speed * ripples / distance <= MOST_HZ:
            made = f"that makes {speed * ripples / distance:.3g} Hz"
            raise ValueError(
                f"band {number}: {made}; a frame rings between {LEAST_HZ:g} and {MOST_HZ:g}: look at the columns"
            )
        hz = speed * ripples / distance
        each.append((hz, hz * math.hypot(READ_MM / math.sqrt(3) / distance, math.sqrt(2) * PLACED / ripples)))
    if not each:
        raise ValueError("no band was read")
    weights = [1 / u**2 for _, u in each]
    mean = sum(w * hz for w, (hz, _) in zip(weights, each, strict=True)) / sum(weights)
    left = sum(((hz - mean) / u) ** 2 for hz, u in each)
    wider = max(1.0, left / (len(each) - 1)) if len(each) > 1 else 1.0
    odd, problems = [], []
    for at, (hz, u) in enumerate(each):
        others = [other for n, other in enumerate(each) if n != at]
        if not others:
            continue
        usual, usual_u = (statistics.median(part) for part in zip(*others, strict=True))
        if abs(hz - usual) > SURE * math.hypot(u, usual_u / math.sqrt(len(others))):
            odd.append(at)
            name = names[at] if names else f"band {at + 1}"
            problems.append(f"{name} says {hz:.1f} Hz, the others {usual:.1f}: count it again")
    return Rippled(mean, math.sqrt(wider / sum(weights)), tuple(problems), tuple(odd))
