"""Hands that press switches, eyes that see what turns: a person at the machine, for the demonstration.

They are no part of the link: a real machine stands on the bench. JSON lines over a Unix socket.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from ublet.core.settings import Value
from ublet.world.frame import OVER_THE_BED
from ublet.world.laid import Looks
from ublet.world.mechanics import seen
from ublet.world.world import World

BATHS_C = {"ice water": 0.4, "warm water": 41.0, "boiling water": 99.4, "hot water": 74.0}
"""How warm the baths are that a builder has at hand, °C."""

COLD_C = 1.0
ADJUSTS = 6
"""Turns back and forth until a screw is where it should be."""

JUST_MM = 0.05
"""So much further than where it triggers first hands push a probe before they stop, mm."""

LATEST = 12
"""So many of the last pieces of lines are looked at while they are laid."""

LEAST_MM = 0.3
"""Less than this nobody sees, mm."""

WARM_C = 6.0
"""So much above the room a finger feels it, °C."""


class Hands:
    """What a person at the machine does and notices.

    labels: the settings by which whoever plugged it all named things; lamp: the board's mode, as its lamp shows it.
    """

    def __init__(self, world: World, labels: Callable[[], Mapping[str, Value]], lamp: Callable[[], str]) -> None:
        self._world = world
        self._labels, self._lamp = labels, lamp
        self._marked: dict[str, float] = {}
        self._dot = (0.0, 0.0)
        self.mark()

    def press(self, name: str, down: bool) -> None:
        """Press a switch or let it go; one that is not there is left alone."""
        if name in self._world.switches:
            self._world.press(name, down)

    def mark(self) -> None:
        """Put a mark where everything stands now; lengths are read from there."""
        self._marked = self._places()

    def bathe(self, sensor: str, place: str) -> None:
        """Put a sensor, by its name on the board, into a bath; an unknown place takes it out."""
        socket = self._label(f"sensors.{sensor}.socket")
        self._world.baths.pop(socket, None)
        if place in BATHS_C:
            self._world.baths[socket] = BATHS_C[place]

    def fault(self, kind: str, heater: str) -> None:
        """Make a fault at a heater, by its name on the board, or put it right again."""
        world = self._world
        plant = world.scenario.heaters.get(self._label(f"heaters.{heater}.socket"), "")
        socket = self._label(f"sensors.{self._label(f'heaters.{heater}.sensor')}.socket")
        if kind in ("sensor-out", "sensor-short", "sensor-back") and socket in world.adcs:
            world.adcs[socket].fault = {"sensor-out": "open", "sensor-short": "short"}.get(kind)
        elif kind == "cartridge-out":
            world.dead_heaters.add(plant)
        elif kind == "stuck":
            world.stuck_heaters.add(plant)
        elif kind == "chill" and plant in world.plants:
            world.plants[plant].put_at(COLD_C)
        elif kind == "warm-up" and plant in world.plants:
            world.plants[plant].put_at(world.ambient_c)
        world.dead_heaters -= {plant} if kind == "cartridge-back" else set()
        world.stuck_heaters -= {plant} if kind == "power-off" else set()

    def patch(self, place: str, spacing_mm: float) -> Looks | None:
        """How a patch of lines looks that are so far apart; place: middle and size, mm, as four numbers."""
        x, y, wide, deep = (float(word) for word in place.split())
        return self._world.laid.patch(x, y, wide, deep, spacing_mm)

    def rings(self, axis: str) -> float | None:
        """How fast ripples follow one another that an axis makes in a print, 1/s: nozzle against bed, damped."""
        bed = self._world.bed
        where = {"x": bed.width / 2, "y": bed.depth / 2}
        told = self._world.frame.rings({axis: 1.0}, {axis: 1.0}, OVER_THE_BED, where)
        return told[0].frequency_hz * (1 - told[0].damping_ratio ** 2) ** 0.5 if told else None

    def latest(self, spacing_mm: float) -> Looks | None:
        """How the lines look that are laid just now."""
        return self._world.laid.latest(LATEST, spacing_mm)

    def do(self, order: dict[str, Any]) -> dict[str, Any]:
        """Do what is ordered, and look. Raises KeyError when something is missing from the order."""
        match order["do"]:
            case "press":
                self.press(str(order["of"]), bool(order["down"]))
            case "mark":
                self.mark()
            case "fault":
                self.fault(str(order["kind"]), str(order["of"]))
            case "bathe":
                self.bathe(str(order["of"]), str(order["place"]))
            case "turn lift":
                self._world.bed.turn_lift(str(order["of"]), float(order["by"]))
            case "adjust screw":
                self._adjust(str(order["of"]), float(order["to"]))
            case "dot":
                self._dot = (self._world.mechanics.where["x"], self._world.mechanics.where["y"])
            case "clean sheet":
                self._world.laid.forget()
            case "mount sensor" if self._world.accelerometer is not None:
                self._world.accelerometer.on = str(order["of"])
            case "tighten belt":
                self._world.frame.tighten(str(order["of"]), float(order["by"]))
            case "load bed":
                self._world.frame.lay(float(order["kg"]))
            case "half springs":
                self._world.bed.half_springs()
            case "lower probe":
                self._lower_probe(float(order["by"]))
            case "probe to trigger":
                self._probe_to_trigger(float(order.get("off", 0.0)))
            case "turn screw":
                self._world.bed.turn_screw(str(order["of"]), float(order["by"]))
        return self.look(tuple(order.get("cue", ())))

    def _felt(self, cue: tuple[str, ...]) -> list[float | None]:
        """By how much too high patches are that are asked about, or the lines that are laid just now, mm."""
        match cue:
            case ("watch", "first layer", spacing):
                looks = [self.latest(float(spacing))]
            case ("ripples", axis, mm_s, count):
                hz = self.rings(axis)
                return [int(count) * float(mm_s) / hz if hz is not None else None]
            case ("patches", spacing, *places):
                looks = [self.patch(place, float(spacing)) for place in places]
            case _:
                looks = []
        return [each.error_mm if each is not None else None for each in looks]

    def look(self, cue: tuple[str, ...] = ()) -> dict[str, Any]:
        """What is seen and felt: fans that turn, blocks that are warm (the one that got warm last first), the probe's
        pin, switches held; how far each carriage and motor went from the mark; where the nozzle is from the bed's front
        left corner; the room left to the hard stops; what is left of the filament; the gap below the nozzle, and
        between bed and gantry at each lift; how far each screw's spring is pressed together, and can be; where over
        the bed the probe is, and how far from it its stowed end, mm; and what a question's cue asks about.
        """
        world, mechanics = self._world, self._world.mechanics
        now, baths = self._places(), world.baths
        warm = {name: plant.block_c - world.ambient_c for name, plant in world.plants.items()}
        return {
            "turning": world.turning(),
            "warm": [name for name in sorted(warm, key=self._lately) if warm[name] > WARM_C],
            "pin_down": world.pin_is_down,
            "moved": seen(mechanics.travelled),
            "turned": sorted(role for role, mm in mechanics.turned.items() if abs(mm) > LEAST_MM),
            "lift_moves": {role.removeprefix("z."): mechanics.turned.get(role, 0.0) for role in world.bed.lifts_mm},
            "from_mark": {name: now[name] - self._marked.get(name, 0.0) for name in now},
            "spool": world.filament.left_mm,
            "gap": world.gap_mm,
            "lifts": {role.removeprefix("z."): mechanics.where["z"] + mm for role, mm in world.bed.lifts_mm.items()},
            "springs": world.bed.springs,
            "probe": world.probe.place(mechanics.where) if world.probe is not None else None,
            "felt": self._felt(cue),
            "stowed_gap": world.probe.stowed_gap(mechanics.where) if world.probe is not None else 0.0,
            "dot": self._dot,
            "nozzle": dict(mechanics.where),
            "room": {
                axis: (mechanics.where[axis] - each.low_mm, each.high_mm - mechanics.where[axis])
                for axis, each in mechanics.carriages.items()
            },
            "mode": self._lamp(),
            "baths": {name: baths[socket] for name, socket in self._sensors() if socket in baths} if baths else {},
            "switches": {name: switch.pressed for name, switch in world.switches.items()},
        }

    def _adjust(self, name: str, gap_mm: float) -> None:
        """Turn a screw back and forth until the gap below the nozzle is so wide."""
        bed = self._world.bed
        for _ in range(ADJUSTS):
            if name in bed.screws:
                bed.turn_screw(name, (self._world.gap_mm - gap_mm) / bed.screws[name].clockwise_mm)

    def _lower_probe(self, by_mm: float) -> None:
        """Push the probe down in its mount, or up."""
        if (probe := self._world.probe) is not None:
            probe.lowered_mm += by_mm
            self._world.look_at_switches()

    def _probe_to_trigger(self, off_mm: float) -> None:
        """Push it down until its lamp comes on, and a little further."""
        if (probe := self._world.probe) is not None:
            where = self._world.mechanics.where
            self._lower_probe(probe.height(where) - probe.triggers_at(where) + JUST_MM + off_mm)

    def _places(self) -> dict[str, float]:
        """Where carriages stand, how far motors turned, and how much filament went in, mm."""
        mechanics = self._world.mechanics
        return {**mechanics.where, **mechanics.spun, "filament": self._world.filament.fed_mm}

    def _lately(self, plant: str) -> float:
        return -self._world.driven_at.get(plant, -1.0)

    def _sensors(self) -> list[tuple[str, str]]:
        """Every sensor by its label, with its socket."""
        places = (
            path.split(".") for path in self._labels() if path.startswith("sensors.") and path.endswith(".socket")
        )
        return [(name, self._label(f"sensors.{name}.socket")) for _, name, _ in places]

    def _label(self, path: str) -> str:
        return str(self._labels().get(path))


async def serve_world(hands: Hands, path: Path) -> asyncio.Server:
    """Serve hands and eyes at a Unix socket."""

    async def came(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(ValueError, KeyError, TypeError, ConnectionError):
            while line := await reader.readline():
                order = json.loads(line)
                writer.write(json.dumps(hands.do(order)).encode() + b"\n")
                await writer.drain()
        writer.close()

    with contextlib.suppress(FileNotFoundError):
        path.unlink()
    return await asyncio.start_unix_server(came, path=str(path))
