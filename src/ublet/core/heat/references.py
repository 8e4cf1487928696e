"""Sensor curves against each other and against a reference thermometer: errors and likelihood."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.heat.curves import GENERIC, Platinum, SensorCurve, Thermistor, divider_ohm

CHECKED_C = (25.0, 60.0, 100.0, 215.0)
"""Temperatures at which the error of a wrong curve is given, °C."""

PLATINUM_R0_OHM = (100.0, 1000.0)


def catalogue(pullup_ohm: float) -> dict[str, SensorCurve]:
    """The generic curves behind a pull-up, by name."""
    curves: dict[str, SensorCurve] = {name: Thermistor(r25, beta, pullup_ohm) for name, (r25, beta) in GENERIC.items()}
    curves.update({f"platinum-{r0:g}": Platinum(r0, pullup_ohm) for r0 in PLATINUM_R0_OHM})
    return curves


def shown_for(own: SensorCurve, true: SensorCurve, celsius: float) -> float | None:
    """What a sensor of the curve ``true`` shows at a temperature when it is read by the curve ``own``, °C; None at a
    rail or outside the curve.
    """
    try:
        return own.celsius(true.ratio(celsius))
    except (ValueError, ZeroDivisionError, OverflowError):
        return None


def errors(
    own: SensorCurve, pullup_ohm: float, at_c: Sequence[float] = CHECKED_C
) -> dict[str, tuple[float | None, ...]]:
    """For each catalogue curve, by how much the reading would be wrong at some temperatures if the sensor were of that
    curve, °C (positive: it shows too much).
    """
    by_curve = {}
    for name, curve in catalogue(pullup_ohm).items():
        shown = [shown_for(own, curve, celsius) for celsius in at_c]
        by_curve[name] = tuple(None if s is None else s - t for s, t in zip(shown, at_c, strict=True))
    return by_curve


@dataclass(frozen=True)
class Reference:
    """A reading beside a reference thermometer: what that says, and what the sensor showed, °C."""

    true_c: float
    shown_c: float


@dataclass(frozen=True)
class Likely:
    """A catalogue curve and how well it explains the readings: the largest difference, and odds against the best."""

    name: str
    worst_c: float
    odds: float


def likeliest(
    own: SensorCurve, pullup_ohm: float, references: Sequence[Reference], error_c: float
) -> tuple[Likely, ...]:
    """Catalogue curves, the likeliest first, for readings whose standard uncertainty is ``error_c``.

    Normal errors: ``odds = exp(-(chi^2 - chi^2 of the best) / 2)``.
    """
    scored = []
    for name, curve in catalogue(pullup_ohm).items():
        off = [shown_for(own, curve, reference.true_c) for reference in references]
        if any(shown is None for shown in off):
            continue
        apart = [(s or 0.0) - reference.shown_c for s, reference in zip(off, references, strict=True)]
        scored.append((sum((a / error_c) ** 2 for a in apart), max(abs(a) for a in apart), name))
    scored.sort()
    return tuple(Likely(name, worst, math.exp(max(-700.0, (scored[0][0] - chi) / 2))) for chi, worst, name in scored)


def ohm_of(own: SensorCurve, shown_c: float, pullup_ohm: float) -> float:
    """The resistance behind a reading, ohm."""
    return divider_ohm(own.ratio(shown_c), pullup_ohm)


def resolution_c(own: SensorCurve, celsius: float, counts: int) -> float:
    """Degrees to one count of the ADC at a temperature, °C: by the curve's slope there."""
    here = 0.05
    slope = (own.ratio(celsius + here) - own.ratio(celsius - here)) / (2 * here)
    return abs(1 / (slope * counts))
