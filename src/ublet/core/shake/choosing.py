"""Which shaper: each named one at its best for a frame, the optimised one beside them, and what is given up."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.shake.frame import Mode
from ublet.core.shake.mode_fit import main_mode
from ublet.core.shake.shapers import NAMED, ImpulseSequence, gentlest, named, optimised, residual, residuals

MARGIN = 0.9
"""Trains are made to leave no more than this share of the limit: the frame is known only so well."""

TRIED = 120
USEFUL = 0.5
"""A shaper that leaves more of the ringing than this is none."""

LONGEST_PERIODS = 3.0
OPTIMISED = "optimised"


@dataclass(frozen=True)
class Limits:
    """Residual ringing at the fitted frequencies (twice that when they drift), rounding in mm at an acceleration in
    mm/s², and the drift as a share.
    """

    residual: float = 0.05
    rounding_mm: float = 0.15
    drift: float = 0.1
    acceleration_mm_s2: float = 5000.0


@dataclass(frozen=True)
class ShaperCandidate:
    """A train under its name, for a frequency in Hz, with what it leaves: at the frame, and at worst when it drifts."""

    name: str
    frequency_hz: float
    impulses: ImpulseSequence
    residual: float
    drifted: float
    damping_ratio: float = 0.0

    @property
    def worst(self) -> float:
        """What it leaves, or half of what it leaves when the frame drifts: the larger, as limits weigh them."""
        return max(self.residual, self.drifted / 2)

    def keeps(self, limits: Limits) -> bool:
        """Whether it leaves little enough."""
        return self.residual <= limits.residual and self.drifted <= 2 * limits.residual

    def rounds(self, limits: Limits) -> float:
        """Its rounding, mm."""
        return self.impulses.rounding_mm(limits.acceleration_mm_s2)


@dataclass(frozen=True)
class ShaperChoice:
    """All shapers, and the one that is recommended, with the reason."""

    shapers: tuple[ShaperCandidate, ...]
    chosen: ShaperCandidate
    why: str


def judged(
    name: str,
    frequency_hz: float,
    impulses: ImpulseSequence,
    modes: Sequence[Mode],
    limits: Limits,
    damping_ratio: float = 0.0,
) -> ShaperCandidate:
    """A train held against a frame."""
    moved = max(residual(impulses, modes, direction * limits.drift) for direction in (-1, 1))
    return ShaperCandidate(name, frequency_hz, impulses, residual(impulses, modes), moved, damping_ratio)


def mean_damping(modes: Sequence[Mode]) -> float:
    """The damping of a frame's modes, weighed by their shares."""
    return sum(abs(mode.modal_share) * mode.damping_ratio for mode in modes) / sum(
        abs(mode.modal_share) for mode in modes
    )


def _worst_at(hz: Floats, one: ImpulseSequence, modes: Sequence[Mode], limits: Limits) -> Floats:
    """`Shaper.worst` of a train, given at 1 Hz, at each of n frequencies, Hz."""
    times = one.times[None, :] / hz[:, None]
    moved = np.maximum(*(residuals(times, one.amplitudes, modes, direction * limits.drift) for direction in (-1, 1)))
    return np.asarray(np.maximum(residuals(times, one.amplitudes, modes), moved / 2))


def best_named(name: str, modes: Sequence[Mode], limits: Limits) -> ShaperCandidate:
    """A named train at its best frequency: the highest at which it keeps the limits with a margin, which rounds least;
    else where it leaves least of them.
    """
    damping = mean_damping(modes)
    lowest, highest = min(mode.frequency_hz for mode in modes), max(mode.frequency_hz for mode in modes)
    hz = np.geomspace(0.7 * lowest, 1.4 * highest, TRIED)
    one = named(name, 1.0, damping)
    worst = _worst_at(hz, one, modes, limits)
    good = np.flatnonzero(worst <= limits.residual * MARGIN)
    best = int(good[-1]) if len(good) else int(np.argmin(worst))
    return judged(name, float(hz[best]), named(name, float(hz[best]), damping), modes, limits, damping)


def best_rounding(name: str, modes: Sequence[Mode], limits: Limits) -> ShaperCandidate | None:
    """A named train at the frequency at which it leaves least of those at which it rounds no more than it may; None: it
    leaves too much at all of them.
    """
    damping = mean_damping(modes)
    one = named(name, 1.0, damping)
    lowest = max(0.7 * min(mode.frequency_hz for mode in modes), _least_hz(one, limits))
    highest = max(1.4 * max(mode.frequency_hz for mode in modes), 1.1 * lowest)
    hz = np.geomspace(lowest, highest, TRIED)
    worst = _worst_at(hz, one, modes, limits)
    best = int(np.argmin(worst))
    if worst[best] > USEFUL:
        return None
    return judged(name, float(hz[best]), named(name, float(hz[best]), damping), modes, limits, damping)


def _least_hz(one: ImpulseSequence, limits: Limits) -> float:
    """The frequency at which a train, given at 1 Hz, rounds as much as it may; a hair above it."""
    return 1.0001 * math.sqrt(one.rounding_mm(limits.acceleration_mm_s2) / limits.rounding_mm)


def _under_rounding(
    shapers: Sequence[ShaperCandidate], modes: Sequence[Mode], limits: Limits, longest_s: float
) -> list[ShaperCandidate]:
    """Where no shaper keeps both limits: each as it leaves least within the rounding, or as it is where it cannot."""
    candidates = []
    for candidate in shapers:
        if candidate.name in NAMED and candidate.rounds(limits) > limits.rounding_mm:
            candidate = best_rounding(candidate.name, modes, limits) or candidate
        if candidate.name != OPTIMISED:
            candidates.append(candidate)
    impulses = gentlest(modes, 2 * limits.rounding_mm / limits.acceleration_mm_s2, limits.drift, longest_s)
    own = judged(OPTIMISED, main_mode(modes).frequency_hz, impulses, modes, limits) if impulses is not None else None
    if own is not None and own.worst <= USEFUL:
        candidates.append(own)
    else:
        candidates += [shaper for shaper in shapers if shaper.name == OPTIMISED]
    return candidates


@dataclass(frozen=True)
class Offer:
    """A point of what is to be had: rounding in mm, the least ringing left with it (or half of what is left when the
    frame drifts), and by which shaper.
    """

    rounding_mm: float
    left: float
    name: str


def to_be_had(modes: Sequence[Mode], limits: Limits, roundings_mm: Sequence[float]) -> tuple[Offer, ...]:
    """Ringing left against rounding: for each limit of the rounding the named shaper that leaves least within it."""
    offers = []
    for rounding in roundings_mm:
        at = replace(limits, rounding_mm=rounding)
        within = [offer for name in NAMED if (offer := best_rounding(name, modes, at)) is not None]
        if within:
            best = min(within, key=lambda offer: offer.worst)
            offers.append(Offer(rounding, best.worst, best.name))
    return tuple(offers)


def choose(modes: Sequence[Mode], limits: Limits) -> ShaperChoice:
    """Every shaper for a frame, and a recommendation: of those that keep both limits the one that rounds least; else of
    those that keep the rounding, each made for that, the one that leaves least.
    """
    shapers = [best_named(name, modes, limits) for name in NAMED]
    longest = LONGEST_PERIODS / min(mode.frequency_hz for mode in modes)
    impulses = optimised(modes, limits.residual * MARGIN, limits.drift, longest)
    if impulses is not None:
        shapers.append(judged(OPTIMISED, main_mode(modes).frequency_hz, impulses, modes, limits))
    both = [shaper for shaper in shapers if shaper.keeps(limits) and shaper.rounds(limits) <= limits.rounding_mm]
    if both:
        chosen = min(both, key=lambda offer: offer.impulses.spread_s2)
        return ShaperChoice(tuple(shapers), chosen, _why(chosen, shapers, limits))
    calm = [shaper for shaper in shapers if shaper.keeps(limits)]
    shapers = _under_rounding(shapers, modes, limits, longest)
    keeping = [shaper for shaper in shapers if shaper.rounds(limits) <= limits.rounding_mm]
    if keeping:
        chosen = min(keeping, key=lambda offer: offer.worst)
        why = (
            f"leaves {100 * chosen.residual:.1f} %, {100 * chosen.drifted:.1f} when the frame drifts; over the "
            f"vibration limit, to keep the rounding limit (no shaper keeps {100 * limits.residual:g} % and rounds at "
            f"most {limits.rounding_mm:g} mm at {limits.acceleration_mm_s2:g} mm/s²){_gentler(calm, limits)}"
        )
        return ShaperChoice(tuple(shapers), chosen, why)
    chosen = min(shapers, key=lambda offer: offer.impulses.spread_s2)
    why = (
        f"rounds least, {chosen.rounds(limits):.2f} mm; every shaper rounds more than {limits.rounding_mm:g} mm at "
        f"{limits.acceleration_mm_s2:g} mm/s²: accelerate at most at "
        f"{chosen.impulses.highest_mm_s2(limits.rounding_mm):.0f} mm/s²"
    )
    return ShaperChoice(tuple(shapers), chosen, why)


def _gentler(calm: Sequence[ShaperCandidate], limits: Limits) -> str:
    """The acceleration at which one that rings little enough rounds little enough, too."""
    if not calm:
        return ""
    least = min(calm, key=lambda offer: offer.impulses.spread_s2)
    most = least.impulses.highest_mm_s2(limits.rounding_mm)
    return f"; at no more than {most:.0f} mm/s² {least.name} keeps both"


def _why(chosen: ShaperCandidate, shapers: Sequence[ShaperCandidate], limits: Limits) -> str:
    calmer = min(shapers, key=lambda offer: offer.residual)
    why = (
        f"leaves {100 * chosen.residual:.1f} % ({100 * chosen.drifted:.1f} % drifted by {100 * limits.drift:.3g} %)"
        f"; least rounding within these limits, {chosen.rounds(limits):.3f} mm"
    )
    if calmer is not chosen and calmer.residual < chosen.residual - 0.005:
        why += f"; {calmer.name} would leave {100 * (chosen.residual - calmer.residual):.1f} percentage points less"
    return why
