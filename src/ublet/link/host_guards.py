"""Guards that the host keeps for a board that has none of its own: it watches the readings, and halts the board.

They are worth less than a board's own: a host that has died, or whose line is cut, watches nothing.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from ublet.core.dialect.parts import MachineParts
from ublet.core.heat.drills import DRIFT, NO_RISE, OVER_MAXIMUM, SENSOR_ENDS
from ublet.core.settings import Value, number_or

COLDEST_DRIVEN_C = 5.0
"""A heater that is driven and reads less than this has a sensor that is not believed, °C."""

SILENT_S = 0.5
"""A sensor of a driven heater that has not read for so long is open or shorted, s: a line may lose one reading."""

REACHED_C, FULL_POWER = 3.0, 0.95


@dataclass(frozen=True)
class HostTrip:
    """A guard of the host's that has tripped: its name, and why, as a sentence."""

    guard: str
    why: str


@dataclass
class _Watched:
    """What is remembered of one heater: since when its sensor is silent, how it warms at full power, since when it is
    away from a target that it had reached.
    """

    silent_since_s: float | None = None
    heat_up: deque[tuple[float, float]] = field(default_factory=deque)
    target_c: float | None = None
    reached: bool = False
    away_since_s: float | None = None


class HostGuards:
    """Watches every heater at each look. names: the guards that the board lacks; known: the latest value of a setting
    by its path.
    """

    def __init__(self, names: frozenset[str], parts: MachineParts, known: Callable[[str], Value]) -> None:
        self.names, self._parts, self._known = names, parts, known
        self._watched = {name: _Watched() for name in parts.heaters}

    def forget(self) -> None:
        """Everything was switched off."""
        self._watched = {name: _Watched() for name in self._parts.heaters}

    def watch(self, time_s: float, values: Mapping[str, float | None]) -> HostTrip | None:
        """The guard that trips by these readings, if any. time_s: the board's clock."""
        for heater, (sensor, _) in self._parts.heaters.items():
            celsius, target = values.get(f"sensors.{sensor}"), values.get(f"heaters.{heater}.target_c")
            duty = values.get(f"heaters.{heater}.duty") or 0.0
            state = self._watched[heater]
            if celsius is None:
                trip = self._no_reading(state, heater, sensor, time_s, target is not None or duty > 0)
            else:
                state.silent_since_s = None
                trip = (
                    self._beyond(heater, celsius, target is not None or duty > 0)
                    or self._rise(state, heater, time_s, celsius, duty, target)
                    or self._drift(state, heater, time_s, celsius, target)
                )
            if trip is not None and trip.guard in self.names:
                return trip
        return None

    def _limit(self, heater: str, key: str, otherwise: float) -> float:
        return number_or(self._known(f"heaters.{heater}.{key}"), otherwise)

    def _no_reading(self, state: _Watched, heater: str, sensor: str, time_s: float, driven: bool) -> HostTrip | None:
        if not driven:
            state.silent_since_s = None
            return None
        state.silent_since_s = time_s if state.silent_since_s is None else state.silent_since_s
        if time_s - state.silent_since_s < SILENT_S:
            return None
        return HostTrip(SENSOR_ENDS, f"The {sensor} sensor does not read while the {heater} heats: check its plug.")

    def _beyond(self, heater: str, celsius: float, driven: bool) -> HostTrip | None:
        maximum = self._limit(heater, "maximum_c", self._parts.heaters[heater][1])
        if celsius > maximum:
            return HostTrip(OVER_MAXIMUM, f"The {heater} reads {celsius:.0f} °C, above its maximum of {maximum:g} °C.")
        if driven and celsius < COLDEST_DRIVEN_C:
            return HostTrip(SENSOR_ENDS, f"The {heater} is driven but reads {celsius:.0f} °C: check its sensor.")
        return None

    def _rise(
        self, state: _Watched, heater: str, time_s: float, celsius: float, duty: float, target: float | None
    ) -> HostTrip | None:
        """At full power, far from its target, it must rise by so much in every window."""
        full = duty >= FULL_POWER * self._limit(heater, "power_limit", 1.0)
        near = target is not None and celsius > target - self._limit(heater, "guards.drift_c", 15.0)
        if not full or near:
            state.heat_up.clear()
            return None
        window_s, least_c = self._limit(heater, "guards.rise_window_s", 20.0), self._limit(heater, "guards.rise_c", 4.0)
        state.heat_up.append((time_s, celsius))
        if time_s - state.heat_up[0][0] < window_s:
            return None
        while len(state.heat_up) > 1 and time_s - state.heat_up[1][0] >= window_s:
            state.heat_up.popleft()
        rise = celsius - state.heat_up[0][1]
        if rise >= least_c:
            return None
        words = f"At full power the {heater} rose by {rise:.1f} °C in {window_s:g} s: {least_c:g} are needed."
        return HostTrip(NO_RISE, f"{words} Check its wire and the seat of its sensor.")

    def _drift(
        self, state: _Watched, heater: str, time_s: float, celsius: float, target: float | None
    ) -> HostTrip | None:
        """A target that was reached must be held."""
        if target != state.target_c:
            state.target_c, state.reached, state.away_since_s = target, False, None
        if target is None:
            return None
        away_c, longest_s = (
            self._limit(heater, "guards.drift_c", 15.0),
            self._limit(heater, "guards.drift_window_s", 30.0),
        )
        state.reached = state.reached or abs(celsius - target) <= REACHED_C
        if not state.reached or abs(celsius - target) <= away_c:
            state.away_since_s = None
            return None
        state.away_since_s = time_s if state.away_since_s is None else state.away_since_s
        if time_s - state.away_since_s < longest_s:
            return None
        words = f"The {heater} was more than {away_c:g} °C away from {target:g} °C for {longest_s:g} s."
        return HostTrip(DRIFT, f"{words} Check heater, sensor and fan.")
