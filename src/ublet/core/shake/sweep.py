"""The excitation: a sine that sweeps through the frequencies, at an acceleration that grows with the frequency."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.recorded import RecordError

AXES = ("x", "y", "x+y", "x-y")
COMMENT = re.compile(r"sweep\s*:\s*(.*)", re.IGNORECASE)
FORM = "# sweep: axis from_hz to_hz duration_s acceleration_per_hz_m_s2"


@dataclass(frozen=True)
class Sweep:
    """From one frequency to another, Hz, in so many seconds, at so many m/s² a Hz, along an axis (x, y, x+y, x-y)."""

    axis: str
    from_hz: float
    to_hz: float
    duration_s: float
    per_hz_m_s2: float

    @property
    def rate_hz_s(self) -> float:
        """How fast the frequency rises."""
        return (self.to_hz - self.from_hz) / self.duration_s

    def at(self, time_s: Floats) -> Floats:
        """Commanded acceleration at n times (s), m/s²: ``A f sin(2 pi (f0 t + r t^2 / 2))``, ``f = f0 + r t``; 0 before
        and after.
        """
        inside = (time_s >= 0) & (time_s <= self.duration_s)
        hz = self.from_hz + self.rate_hz_s * time_s
        phase = 2 * math.pi * (self.from_hz * time_s + self.rate_hz_s * time_s**2 / 2)
        return np.where(inside, self.per_hz_m_s2 * hz * np.sin(phase), 0.0)


MOST_HZ, MOST_S, MOST_PER_HZ = 2000.0, 3600.0, 100.0


def sweep_in(comments: tuple[str, ...], name: str) -> Sweep | None:
    """The sweep that a record's comments describe; None: they describe none.

    Raises:
        RecordError: an impossible one is described.
    """
    for comment in comments:
        match = COMMENT.match(comment.strip())
        if match is None:
            continue
        words = match[1].split()
        if len(words) != 5 or words[0].lower() not in AXES:
            raise RecordError(f"{name}: “# {comment}” is no sweep; it reads {FORM}, the axis one of {', '.join(AXES)}.")
        try:
            low, high, seconds, per_hz = (float(word) for word in words[1:])
        except ValueError:
            raise RecordError(f"{name}: “# {comment}”: four numbers are needed behind the axis: {FORM}.") from None
        if not (0 < low < high and seconds > 0 and per_hz > 0):
            raise RecordError(f"{name}: “# {comment}”: 0 < from_hz < to_hz, and a duration and an amplitude above 0.")
        if not (high <= MOST_HZ and seconds <= MOST_S and per_hz <= MOST_PER_HZ):
            raise RecordError(
                f"{name}: “# {comment}”: no machine is swept like that; up to {MOST_HZ:g} Hz, {MOST_S:g} s and "
                f"{MOST_PER_HZ:g} m/s² per Hz."
            )
        return Sweep(words[0].lower(), low, high, seconds, per_hz)
    return None
