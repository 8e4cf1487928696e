"""Lifts: what each must do so that the bed is square to the frame, and what is wrong when that does not come out."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Point
from ublet.core.level.surface import Shape, fit_surface
from ublet.core.words import several

VISIBLE_MM, VISIBLE_U = 0.03, 4.0
"""From so large a correction on it is seen whether a lift did what it was commanded, mm; and from so many times the
error of a height.
"""

UNLIKELY = 3
"""A lift that runs backwards counts as so many changes: with it Z would hardly have homed."""

TRUSTED = 0.08
"""A lift goes so far as commanded within this share of it, once it was proven."""

STIFFEST, SOFTEST = 0.25, 1.1
"""Shares of a twist that a frame on four lifts gives way to."""

APART = 0.35
"""Corrections of two lifts differ by this fraction of the largest, where they are to prove which lift is which."""

OFF_FRACTION = 0.18
"""What a lift did may be off by this share of what it was commanded, and still be the same."""

DOUBLE, HALF = 2.0, 0.5
FOUR = 4


def shape_for(lifts: int) -> Shape:
    """Two lifts carry a line, three a plane, four a twisted plane."""
    return "line" if lifts == 2 else "plane" if lifts == 3 else "twisted"


@dataclass(frozen=True)
class LiftHeights:
    """How the bed stands at the lifts: its height at each pivot over their mean, mm, and the standard uncertainty of
    each. repeats_mm: the part of it that repeating makes smaller. twist: the pattern of a twist over four lifts, of
    length 1 (none of fewer): no plane has any of it.
    """

    heights: Mapping[str, float]
    uncertainty_mm: float
    repeats_mm: float
    twist: Mapping[str, float]

    @property
    def range_mm(self) -> float:
        """Between the highest and the lowest."""
        return max(self.heights.values()) - min(self.heights.values())

    @property
    def range_u_mm(self) -> float:
        """Standard uncertainty of the range: of a difference of two heights."""
        return math.sqrt(2) * self.uncertainty_mm


def standing_of(
    pivots: Mapping[str, Point],
    places: Sequence[Point],
    heights_mm: Sequence[float],
    height_u_mm: float,
    repeats_u_mm: float = 0.0,
) -> LiftHeights:
    """The bed at the pivots of its lifts, by a surface through touched places.

    height_u_mm: standard uncertainty of each touched height; repeats_u_mm: the part of it that is new at each touch.
    """
    surface = fit_surface(places, heights_mm, shape_for(len(pivots)))
    pivot_heights = {name: surface.at(pivot) for name, pivot in pivots.items()}
    mean = sum(pivot_heights.values()) / len(pivot_heights)
    worst = max(surface.uncertainty_at(pivot, 1.0) for pivot in pivots.values())
    heights = {name: height - mean for name, height in pivot_heights.items()}
    return LiftHeights(heights, worst * height_u_mm, worst * repeats_u_mm, _twist_of(pivots))


def blended(
    before: LiftHeights, commanded: Mapping[str, float], after: LiftHeights, follows: float = 1.0
) -> LiftHeights:
    """What both rounds show together: where the bed should stand after what the lifts were commanded, weighed with
    where it was touched (Kalman 1960). Lifts are trusted to a share of what they are commanded.
    """
    stiff = (1 - follows) * _along(commanded, before.twist)
    commanded_mm = {name: mm - stiff * before.twist.get(name, 0.0) for name, mm in commanded.items()}
    moved = TRUSTED * max(abs(mm) for mm in commanded.values())
    guess, seen = before.repeats_mm**2 + moved**2, after.repeats_mm**2
    fraction = guess / (guess + seen) if guess + seen > 0 else 1.0
    heights = {
        name: (1 - fraction) * (before.heights[name] - commanded_mm[name]) + fraction * height
        for name, height in after.heights.items()
    }
    repeats = fraction * seen
    rest = max(0.0, after.uncertainty_mm**2 - seen)
    return LiftHeights(heights, math.sqrt(rest + repeats), math.sqrt(repeats), after.twist)


def _twist_of(pivots: Mapping[str, Point]) -> dict[str, float]:
    """The pattern over four pivots that no plane can have."""
    if len(pivots) < FOUR:
        return {}
    places = list(pivots.values())
    left = fit_surface(places, [x * y for x, y in places]).left
    size = float(np.sqrt(np.sum(left**2)))
    return {name: float(height) / size for name, height in zip(pivots, left, strict=True)} if size > 0 else {}


def _along(values: Mapping[str, float], pattern: Mapping[str, float]) -> float:
    return sum(values[name] * fraction for name, fraction in pattern.items())


def corrections(standing: LiftHeights, most_mm: float, gives_way: float = 1.0) -> dict[str, float]:
    """How far each lift opens its gap, mm: by what its side stands too high. All by the same share, where one would go
    further than ``most_mm``; the mean stays, so that the nozzle keeps its distance.

    gives_way: share of a twist that the frame follows; the lifts go so much further for the rest.
    """
    further = (1 / gives_way - 1) * _along(standing.heights, standing.twist)
    wanted = {name: mm + further * standing.twist.get(name, 0.0) for name, mm in standing.heights.items()}
    largest = max(abs(mm) for mm in wanted.values())
    fraction = min(1.0, most_mm / largest) if largest > 0 else 1.0
    return {name: mm * fraction for name, mm in wanted.items()}


def spread_apart(commanded: Mapping[str, float]) -> dict[str, float]:
    """Corrections that differ from one another by at least ``APART`` of the largest, with the same mean: of two lifts
    that were to do the same nobody could say which of them did it.
    """
    order = sorted(commanded, key=lambda name: commanded[name])
    least = APART * max(abs(mm) for mm in commanded.values())
    moves = dict(commanded)
    for lower, upper in itertools.pairwise(order):
        moves[upper] = max(moves[upper], moves[lower] + least)
    mean = (sum(moves.values()) - sum(commanded.values())) / len(commanded)
    return {name: moves[name] - mean for name in commanded}


def gives_way(commanded: Mapping[str, float], before: LiftHeights, after: LiftHeights, known: float = 1.0) -> float:
    """The share of a twist that a frame on four lifts followed; what is known already where the move did not show."""
    asked = _along(commanded, before.twist)
    if abs(asked) < VISIBLE_U * max(before.uncertainty_mm, after.uncertainty_mm):
        return known
    return min(SOFTEST, max(STIFFEST, _along(_moved(before, after), before.twist) / asked))


@dataclass(frozen=True)
class Fault:
    """What explains a wrong answer of the lifts. exchanged: each lift whose motor is on another one's driver, and that
    one; reversed: they run backwards; times: all go so many times as far as commanded. words: a sentence.
    """

    exchanged: tuple[tuple[str, str], ...]
    reversed: tuple[str, ...]
    times: float
    words: str


def visible(commanded: Mapping[str, float], before: LiftHeights, after: LiftHeights) -> bool:
    """Whether the lifts were commanded to go far enough for the bed's answer to say whether they did."""
    u = max(before.uncertainty_mm, after.uncertainty_mm)
    return max(abs(mm) for mm in commanded.values()) >= max(VISIBLE_MM, VISIBLE_U * u)


def answered(commanded: Mapping[str, float], before: LiftHeights, after: LiftHeights) -> bool:
    """Whether the bed did what the lifts were commanded, as far as can be seen."""
    return _misses(commanded, before, after) <= _allowed(commanded, before, after)


def fault_of(commanded: Mapping[str, float], before: LiftHeights, after: LiftHeights) -> Fault | None:
    """The simplest wiring that explains how the bed moved: lifts that run backwards, that are on each other's drivers,
    that go twice or half as far. None: nothing does, or several do as simply.

    Every signed exchange is tried against what was commanded; the fewest changes that leave no more than the error of
    measuring win.
    """
    if not visible(commanded, before, after):
        return None
    names = tuple(commanded)
    candidates: list[tuple[int, float, Fault]] = []
    for order in itertools.permutations(names):
        for signs in itertools.product((1.0, -1.0), repeat=len(names)):
            for times in (1.0, DOUBLE, HALF):
                wrong = sum(a != b for a, b in zip(names, order, strict=True))
                turned = tuple(name for name, sign in zip(names, signs, strict=True) if sign < 0)
                backwards = UNLIKELY * (1 if len(turned) == len(names) else len(turned))
                changes = wrong - len(_cycles(names, order)) + backwards + (2 if times != 1.0 else 0)
                if not changes:
                    continue
                would = {
                    name: times * sign * commanded[other] for name, other, sign in zip(names, order, signs, strict=True)
                }
                missed = _misses(would, before, after)
                if missed <= _allowed(commanded, before, after) * max(1.0, times):
                    moved = tuple((a, b) for a, b in zip(names, order, strict=True) if a != b)
                    words = _words(_cycles(names, order), turned, times, names)
                    candidates.append((changes, missed, Fault(moved, turned, times, words)))
    if not candidates:
        return None
    fewest = min(changes for changes, _, _ in candidates)
    best = sorted((missed, n) for n, (changes, missed, _) in enumerate(candidates) if changes == fewest)
    if len(best) > 1 and best[1][0] < 2 * best[0][0] + before.uncertainty_mm:
        sure = {candidates[n][2].words for missed, n in best if missed < 2 * best[0][0] + before.uncertainty_mm}
        if len(sure) > 1:
            return Fault((), (), 1.0, f"either {' or '.join(sorted(sure))}") if len(sure) == 2 else None
    return candidates[best[0][1]][2]


def _moved(before: LiftHeights, after: LiftHeights) -> dict[str, float]:
    """How far the gap opened at each pivot, over their mean, mm."""
    return {name: height - after.heights[name] for name, height in before.heights.items()}


def _misses(would: Mapping[str, float], before: LiftHeights, after: LiftHeights) -> float:
    """The largest difference between what would have been and what was, both over their means, mm; what a stiff frame
    did not follow of a twist is no difference.
    """
    moved, mean = _moved(before, after), sum(would.values()) / len(would)
    off = {name: would[name] - mean - moved[name] for name in moved}
    twisted = _along(off, before.twist)
    return max(abs(mm - twisted * before.twist.get(name, 0.0)) for name, mm in off.items())


def _allowed(commanded: Mapping[str, float], before: LiftHeights, after: LiftHeights) -> float:
    largest = max(abs(mm) for mm in commanded.values())
    return OFF_FRACTION * largest + 3 * math.hypot(before.uncertainty_mm, after.uncertainty_mm)


def _cycles(names: Sequence[str], order: Sequence[str]) -> tuple[tuple[str, ...], ...]:
    """The rings of a permutation that are longer than one: each motor is on the driver of the next, the last on that of
    the first.
    """
    on, left, cycles = dict(zip(names, order, strict=True)), set(names), []
    for name in names:
        ring = []
        while name in left:
            left.remove(name)
            ring.append(name)
            name = on[name]
        if len(ring) > 1:
            cycles.append(tuple(ring))
    return tuple(cycles)


def _words(rings: Sequence[tuple[str, ...]], turned: Sequence[str], times: float, names: Sequence[str]) -> str:
    said = []
    for ring in rings:
        if len(ring) == 2:
            said.append(f"{ring[0]} and {ring[1]} are on each other's drivers")
        else:
            steps = [f"{a} is on the driver of {b}" for a, b in zip(ring, (*ring[1:], ring[0]), strict=True)]
            said.append(f"the motors are plugged in a ring: {several(steps)}")
    if turned and len(turned) == len(names):
        said.append("all lifts run backwards")
    elif turned:
        said.append(f"{several(turned)} {'run' if len(turned) > 1 else 'runs'} backwards")
    if times != 1.0:
        said.append(f"every lift moves {'twice' if times > 1 else 'half'} the commanded distance")
    return " and ".join(said)
