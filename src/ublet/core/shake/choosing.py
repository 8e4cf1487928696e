"""Which shaper: each named one at its best for a frame, the optimised one beside them, and what is given up."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.shake.frame import Mode
from ublet.core.shake.mode_fit import main_mode
from ublet.core.shake.optimised import optimised
from ublet.core.shake.shapers import NAMED, Train, named, residual, residuals

MARGIN = 0.9
"""Trains are made to leave no more than this share of the limit: the frame is known only so well."""

TRIED = 120
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
class Shaper:
    """A train under its name, for a frequency in Hz, with what it leaves: at the frame, and at worst when it drifts."""

    name: str
    frequency_hz: float
    train: Train
    residual: float
    drifted: float
    damping_ratio: float = 0.0

    def keeps(self, limits: Limits) -> bool:
        """Whether it leaves little enough."""
        return self.residual <= limits.residual and self.drifted <= 2 * limits.residual

    def rounds(self, limits: Limits) -> float:
        """Its rounding, mm."""
        return self.train.rounding_mm(limits.acceleration_mm_s2)


@dataclass(frozen=True)
class Choice:
    """All shapers, and the one that is recommended, with the reason."""

    shapers: tuple[Shaper, ...]
    chosen: Shaper
    why: str


def judged(
    name: str, frequency_hz: float, train: Train, modes: Sequence[Mode], limits: Limits, damping_ratio: float = 0.0
) -> Shaper:
    """A train held against a frame."""
    moved = max(residual(train, modes, way * limits.drift) for way in (-1, 1))
    return Shaper(name, frequency_hz, train, residual(train, modes), moved, damping_ratio)


def mean_damping(modes: Sequence[Mode]) -> float:
    """The damping of a frame's modes, weighed by their shares."""
    return sum(abs(mode.share) * mode.damping_ratio for mode in modes) / sum(abs(mode.share) for mode in modes)


def best_named(name: str, modes: Sequence[Mode], limits: Limits) -> Shaper:
    """A named train at its best frequency: the highest at which it keeps the limits with a margin, which rounds least;
    else where it leaves least of them.
    """
    damping = mean_damping(modes)
    lowest, highest = min(mode.frequency_hz for mode in modes), max(mode.frequency_hz for mode in modes)
    hz = np.geomspace(0.7 * lowest, 1.4 * highest, TRIED)
    one = named(name, 1.0, damping)
    times = one.times[None, :] / hz[:, None]
    at_it = residuals(times, one.amplitudes, modes)
    moved = np.maximum(*(residuals(times, one.amplitudes, modes, way * limits.drift) for way in (-1, 1)))
    worst = np.maximum(at_it, moved / 2)
    good = np.flatnonzero(worst <= limits.residual * MARGIN)
    best = int(good[-1]) if len(good) else int(np.argmin(worst))
    return judged(name, float(hz[best]), named(name, float(hz[best]), damping), modes, limits, damping)


def choose(modes: Sequence[Mode], limits: Limits) -> Choice:
    """Every shaper for a frame, and a recommendation: of those that keep both limits the one that rounds least; else of
    those that keep the rounding the one that leaves least.
    """
    shapers = [best_named(name, modes, limits) for name in NAMED]
    longest = LONGEST_PERIODS / min(mode.frequency_hz for mode in modes)
    train = optimised(modes, limits.residual * MARGIN, limits.drift, longest)
    if train is not None:
        shapers.append(judged(OPTIMISED, main_mode(modes).frequency_hz, train, modes, limits))
    both = [each for each in shapers if each.keeps(limits) and each.rounds(limits) <= limits.rounding_mm]
    if both:
        chosen = min(both, key=lambda each: each.train.spread_s2)
        return Choice(tuple(shapers), chosen, _why(chosen, shapers, limits))
    keeping = [each for each in shapers if each.rounds(limits) <= limits.rounding_mm]
    if keeping:
        chosen = min(keeping, key=lambda each: max(each.residual, each.drifted / 2))
        why = (
            f"no shaper keeps {100 * limits.residual:g} % and rounds at most {limits.rounding_mm:g} mm at "
            f"{limits.acceleration_mm_s2:g} mm/s²: {chosen.name} leaves {100 * chosen.residual:.1f} %, "
            f"{100 * chosen.drifted:.1f} when the frame drifts; given up is calm"
        )
        return Choice(tuple(shapers), chosen, why)
    chosen = min(shapers, key=lambda each: each.train.spread_s2)
    why = (
        f"every shaper rounds more than {limits.rounding_mm:g} mm at {limits.acceleration_mm_s2:g} mm/s²: "
        f"{chosen.name} least, {chosen.rounds(limits):.2f} mm; accelerate at most at "
        f"{chosen.train.highest_mm_s2(limits.rounding_mm):.0f}"
    )
    return Choice(tuple(shapers), chosen, why)


def _why(chosen: Shaper, shapers: Sequence[Shaper], limits: Limits) -> str:
    calmer = min(shapers, key=lambda each: each.residual)
    why = (
        f"leaves {100 * chosen.residual:.1f} % ({100 * chosen.drifted:.1f} % drifted by {100 * limits.drift:.3g} %) "
        f"and rounds least of those that do, {chosen.rounds(limits):.3f} mm"
    )
    if calmer is not chosen and calmer.residual < chosen.residual - 0.005:
        why += f"; given up against {calmer.name}: {100 * (chosen.residual - calmer.residual):.1f} % of ringing"
    return why
