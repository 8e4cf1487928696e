"""The flow that an extruder and a hotend still deliver: from what went in at rising speeds to where 5 % falls short."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.motion.patterns import Stroke

SHORT = 0.05
"""At the flow limit so much falls short."""

LEAST_SHORT, MOST_SHORT = 0.004, 0.4
"""Shares that show how slip rises: less is lost in reading errors, more is no gradual slip."""

DRAWS = 400
LAW_FRACTION = 0.03
"""Slip rises by no power law where a motor gives out: the crossing may be off by this share, standard."""

MARGIN = 0.9
"""The largest flow that is proposed is this share of what is left of the limit at its lower end."""

COMMON = ((0.45, 0.2), (0.45, 0.28), (0.6, 0.3))
"""Common widths and heights of lines, mm."""


@dataclass(frozen=True)
class FlowStep:
    """One push: flow commanded, mm³/s; share of what was commanded that went in, relative to slow pushes; standard
    uncertainty of that share.
    """

    flow_mm3_s: float
    fed: float
    uncertainty: float

    @property
    def short(self) -> float:
        """The share that fell short."""
        return 1 - self.fed


@dataclass(frozen=True)
class FlowLimit:
    """Where 5 % falls short, mm³/s, with its standard uncertainty. sudden: it fell short all at once, as a motor does
    that stalls.
    """

    flow_mm3_s: float
    uncertainty: float
    sudden: bool = False

    @property
    def proposed_mm3_s(self) -> float:
        """The largest flow for prints: with a margin below what is sure."""
        return max(0.5, math.floor(MARGIN * (self.flow_mm3_s - 2 * self.uncertainty) * 10) / 10)


class NotReached(Exception):
    """No limit can be given; the message says why."""


def flow_limit(steps: Sequence[FlowStep]) -> FlowLimit:
    """The flow at which 5 % falls short: slip as a power of the flow, ``s = a q^m``, fitted to logarithms with weights
    by the readings; its uncertainty from the same fit to readings that are redrawn within their errors.

    Raises:
        NotReached: too few steps, or none fell short by as much.
    """
    ordered = sorted(steps, key=lambda step: step.flow_mm3_s)
    over = [number for number, step in enumerate(ordered) if step.short >= SHORT]
    if not over:
        most = ordered[-1].flow_mm3_s if ordered else 0.0
        raise NotReached(f"up to {most:.1f} mm³/s nothing falls short by {100 * SHORT:.0f} %")
    first = over[0]
    if first == 0:
        raise NotReached(f"{ordered[0].flow_mm3_s:.1f} mm³/s falls short already")
    low, high = ordered[first - 1], ordered[first]
    if high.short > MOST_SHORT and low.short < SHORT / 2:
        middle = (low.flow_mm3_s + high.flow_mm3_s) / 2
        return FlowLimit(middle, (high.flow_mm3_s - low.flow_mm3_s) / math.sqrt(12), sudden=True)
    flows, shorts, errors = (
        np.array([getattr(step, name) for step in ordered[: first + 2]])
        for name in ("flow_mm3_s", "short", "uncertainty")
    )
    random = np.random.default_rng(1)
    crossings = []
    for draw in range(DRAWS + 1):
        seen = shorts if draw == 0 else shorts + errors * random.standard_normal(len(shorts))
        crossing = _crossing(flows, seen, errors)
        if crossing is not None:
            crossings.append(crossing)
    if len(crossings) < DRAWS / 2:
        middle = (low.flow_mm3_s + high.flow_mm3_s) / 2
        return FlowLimit(middle, (high.flow_mm3_s - low.flow_mm3_s) / math.sqrt(12))
    spread = (float(np.percentile(crossings, 84)) - float(np.percentile(crossings, 16))) / 2
    return FlowLimit(crossings[0], math.hypot(spread, LAW_FRACTION * crossings[0]))


def _crossing(flows: np.ndarray, shorts: np.ndarray, errors: np.ndarray) -> float | None:
    """Where a power law through the shares reaches 5 %; None: too few show slip."""
    shows = (shorts > LEAST_SHORT) & (shorts < MOST_SHORT)
    if np.count_nonzero(shows) < 2:
        return None
    x, y = np.log(flows[shows]), np.log(shorts[shows])
    weight = (shorts[shows] / np.maximum(errors[shows], 1e-4)) ** 2
    weight = weight / (1 + weight / 400)  # no reading outweighs the law itself
    mean = float((weight * x).sum() / weight.sum())
    spread = float((weight * (x - mean) ** 2).sum())
    if spread <= 0:
        return None
    level = float((weight * y).sum() / weight.sum())
    slope = float((weight * (x - mean) * (y - level)).sum()) / spread
    if slope < 0.5:
        return None
    at = math.exp(mean + (math.log(SHORT) - level) / slope)
    return at if flows[0] / 2 < at < 2 * flows[-1] else None


def speeds_words(flow_mm3_s: float) -> str:
    """What a flow means for common lines: the speed at each width and height."""
    speeds = []
    for width, height in COMMON:
        section = Stroke(width, height).section_mm2
        speeds.append(f"{flow_mm3_s / section:.0f} mm/s at {width:g} x {height:g} mm")
    return ", ".join(speeds)


def gain_per_10_c(first: FlowLimit, second: FlowLimit, warmer_c: float) -> tuple[float, float]:
    """What 10 °C more add to the limit, mm³/s, and its standard uncertainty."""
    times = 10 / warmer_c
    return (
        (second.flow_mm3_s - first.flow_mm3_s) * times,
        math.hypot(first.uncertainty, second.uncertainty) * abs(times),
    )
