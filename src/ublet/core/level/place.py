"""Where the probe sits seen from the nozzle, from placings of both over one dot: mean, uncertainty, words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.level.scatter import deviation_of, scatter_beyond
from ublet.core.level.surface import Place

EYE_MM, EYE_COMMON_MM = 0.2, 0.08
"""A tip is put over a dot within this each time, and looked at askew by this every time; half-widths, mm."""

PLACINGS = 2
"""The nozzle is placed and the probe is."""


@dataclass(frozen=True)
class Sits:
    """Where the probe sits, to the right of and behind the nozzle, mm, with standard uncertainties."""

    x_mm: float
    y_mm: float
    x_u_mm: float
    y_u_mm: float


def sits(nozzle: Sequence[Place], probe: Sequence[Place]) -> Sits:
    """``offset = nozzle position - probe position`` over the same dot (handbook, section 5), the mean of n pairs.

    ``u^2 = common^2/3 + s^2/n`` with s the larger of what the eye explains, ``eye sqrt(2/3)``, and of scatter that is
    clearly beyond it.

    Raises:
        ValueError: no pairs, or not as many of one as of the other.
    """
    if not nozzle or len(nozzle) != len(probe):
        raise ValueError("as many placings of the probe as of the nozzle are needed, at least one")
    means, errors = [], []
    for axis in (0, 1):
        each = [n[axis] - p[axis] for n, p in zip(nozzle, probe, strict=True)]
        count = len(each)
        mean = sum(each) / count
        new = scatter_beyond(EYE_MM * math.sqrt(PLACINGS / 3), deviation_of(each), count) / math.sqrt(count)
        means.append(mean)
        errors.append(math.hypot(new, EYE_COMMON_MM / math.sqrt(3)))
    return Sits(means[0], means[1], errors[0], errors[1])


def place_words(x_mm: float, y_mm: float, digits: int = 1) -> str:
    """``38.0 mm left of and 6.5 mm in front of the nozzle``.

    >>> place_words(-38, -6.5), place_words(20, 0)
    ('38.0 mm left of and 6.5 mm in front of the nozzle', '20.0 mm right of the nozzle')
    """
    said = []
    for mm, low, high in ((x_mm, "left of", "right of"), (y_mm, "in front of", "behind")):
        if abs(mm) >= 0.5 * 10**-digits:
            said.append(f"{abs(mm):.{digits}f} mm {low if mm < 0 else high}")
    return f"{' and '.join(said)} the nozzle" if said else "at the nozzle itself"
