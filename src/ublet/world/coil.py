"""A coil over metal as it really is: how fast and how loudly its circuit rings, and what its own warmth does to that.

The metal answers like a second coil of the same shape, as far below its surface as the coil is above it, with a current
the other way (the method of images); what the loops have in common is Maxwell's formula for two coaxial circles.
Nothing of this is known to whoever measures.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.streams import Readings

MU0 = 4e-7 * math.pi
COUNTS = (50.0, 0.001, 0.01)
"""What one count of each column stands for: frequency over the sensor's own reference, Hz; amplitude, V; its warmth,
°C.
"""

REFERENCE_HZ = 3.0e6
COLUMNS = len(COUNTS)
FURTHEST_MM, FINEST_MM = 40.0, 0.005
LOW_V, HIGH_V, BEST_V = 1.2, 1.8, 1.5
"""Below the first the circuit starves and its readings scatter; above the second it is driven into its rails."""

PULLED_HZ_V = 4000.0
EDGES = ((0.0, 0.0), (0.6, 0.0), (-0.6, 0.0), (0.0, 0.6), (0.0, -0.6))
"""Over these places it sees the bed, in radii of its outermost turn."""

CoilInterval = tuple[float, float, float, float, Mapping[str, float], Mapping[str, float], Callable[[float], float]]
"""Part of a move: from when to when, s; from where to where along the path, mm; where the carriages stood before and
after; how far along it has come, mm, at a time, s.
"""


@dataclass(frozen=True)
class CoilTruth:
    """inner_mm, outer_mm, turns: its windings. circuit_pf: the capacitance that it rings with. mirror: share of its
    field that the metal turns back, skin_mm: how far below the surface. copper_ppm_k, circuit_ppm_k, circuit_ppm_k2:
    what a degree does to inductance and capacitance. grows_mm_k: how much nearer to the bed a degree brings it.
    loud_v_ma: what a milliampere makes of it far from metal; lossy: how much quieter metal makes it. noise_hz:
    deviation of a reading at its best; late_s: how old a reading is. hangs_mm: how high it hangs over the nozzle's tip.
    """

    inner_mm: float = 2.5
    outer_mm: float = 7.0
    turns: int = 10
    circuit_pf: float = 3000.0
    mirror: float = 0.35
    skin_mm: float = 0.08
    copper_ppm_k: float = 20.0
    circuit_ppm_k: float = 80.0
    circuit_ppm_k2: float = 0.4
    grows_mm_k: float = 0.0004
    loud_v_ma: float = 2.2
    lossy: float = 1.5
    noise_hz: float = 40.0
    late_s: float = 0.003
    hangs_mm: float = 1.2
    warms_share: float = 0.4
    warms_s: float = 300.0


def mutual(one_mm: float, other_mm: float, apart_mm: NDArray[np.float64]) -> NDArray[np.float64]:
    """Mutual inductance of two coaxial circles, H (Maxwell, 1873, article 701)."""
    from scipy.special import ellipe, ellipk  # a machine without a coil starts faster without it

    a, b, d = one_mm / 1000, other_mm / 1000, apart_mm / 1000
    square = 4 * a * b / ((a + b) ** 2 + d * d)
    k = np.sqrt(square)
    return np.asarray(
        MU0 * math.sqrt(a * b) * ((2 / k - k) * ellipk(square) - 2 / k * ellipe(square)), dtype=np.float64
    )


class Coil:
    """It rings all the time; readings are taken while somebody listens."""

    def __init__(self, truth: CoilTruth, ambient_c: float, random: np.random.Generator) -> None:
        self.truth, self._ambient_c, self._random = truth, ambient_c, random
        turns = np.linspace(truth.inner_mm, truth.outer_mm, truth.turns)
        wire_mm = (truth.outer_mm - truth.inner_mm) / max(1, truth.turns - 1) / 4
        own = sum(MU0 * r / 1000 * (math.log(8 * r / wire_mm) - 2) for r in turns)
        between = sum(float(mutual(r, s, np.array([0.0]))[0]) for at, r in enumerate(turns) for s in turns[at + 1 :])
        self._alone = own + 2 * between
        self._heights = np.arange(0.0, FURTHEST_MM, FINEST_MM)
        coarse = np.concatenate([np.arange(0.0, 8.0, 0.05), np.arange(8.0, FURTHEST_MM + 0.4, 0.4)])
        image = sum(mutual(r, s, 2 * (coarse + truth.skin_mm)) for r in turns for s in turns)
        self._mirrored = np.exp(np.interp(self._heights, coarse, np.log(truth.mirror * np.asarray(image))))
        self.warm_k = self.warmest_k = 0.0
        self.drive_ma, self.alert_hz = 0.0, math.inf
        self._asked, self._found_mm = (math.inf, 0.0, 0.0), -FURTHEST_MM
        self._rate_hz = self._ahead_s = 0.0
        self._taken: list[NDArray[np.int16]] = []
        self._spans: list[CoilInterval] = []

    # physics

    def tune(self, register: str, value: float) -> None:
        """Its drive current, mA, or the frequency over its reference from which it signals that metal is near, Hz."""
        if register == "drive":
            self.drive_ma = value
        elif register == "alert":
            self.alert_hz = value

    def frequency(self, over_mm: NDArray[np.float64]) -> NDArray[np.float64]:
        """How fast it rings so high over metal, as warm as it is, Hz over its reference."""
        truth, k = self.truth, self.warm_k
        near = np.interp(over_mm - truth.grows_mm_k * k, self._heights, self._mirrored)
        henry = self._alone * (1 + truth.copper_ppm_k * 1e-6 * k) - near
        farad = truth.circuit_pf * 1e-12 * (1 + 1e-6 * (truth.circuit_ppm_k * k + truth.circuit_ppm_k2 * k * k))
        rings = 1 / (2 * np.pi * np.sqrt(henry * farad))
        return np.asarray(rings - REFERENCE_HZ + self._pulled(near), dtype=np.float64)

    def volts(self, near: NDArray[np.float64]) -> NDArray[np.float64]:
        """How loudly it rings beside so much mirrored inductance."""
        return np.asarray(self.drive_ma * self.truth.loud_v_ma / (1 + self.truth.lossy * near / self._alone))

    def amplitude(self, over_mm: NDArray[np.float64]) -> NDArray[np.float64]:
        """How loudly it rings so high over metal, V."""
        return self.volts(np.interp(over_mm, self._heights, self._mirrored))

    def height_at(self, hz: float) -> float:
        """How high over metal it rings as fast as that, as warm as it is, mm."""
        asked = (hz, self.warm_k, self.drive_ma)
        if asked != self._asked:
            self._asked, self._found_mm = asked, -FURTHEST_MM
            if math.isfinite(hz) and hz < (rings := self.frequency(self._heights))[0]:
                self._found_mm = float(np.interp(-hz, -rings, self._heights))
        return self._found_mm

    def scatter_hz(self, volts: NDArray[np.float64]) -> NDArray[np.float64]:
        """Deviation of a reading that is as loud as that, Hz."""
        quiet = np.maximum(volts, 0.05)
        return np.asarray(self.truth.noise_hz * BEST_V / quiet * np.maximum(1.0, LOW_V / quiet) ** 3)

    def shift_mm(self, over_mm: float, warm_k: float) -> float:
        """How much nearer metal seems so high over it, with the coil so much warmer than the room."""
        heights, before = np.array([over_mm, over_mm + 0.01]), self.warm_k
        self.warm_k = 0.0
        cold = self.frequency(heights)
        self.warm_k = warm_k
        hot = self.frequency(heights)
        self.warm_k = before
        return float((hot[0] - cold[0]) / (cold[0] - cold[1]) * 0.01)

    # readings

    @property
    def listening(self) -> bool:
        """Whether readings are taken."""
        return self._rate_hz > 0

    def listen(self, rate_hz: float) -> None:
        """Take so many readings a second from now on; at 0 none."""
        self._rate_hz, self._ahead_s = rate_hz, 0.0
        self._taken.clear()
        self._spans.clear()

    def passed(self, span: CoilInterval) -> None:
        """Part of a move in this step of time."""
        self._spans.append(span)

    def pass_time(self, seconds: float, bed_k: float) -> None:
        """The bed is so much warmer than the room."""
        warm = self.truth.warms_share * bed_k
        self.warm_k += (warm - self.warm_k) * -math.expm1(-seconds / self.truth.warms_s)
        self.warmest_k = max(self.warmest_k, self.warm_k)

    def take(
        self, seconds: float, where: Mapping[str, float], over: Callable[[float, float, float], float], shakes_s: float
    ) -> None:
        """The readings of a step of time that has passed. where: the carriages now; over: how high it then stands over
        the metal at a place of the carriages, mm; it shakes by so many mm for each mm/s.
        """
        if not self.listening:
            return
        period = 1 / self._rate_hz
        count = max(0, math.ceil((seconds - self._ahead_s) / period - 1e-9))
        times = self._ahead_s + period * np.arange(count, dtype=np.float64) - self.truth.late_s
        self._ahead_s += period * count - seconds
        places, speeds = self._places(times, where)
        heights = np.array([over(*place) for place in places]) if self._spans else np.full(count, over(*_xyz(where)))
        heights = heights + shakes_s * speeds * self._random.standard_normal(count)
        volts = self.amplitude(heights)
        hz = self.frequency(heights) + self.scatter_hz(volts) * self._random.standard_normal(count)
        celsius = self._ambient_c + self.warm_k + 0.02 * self._random.standard_normal(count)
        counts = np.column_stack([hz / COUNTS[0], volts / COUNTS[1], celsius / COUNTS[2]])
        self._taken.append(np.clip(np.rint(counts), -32768, 32767).astype(np.int16))
        late = self.truth.late_s
        self._spans = [(a - seconds, b - seconds, *rest) for a, b, *rest in self._spans if b > seconds - late - 0.02]  # type: ignore[misc]

    def readings(self) -> Readings:
        """What it took since it was asked last."""
        counts = np.concatenate(self._taken) if self._taken else np.empty((0, COLUMNS), dtype=np.int16)
        self._taken.clear()
        return Readings(counts, 1 / self._rate_hz - self._ahead_s if self.listening else 0.0)

    def now(self, over_mm: float) -> tuple[float, float, float]:
        """A single reading: frequency, amplitude, warmth."""
        height = np.array([over_mm])
        return float(self.frequency(height)[0]), float(self.amplitude(height)[0]), self._ambient_c + self.warm_k

    def _places(
        self, times: NDArray[np.float64], where: Mapping[str, float]
    ) -> tuple[list[tuple[float, float, float]], NDArray[np.float64]]:
        """Where the carriages stood at times of this step, and how fast they went there, mm/s."""
        here = _xyz(where)
        if not self._spans:
            return [], np.zeros(len(times))
        places, speeds = [], np.zeros(len(times))
        first = _xyz(self._spans[0][4])
        for number, time in enumerate(times.tolist()):
            place = first if time < self._spans[0][0] else here
            for start, end, low, high, before, after, gone in self._spans:
                if start <= time:
                    a, b = _xyz(before), _xyz(after)
                    fraction = (
                        1.0 if time >= end or high <= low else min(1.0, max(0.0, (gone(time) - low) / (high - low)))
                    )
                    place = tuple(p + (q - p) * fraction for p, q in zip(a, b, strict=True))  # type: ignore[assignment]
                    moving = start <= time < end and end > start
                    speeds[number] = math.dist(a, b) / (end - start) if moving else 0.0
            places.append(place)
        return places, speeds

    def _pulled(self, near: NDArray[np.float64]) -> NDArray[np.float64]:
        """Driven into its rails it rings slower."""
        return -PULLED_HZ_V * np.maximum(0.0, self.volts(near) - HIGH_V)


def _xyz(where: Mapping[str, float]) -> tuple[float, float, float]:
    return where["x"], where["y"], where["z"]
