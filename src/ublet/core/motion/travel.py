"""Where an axis can go, from marks: the bed's corner, and the far edge; the limits that follow."""

from __future__ import annotations

import math
from dataclasses import dataclass

EDGE_MM = 0.5
"""Kept between a marked edge and the soft limit, mm."""

EYE_MM = 0.3
"""A place judged by eye is right to within this, mm."""

STEP_MM = 0.1
"""Limits are given in steps of this, mm."""


@dataclass(frozen=True)
class Reach:
    """An axis's limits by its marks, mm from the bed's corner; low and high are what to declare.

    shift_mm: how far the declared zero is from the bed's corner.
    """

    low: float
    high: float
    shift_mm: float


def reach_of(low_now: float, high_now: float, homes_low: bool, corner_mm: float, edge_mm: float) -> Reach:
    """The limits of an axis from where it stood, as it counts, over the bed's corner and at its far edge.

    Homing sets the limit at the homed end, so that moving the zero to the corner moves that limit by the corner's
    reading the other way; the far edge counts from the corner, less :data:`EDGE_MM`.
    """
    if homes_low:
        low = round(low_now - corner_mm, 2)
        high = _down(edge_mm - corner_mm - EDGE_MM)
    else:
        high = round(high_now - corner_mm, 2)
        low = -_down(-(edge_mm - corner_mm + EDGE_MM))
    return Reach(low, high, corner_mm)


def _down(mm: float) -> float:
    return round(math.floor(mm / STEP_MM + 1e-9) * STEP_MM, 2)


def bed_reached(low: float, high: float, bed_mm: float) -> float:
    """How much of the bed's width or depth the nozzle reaches, mm."""
    return max(0.0, min(high, bed_mm) - max(low, 0.0))
