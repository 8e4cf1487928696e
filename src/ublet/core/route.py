"""The route: legs and stations in the order of the work, and the state of each."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Literal

Condition = Literal["open", "running", "proven", "stale", "failed", "waiting"]

GLYPHS: dict[Condition, str] = {
    "open": "○",
    "running": "◆",
    "proven": "●",
    "stale": "▲",
    "failed": "✗",
    "waiting": "·",
}


@dataclass(frozen=True)
class Station:
    """One station: ``bench`` is the kind of its work area, ``trials`` what can be run there."""

    name: str
    leg: str
    purpose: str
    trials: tuple[str, ...] = ()
    bench: str = ""


@dataclass(frozen=True)
class StationState:
    """Where a station stands: its state, its key figure, and the reason in words. unlinked: as of the last link.

    trial and heater: which of the station's trials it stands so by, and for which heater, where there are several.
    idle: it waits because this machine has no need of it.
    """

    state: Condition
    figure: str = ""
    reason: str = ""
    unlinked: bool = False
    idle: bool = False
    trial: str = ""
    heater: str = ""


UNLINKED = "◌"
"""Stands for proven while there is no link: it was so when the board was seen last."""


def glyph(standing: StationState) -> str:
    """The glyph of a standing."""
    return UNLINKED if standing.unlinked else GLYPHS[standing.state]


ROUTE: tuple[Station, ...] = (
    Station("machine file", "Declare", "what the machine is", bench="editor"),
    Station("board, wiring", "Declare", "what is plugged where", bench="wiring"),
    Station("modules", "Declare", "what the board's flash must hold", bench="modules"),
    Station("write to board", "Declare", "the image on the board, with nothing hidden", bench="write"),
    Station("port and link", "Wire", "the line to the board", bench="port"),
    Station("inputs by hand", "Wire", "every endstop and the probe", ("inputs-by-hand",), "inputs"),
    Station("heaters paired", "Wire", "each heater with its own sensor", ("heaters-paired",), "pairing"),
    Station("fans", "Wire", "each fan by itself", ("fans-one-by-one",), "fans"),
    Station("motors", "Wire", "each motor by itself", ("motors-one-by-one",), "motors"),
    Station("directions", "Move", "every axis the right way", ("directions",), "directions"),
    Station("homing", "Move", "every axis finds its end", ("homing", "homing-speed"), "homing"),
    Station("travel limits", "Move", "the reachable area", ("travel-limits", "part-clearance"), "travel"),
    Station("steps per mm", "Move", "each axis as long as it says", ("steps-per-mm",), "steps"),
    Station(
        "speed limits", "Move", "speed, acceleration, current that hold", ("speed-limits", "driver-current"), "limits"
    ),
    Station("sensors at rest", "Heat", "sensors agree before any heat", ("sensors-at-rest",), "sensors"),
    Station(
        "hotend control",
        "Heat",
        "gains that hold the nozzle steady",
        ("hotend-control", "hotend-verify"),
        "heat",
    ),
    Station("bed control", "Heat", "gains that hold the bed steady", ("bed-control", "bed-verify"), "bed"),
    Station("guards", "Heat", "what switches off by itself", ("guards-drill",), "guards"),
    Station("temperatures", "Heat", "materials' temperatures, by hand", (), "control"),
    Station("soak time", "Heat", "when the bed stops moving", ("bed-soak", "bed-still"), "soak"),
    Station(
        "coil probe",
        "Level",
        "how a coil measures heights",
        ("coil-current", "coil-curve", "coil-drift", "coil-pass"),
        "coil",
    ),
    Station("lead screws", "Level", "the bed square to the frame", ("lead-screws", "lead-screws-by-hand"), "lifts"),
    Station(
        "bed corners",
        "Level",
        "the bed flat by its screws",
        ("bed-corners", "bed-corners-by-hand", "screw-places"),
        "corners",
    ),
    Station("probe spread", "Level", "how well the probe repeats", ("probe-spread", "probe-speed"), "spread"),
    Station("probe place", "Level", "where the probe sits", ("probe-place", "probe-height"), "place"),
    Station("Z offset", "Level", "nozzle height over the bed", ("z-offset",), "touch"),
    Station(
        "bed mesh",
        "Level",
        "the bed's shape",
        ("bed-mesh", "bed-mesh-by-hand", "mesh-check", "bed-check-by-hand"),
        "mesh",
    ),
    Station("first layer", "Level", "the height that prints", ("first-layer",), "layer"),
    Station("extruder steps", "Extrude", "filament as long as it says", ("extruder-steps", "drive-change"), "extruder"),
    Station("flow limit", "Extrude", "how fast it can melt", ("flow-limit",), "flow"),
    Station(
        "advance",
        "Extrude",
        "even width through speed changes",
        ("advance-lines", "advance-verify", "advance-tower"),
        "advance",
    ),
    Station("retraction", "Extrude", "no strings, no gaps", ("retraction",), "retraction"),
    Station(
        "test piece",
        "Extrude",
        "a program from its first move to its last",
        ("test-piece", "piece-measured", "own-print"),
        "piece",
    ),
    Station(
        "accelerometer",
        "Shake",
        "mounted, quiet and turned as declared",
        ("accelerometer-at-rest", "accelerometer-turned"),
        "accelerometer",
    ),
    Station("resonance", "Shake", "where each axis rings", ("belts", "resonance", "ringing-tower"), "resonance"),
    Station("input shaper", "Shake", "moves that do not ring", ("input-shaper", "shaper-verify"), "shaper"),
    Station("acceleration", "Shake", "the limit that follows", ("acceleration-limit",), "acceleration"),
    Station("ledger", "Record", "what was done, and when", bench="ledger"),
    Station("compare", "Record", "two states side by side", bench="compare"),
    Station("restore", "Record", "back to an earlier state", bench="restore"),
    Station("report", "Record", "the commissioning report", bench="report"),
)
"""All stations in order."""


_AXES = ("homing",)
_SQUARE = ("homing", "lead screws")
_FLAT = (*_SQUARE, "bed corners", "probe place")
_HOT = ("heaters paired", "hotend control")

AFTER: Mapping[str, tuple[str, ...]] = {
    "directions": ("motors",),
    "homing": ("inputs by hand", "directions"),
    "travel limits": _AXES,
    "steps per mm": _AXES,
    "speed limits": ("travel limits",),
    "hotend control": ("heaters paired", "sensors at rest"),
    "bed control": ("heaters paired", "sensors at rest"),
    "guards": ("heaters paired",),
    "soak time": ("bed control",),
    "coil probe": _AXES,
    "lead screws": (*_AXES, "coil probe"),
    "bed corners": _SQUARE,
    "probe spread": _AXES,
    "probe place": _AXES,
    "Z offset": _FLAT,
    "bed mesh": (*_FLAT, "Z offset"),
    "first layer": (*_HOT, "bed control", "bed mesh"),
    "extruder steps": _HOT,
    "flow limit": ("extruder steps",),
    "advance": ("extruder steps", "first layer"),
    "retraction": ("extruder steps", "first layer"),
    "test piece": ("travel limits",),
    "accelerometer": _AXES,
    "resonance": ("travel limits", "accelerometer"),
    "input shaper": ("resonance",),
    "acceleration": ("input shaper", "speed limits"),
}
"""What each station stands on directly: stations whose results it uses, or without which it is not safe."""

HEATS: Mapping[str, str] = {"hotend": "hotend control", "bed": "bed control"}
"""What a trial stands on besides when it heats such a part."""


def stands_on(station: str, parts: Collection[str] = (), after: str = "") -> tuple[Station, ...]:
    """Every station that one stands on, in the order of the route, also through others. parts: what a trial heats;
    after: another station that it stands on besides.

    >>> [station.name for station in stands_on("homing")]
    ['inputs by hand', 'motors', 'directions']
    """
    names: set[str] = set()
    waiting = [*AFTER.get(station, ()), *([after] if after else []), *(HEATS[part] for part in parts if part in HEATS)]
    while waiting:
        name = waiting.pop()
        if name not in names and name != station:
            names.add(name)
            waiting += AFTER.get(name, ())
    return tuple(candidate for candidate in ROUTE if candidate.name in names)


def station_named(name: str) -> Station:
    """A station by its name.

    Raises:
        KeyError: there is none.
    """
    for station in ROUTE:
        if station.name == name:
            return station
    raise KeyError(name)


def station_with(bench: str) -> Station:
    """The station with a kind of bench.

    Raises:
        KeyError: no station has it.
    """
    for station in ROUTE:
        if station.bench == bench:
            return station
    raise KeyError(bench)


def station_of(trial: str) -> Station:
    """The station at which a trial is run.

    Raises:
        KeyError: no station runs it.
    """
    for station in ROUTE:
        if trial in station.trials:
            return station
    raise KeyError(trial)
