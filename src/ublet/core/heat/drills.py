"""The drills that prove each guard: what is done, which guard must trip, how soon, and how it is put right again."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.acts import FaultKind
from ublet.core.machine.heat_parts import Guards, Heater
from ublet.core.settings import Value

RAIL_S = 1.0
"""An open or shorted sensor, a cold one, or one over the maximum must trip within this, s."""

SENSOR_ENDS, OVER_MAXIMUM, NO_RISE, DRIFT = "sensor ends", "over maximum", "no rise", "drift"
"""Guards that the host can keep for a board that lacks them; an open sensor and a shorted one look alike from there."""

GUARDS_OF: Mapping[str, tuple[str, ...]] = {
    SENSOR_ENDS: ("sensor open", "sensor shorted", "under minimum"),
    OVER_MAXIMUM: (OVER_MAXIMUM,),
    NO_RISE: (NO_RISE,),
    DRIFT: (DRIFT,),
}
"""What a board calls its own guards of that kind."""

SLACK_S = 1.5
"""Added to a guard's own window for its readings, s."""


@dataclass(frozen=True)
class Allowance:
    """How soon a fault must be noticed: the parts that it is made of, s."""

    parts: tuple[tuple[str, float], ...]

    @property
    def seconds(self) -> float:
        """All of it."""
        return sum(seconds for _, seconds in self.parts)

    @property
    def words(self) -> str:
        """What it is made of."""
        return " + ".join(f"{seconds:.1f} s for {what}" for what, seconds in self.parts)

    def and_news(self, seconds: float) -> Allowance:
        """With the time that the news of a trip takes to the host."""
        return Allowance((*self.parts, ("the news of it", seconds)))


@dataclass(frozen=True)
class SensorLag:
    """How far a sensor lags its heater in a steady climb: by so many s, at so many °C/s."""

    lag_s: float
    heat_up_c_s: float

    def on_its_way_s(self, rise_c: float) -> float:
        """How long after the heater has gone its sensor goes on rising, until less than ``rise_c`` is still to come.

        In a ramp the sensor lags by the sum of dead time and lags; what is still to come is the climb over that time.
        A dead time brings it within that time, lags as ``lag ln(left / rise_c)``: the longer of the two is allowed.
        """
        left = self.lag_s * self.heat_up_c_s
        return min(LATEST_S, self.lag_s * max(1.0, math.log(left / rise_c) if left > rise_c else 1.0))


def late_of(time_s: Sequence[float], celsius: Sequence[float], driven_s: float) -> SensorLag | None:
    """How a sensor lags, from a climb at constant power that began at ``driven_s``; None: it has not climbed enough.

    The line through the last of the climb, drawn back to where it began, meets that temperature so much after the
    heater was driven: the sum of dead time and lags (Ziegler & Nichols 1942, the process reaction curve).
    """
    if len(time_s) < HEAT_UP_SAMPLES:
        return None
    times, seen = np.array(time_s), np.array(celsius)
    start = float(np.median(seen[:3]))
    slope, at_zero = np.polyfit(times[-HEAT_UP_SAMPLES:], seen[-HEAT_UP_SAMPLES:], 1).tolist()
    if seen[-1] - start < LEAST_HEAT_UP_C or slope <= 0:
        return None
    return SensorLag(max(0.0, (start - at_zero) / slope - driven_s), slope)


HEAT_UP_SAMPLES, LEAST_HEAT_UP_C = 8, 8.0
"""A climb is read from so many samples, and shows its lag after so many °C."""

LATEST_S = 30.0
"""No heater of a printer sends its heat later than this, s."""


@dataclass(frozen=True)
class Drill:
    """One drill. do and undo are faults for hands (and for a scripted builder); words say them to a builder.

    guards: names of the guards that may trip. hold_c: the heater is held there before; climb: it is at full power
    instead, towards far above. harmless: it may be done on a real machine.
    """

    name: str
    do: FaultKind
    do_words: str
    undo: FaultKind
    undo_words: str
    guards: tuple[str, ...]
    hold_c: float
    heat_up: bool = False
    harmless: bool = False

    def allowance(self, guards: Guards, warming_s: float, late: SensorLag | None) -> Allowance:
        """How soon it must be noticed, and what that is made of.

        warming_s: how long a stuck heater takes to leave the drift band. late: how this heater's sensor lags, None
        before it was seen to climb.
        """
        if "no rise" in self.guards:
            on_its_way = late.on_its_way_s(guards.rise_c) if late is not None else LATEST_S
            parts = (
                ("the guard's window", guards.rise_window_s),
                ("heat that is on its way to the sensor", on_its_way),
            )
            return Allowance((*parts, ("readings", SLACK_S)))
        if "drift" in self.guards:
            parts = (("the guard's window", guards.drift_window_s), ("leaving the drift band", warming_s))
            return Allowance((*parts, ("readings", SLACK_S)))
        return Allowance((("readings", RAIL_S),))


def drills_for(simulated: bool) -> tuple[Drill, ...]:
    """Those that may be done: on a real machine only the harmless ones."""
    return tuple(drill for drill in DRILLS if drill.harmless or simulated)


def live_heater(name: str, declared: Heater, read: Callable[[str], Value]) -> Heater:
    """A heater with its guards and maximum as they are live; read gives the live value of a path, None for none."""
    live = {key: read(f"heaters.{name}.guards.{key}") for key in type(declared.guards).model_fields}
    guards = declared.guards.model_copy(update={key: value for key, value in live.items() if value is not None})
    maximum = read(f"heaters.{name}.maximum_c")
    return declared.model_copy(update={"guards": guards, **({"maximum_c": maximum} if maximum is not None else {})})


def warming_s(drill: Drill, heater: Heater) -> float:
    """How long a stuck heater may take to leave the drift band: as long as a good one takes to rise as much."""
    guards = heater.guards
    return guards.drift_c / guards.rise_c * guards.rise_window_s if "drift" in drill.guards else 0.0


def silence_window_s(heartbeat_s: float) -> float:
    """How soon a host that fell silent must be noticed, s, for a board that waits so long for its heartbeat."""
    return 1.25 * heartbeat_s + SLACK_S


DRILLS: tuple[Drill, ...] = (
    Drill(
        "sensor pulled out",
        "sensor-out",
        "Pull the plug of the {sensor} sensor out of the board.",
        "sensor-back",
        "Plug the {sensor} sensor in again.",
        ("sensor open",),
        50,
        harmless=True,
    ),
    Drill(
        "sensor shorted",
        "sensor-short",
        "Bridge the two wires of the {sensor} sensor.",
        "sensor-back",
        "Take the bridge off the {sensor} sensor.",
        ("sensor shorted",),
        50,
    ),
    Drill(
        "cold room",
        "chill",
        "Cool the {heater} below 5 °C.",
        "warm-up",
        "Let the {heater} come back to the room.",
        ("under minimum",),
        50,
    ),
    Drill(
        "heater falls out",
        "cartridge-out",
        "Pull the heater out of the {heater}.",
        "cartridge-back",
        "Put the heater back into the {heater}.",
        ("no rise",),
        45,
        heat_up=True,
    ),
    Drill(
        "switch stuck on",
        "stuck",
        "Bridge the switch of the {heater}'s heater, so that it is always on.",
        "power-off",
        "Switch the power off at once, and take the bridge away.",
        ("drift", "over maximum"),
        60,
    ),
)
"""Those in which hands do something; a cut link and a reached maximum need none and come besides."""
