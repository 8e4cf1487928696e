"""Fast readings: what a sensor is that takes hundreds a second, pieces of what it took, and what is missing of it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

SOCKET_OF = {"accelerometer": "accelerometer.socket", "coil": "probe.coil.socket"}
"""The setting that says at which bus socket the module of a sensor is."""


@dataclass(frozen=True)
class StreamKind:
    """A sensor that streams. units, scales: of each column, and what one count of it stands for; rates_hz: those that
    it can be asked for; memory_bytes: the board's room for what has not gone over the line yet; socket: where its
    module answers (empty: nobody says).
    """

    name: str
    columns: tuple[str, ...]
    units: tuple[str, ...]
    scales: tuple[float, ...]
    rates_hz: tuple[float, ...]
    memory_bytes: int
    socket: str = ""

    @property
    def sample_bytes(self) -> int:
        """A sample as it is packed: 16 bits a column."""
        return 2 * len(self.columns)

    def longest_s(self, rate_hz: float) -> float:
        """How long a capture may be, s."""
        return self.memory_bytes / self.sample_bytes / rate_hz


@dataclass(frozen=True)
class Readings:
    """What a sensor took since it was asked last: counts (n x columns), and how long ago it took the newest, s.

    missed: so many it took before these, and lost: its own memory was full before it was asked.
    """

    counts: NDArray[np.int16]
    newest_ago_s: float
    missed: int = 0


@dataclass(frozen=True)
class Chunk:
    """Readings one after the other: number of the first one, times by the board's clock in s (n), values (n x columns)
    in the units of their kind.
    """

    index: int
    time_s: NDArray[np.float64]
    values: NDArray[np.float64]


@dataclass
class Clocking:
    """A sensor's own clock, found out from the times that the board put to its readings.

    A straight line by least squares through (number, time): the sensor's period is what it is, whatever it was
    reported.
    """

    period_s: float
    _count: int = 0
    _sums: list[float] = field(default_factory=lambda: [0.0] * 4)
    _first_s: float = 0.0

    def take(self, index: float, time_s: float) -> None:
        """The reading of this number was taken then."""
        if not self._count:
            self._first_s = time_s
        self._count += 1
        late = time_s - self._first_s
        for at, value in enumerate((index, late, index * index, index * late)):
            self._sums[at] += value

    @property
    def rate_hz(self) -> float:
        """Readings a second by the board's clock."""
        return 1 / self._line()[1]

    def times(self, index: int, count: int) -> NDArray[np.float64]:
        """When readings were taken, s."""
        began, period = self._line()
        return began + np.arange(index, index + count, dtype=np.float64) * period

    def _line(self) -> tuple[float, float]:
        """When the reading number 0 was taken, s, and the period, s."""
        n, (i, t, ii, it) = self._count, self._sums
        spread = n * ii - i * i
        period = (n * it - i * t) / spread if n > 1 and spread > 0 else self.period_s
        return self._first_s + (t - period * i) / max(1, n), period
