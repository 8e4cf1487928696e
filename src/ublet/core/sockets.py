"""What passes through the sockets on a board's edge: duties and steps out, ratios and levels in; nothing else does."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from ublet.core.streams import Readings


@dataclass(frozen=True)
class Steps:
    """What one driver makes of a path: signed steps for each mm of it, with the microsteps and amperes it is
    commanded, and the speed of its motor below which it runs quietly, mm/s. ahead_per_s: steps a second besides, with
    which an extruder's motor leads the path or falls back to it (pressure advance).
    """

    socket: str
    per_mm: float
    microsteps: int
    amps: float
    quiet_to_mm_s: float = 0.0
    ahead_per_s: float = 0.0


@dataclass(frozen=True)
class Pace:
    """How a path is followed for a while: its speed at first, mm/s, and its acceleration, mm/s². Never backwards."""

    speed_mm_s: float
    acceleration_mm_s2: float
    seconds: float

    def gone(self, after_s: float) -> float:
        """Length of path covered after a time, mm."""
        return (self.speed_mm_s + self.acceleration_mm_s2 * after_s / 2) * after_s

    def speed(self, after_s: float) -> float:
        """Speed after a time, mm/s."""
        return max(0.0, self.speed_mm_s + self.acceleration_mm_s2 * after_s)

    def reached(self, mm: float) -> float:
        """Time after which so much of the path is covered, s; ``mm`` lies within it."""
        v, a = self.speed_mm_s, self.acceleration_mm_s2
        root = max(0.0, v * v + 2 * a * mm) ** 0.5
        return 2 * mm / (v + root) if v + root > 0 else 0.0


@dataclass(frozen=True)
class Until:
    """Turning ends early when the contact at an input opens, or closes."""

    socket: str
    opens: bool


class Level(NamedTuple):
    """The line of an input: whether its contact is open (a pull-up then takes it high), and how often that changed."""

    is_open: bool
    edges: int


class Sockets(Protocol):
    """The edge of a board, as its firmware sees it. Sockets go by the names that the board's kind gives them."""

    def ratio(self, socket: str) -> float:
        """A sensor input: the ADC's reading, 0..1 of full scale."""

    def level(self, socket: str) -> Level:
        """A digital input; an empty socket is open."""

    def heat(self, duties: Mapping[str, float]) -> None:
        """Duty 0..1 of each heater socket, from now on."""

    def blow(self, duties: Mapping[str, float]) -> None:
        """Duty 0..1 of each fan socket, from now on."""

    def pin(self, down: bool) -> None:
        """What the probe's servo is commanded to, from now on."""

    def turn(self, motors: Sequence[Steps], pace: Pace, until: Until | None = None) -> float | None:
        """Motors make their steps together. Returns the time, s, after which ``until`` came true and they stopped;
        None when it did not, or nothing was waited for.
        """

    def tune(self, sensor: str, register: str, value: float) -> None:
        """A register of a sensor: of the coil ``drive`` (mA) and ``alert`` (the frequency over its reference from which
        its line shows that metal is near, Hz).
        """

    def reading(self, sensor: str) -> tuple[float, ...]:
        """What a sensor that streams reads just now, a number a column in its units; nothing where there is none."""

    def listen(self, sensor: str, rate_hz: float) -> None:
        """A sensor that streams begins to take readings; at 0 Hz it ends."""

    def readings(self, sensor: str) -> Readings:
        """What it took since it was asked last."""

    def course(self, speeds: Mapping[str, NDArray[np.float64]]) -> None:
        """How the axes are really stepped in the time that passes next, shaped as it is: of each n + 1 speeds, mm/s, at
        even times from its beginning to its end, even between. Told while a sensor listens that could feel it.
        """

    def pass_time(self, seconds: float) -> None:
        """Let time pass around the board."""
