"""Lengths read by people: instruments with their errors, and what repeated readings show."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

Instrument = Literal["rule", "callipers", "dial-gauge"]


@dataclass(frozen=True)
class Errors:
    """Half-widths of an instrument's error, mm, errors within equally likely: a part that is new at each placing, and a
    part that is the same every time (its scale, its zero, the eye that reads it).
    """

    placing_mm: float
    common_mm: float

    def placed(self, times: int) -> Errors:
        """The errors of a length for which it was placed so often, each time anew: their variances add."""
        return self if times == 1 else Errors(self.placing_mm * math.sqrt(times), self.common_mm)

    @property
    def largest_mm(self) -> float:
        """The largest error of one reading."""
        return self.placing_mm + self.common_mm


INSTRUMENTS: dict[Instrument, Errors] = {
    "rule": Errors(0.3, 0.3),
    "callipers": Errors(0.03, 0.03),
    "dial-gauge": Errors(0.005, 0.008),
}

REACH_MM: dict[Instrument, float] = {"rule": 300.0, "callipers": 150.0, "dial-gauge": 10.0}
"""The longest travel that each can read, mm."""

STUTTERS = 3.0
"""Readings that scatter so many times more than their instrument explains come from the machine."""


@dataclass(frozen=True)
class Length:
    """What n readings of the same length show: their mean, sample deviation, and the standard uncertainty that placing
    and the machine's scatter leave in the mean, in mm. Only that gets better by repeating; what is common to all
    readings of an instrument stays.
    """

    count: int
    mean_mm: float
    deviation_mm: float
    placing_u_mm: float
    errors: Errors
    machine_mm: float = 0.0
    """How far a sound machine scatters by itself, standard."""

    @property
    def uncertainty_mm(self) -> float:
        """Standard uncertainty of the mean, with what is common to all readings."""
        return math.hypot(self.placing_u_mm, self.errors.common_mm / math.sqrt(3))

    @property
    def stutters(self) -> bool:
        """Whether the readings scatter more than placing and a sound machine explain: it does not repeat."""
        explained = math.hypot(self.errors.placing_mm / math.sqrt(3), self.machine_mm)
        return self.count > 1 and self.deviation_mm > STUTTERS * explained


def length_of(
    readings_mm: Sequence[float], instrument: Instrument, placings: int = 1, machine_mm: float = 0.0
) -> Length:
    """Mean of repeated readings and its standard uncertainty. placings: how often the instrument was placed for each;
    machine_mm: how far a sound machine scatters by itself, standard: few readings may hide that.

    ``u^2 = common^2/3 + (placing^2/3 + machine scatter^2) / n`` for errors uniform in ± a half-width, each of
    ``a / sqrt(3)`` (GUM, JCGM 100:2008, 4.3.7). Scatter beyond placing is the machine's; within it, it is not counted
    twice.

    Raises:
        ValueError: no readings.
    """
    count = len(readings_mm)
    if not count:
        raise ValueError("no readings")
    errors = INSTRUMENTS[instrument].placed(placings)
    mean = sum(readings_mm) / count
    deviation = math.sqrt(sum((r - mean) ** 2 for r in readings_mm) / (count - 1)) if count > 1 else 0.0
    placing = errors.placing_mm**2 / 3
    machine = max(machine_mm**2, deviation**2 - placing)
    return Length(count, mean, deviation, math.sqrt((placing + machine) / count), errors, machine_mm)
