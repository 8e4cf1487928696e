"""The speed that will be used, and what caps the one that was asked for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Speed:
    """A speed in mm/s; capped_by names what made it less than asked for (empty: nothing)."""

    mm_s: float
    asked_mm_s: float
    capped_by: str = ""

    @property
    def words(self) -> str:
        """``40 mm/s``, or ``6 mm/s (not 40: maximum feed, stored)``."""
        told = f"{self.mm_s:g} mm/s"
        return f"{told} (not {self.asked_mm_s:g}: {self.capped_by})" if self.capped_by else told


def capped(asked_mm_s: float, caps: Mapping[str, float]) -> Speed:
    """The asked speed under several caps, each with its name; the lowest one counts.

    >>> capped(40, {"maximum feed, stored": 6.0}).words
    '6 mm/s (not 40: maximum feed, stored)'
    """
    name = min(caps, key=lambda each: caps[each], default="")
    if not name or caps[name] >= asked_mm_s:
        return Speed(asked_mm_s, asked_mm_s)
    return Speed(caps[name], asked_mm_s, name)
