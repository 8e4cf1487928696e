"""Guards that the simulated board enforces by itself on every heater, at every tick."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

from ublet.core.heat.curves import OPEN_RATIO, SHORT_RATIO

FAULT_READINGS = 3
"""Consecutive readings at a rail that are a fault; fewer may be noise on the line."""

COLD_C = 5.0
"""Below this a driven heater's sensor is not believed, °C."""

REACHED_C = 3.0
FULL_POWER = 0.95


@dataclass(frozen=True)
class GuardLimits:
    """Parameters of one heater's guards, °C and s."""

    maximum_c: float
    rise_c: float
    rise_window_s: float
    drift_c: float
    drift_window_s: float
    power_limit: float


@dataclass(frozen=True)
class Trip:
    """A tripped guard: its name and a sentence."""

    guard: str
    why: str


class HeaterGuard:
    """Watches one heater; call :meth:`watch` once a tick with what it reads and how it is driven."""

    def __init__(self, heater: str, sensor: str, tick_s: float) -> None:
        self.heater = heater
        self.sensor = sensor
        self._tick_s = tick_s
        self._rails = 0
        self._full: deque[float] = deque()
        self._reached = False
        self._away_s = 0.0
        self._target: float | None = None

    def watch(
        self, limits: GuardLimits, ratio: float, celsius: float | None, duty: float, target: float | None
    ) -> Trip | None:
        """The guard that trips now, if any. target is None when the heater is off."""
        driven = target is not None
        self._rails = self._rails + 1 if ratio > OPEN_RATIO or ratio < SHORT_RATIO else 0
        if driven and self._rails >= FAULT_READINGS:
            kind = "open" if ratio > OPEN_RATIO else "shorted"
            return Trip(
                f"sensor {kind}",
                f"The {self.sensor} sensor reads {kind} while the {self.heater} heats: "
                "check its plug and cable before heating again.",
            )
        if celsius is None:
            return None
        if celsius > limits.maximum_c:
            return Trip(
                "over maximum",
                f"The {self.heater} reached {celsius:.0f} °C, above its maximum of {limits.maximum_c:g} °C: "
                "check for a heater that is stuck on or a wrong sensor model.",
            )
        if driven and celsius < COLD_C:
            return Trip(
                "under minimum",
                f"The {self.heater} is driven but reads {celsius:.0f} °C: check the sensor's model and plug.",
            )
        return self._rise(limits, celsius, duty, target) or self._drift(limits, celsius, target)

    def _rise(self, limits: GuardLimits, celsius: float, duty: float, target: float | None) -> Trip | None:
        """At full power the temperature must rise."""
        near = target is not None and celsius > target - limits.drift_c
        if target is None or near or duty < FULL_POWER * limits.power_limit:
            self._full.clear()
            return None
        self._full.append(celsius)
        if len(self._full) * self._tick_s <= limits.rise_window_s:
            return None
        rise = celsius - self._full.popleft()
        if rise >= limits.rise_c:
            return None
        return Trip(
            "no rise",
            f"At full power the {self.heater} rose only {rise:.1f} °C in {limits.rise_window_s:g} s "
            f"({limits.rise_c:g} °C are needed): check that the heater is wired and the sensor sits in the block.",
        )

    def _drift(self, limits: GuardLimits, celsius: float, target: float | None) -> Trip | None:
        """Once reached, the target must be held."""
        if target != self._target:
            self._target, self._reached, self._away_s = target, False, 0.0
        if target is None:
            return None
        self._reached = self._reached or abs(celsius - target) <= REACHED_C
        away = self._reached and abs(celsius - target) > limits.drift_c
        self._away_s = self._away_s + self._tick_s if away else 0.0
        if self._away_s <= limits.drift_window_s:
            return None
        return Trip(
            "drift",
            f"The {self.heater} was more than {limits.drift_c:g} °C away from {target:g} °C for "
            f"{limits.drift_window_s:g} s: check heater, sensor and fan.",
        )
