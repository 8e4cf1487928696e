"""The drills that prove each guard: what is done, which guard must trip, how soon, and how it is put right again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ublet.core.machine.heat_parts import Guards, Heater
from ublet.core.settings import Value

RAIL_S = 1.0
"""An open or shorted sensor, a cold one, or one over the maximum must trip within this, s."""

SLACK_S = 1.5
"""Added to a guard's own window for readings and news of it, s."""


@dataclass(frozen=True)
class Drill:
    """One drill. do and undo are faults for hands (and for a scripted builder); words say them to a builder.

    guards: names of the guards that may trip. hold_c: the heater is held there before; climb: it is at full power
    instead, towards far above. harmless: it may be done on a real machine.
    """

    name: str
    do: str
    do_words: str
    undo: str
    undo_words: str
    guards: tuple[str, ...]
    hold_c: float
    climb: bool = False
    harmless: bool = False

    def window_s(self, guards: Guards, warming_s: float) -> float:
        """How soon it must be noticed, s; warming_s: how long a stuck heater takes to leave the drift band."""
        if "no rise" in self.guards:
            return guards.rise_window_s + SLACK_S
        if "drift" in self.guards:
            return guards.drift_window_s + warming_s + SLACK_S
        return RAIL_S


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
        climb=True,
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
