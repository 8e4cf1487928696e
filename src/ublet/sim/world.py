"""The world around the simulated board, for the demonstration: hands that press switches, eyes that see what turns.

It is no part of the link: a real machine stands on the bench. JSON lines over a Unix socket.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
from pathlib import Path
from typing import Any

from ublet.sim.board import SimBoard
from ublet.sim.motion import seen

BATHS_C = {"ice water": 0.4, "warm water": 41.0, "boiling water": 99.4, "hot water": 74.0}
"""How warm the baths are that a builder has at hand, °C."""

COLD_C = 1.0
LEAST_MM = 0.3
"""Less than this nobody sees, mm."""

WARM_C = 6.0
"""So much above the room a finger feels it, °C."""


class Hands:
    """What a person at the machine does and notices."""

    def __init__(self, board: SimBoard) -> None:
        self._board = board
        self._marked: dict[str, float] = {}
        self.mark()

    def press(self, name: str, down: bool) -> None:
        """Press a switch or let it go; one that is not there is left alone."""
        if name in self._board.switches:
            self._board.press(name, down)

    def mark(self) -> None:
        """Put a mark where everything stands now; lengths are read from there."""
        mechanics = self._board.mechanics
        self._marked = {**mechanics.where, **mechanics.spun}

    def bathe(self, sensor: str, place: str) -> None:
        """Put a sensor, by its name on the board, into a bath; an unknown place takes it out."""
        socket = str(self._board.live.get(f"sensors.{sensor}.socket"))
        self._board.baths.pop(socket, None)
        if place in BATHS_C:
            self._board.baths[socket] = BATHS_C[place]

    def fault(self, kind: str, heater: str) -> None:
        """Make a fault at a heater, by its name on the board, or put it right again."""
        board = self._board
        plant = board.scenario.heaters.get(str(board.live.get(f"heaters.{heater}.socket")), "")
        socket = str(board.live.get(f"sensors.{board.live.get(f'heaters.{heater}.sensor')}.socket"))
        if kind in ("sensor-out", "sensor-short", "sensor-back") and socket in board.adcs:
            board.adcs[socket].fault = {"sensor-out": "open", "sensor-short": "short"}.get(kind)
        elif kind == "cartridge-out":
            board.dead_heaters.add(plant)
        elif kind == "stuck":
            board.stuck_heaters.add(plant)
        elif kind == "chill" and plant in board.plants:
            board.plants[plant].put_at(COLD_C)
        elif kind == "warm-up" and plant in board.plants:
            board.plants[plant].put_at(board.scenario.scenario.ambient_c)
        board.dead_heaters -= {plant} if kind == "cartridge-back" else set()
        board.stuck_heaters -= {plant} if kind == "power-off" else set()

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
        return self.look()

    def look(self) -> dict[str, Any]:
        """What is seen and felt: fans that turn, blocks that are warm (the one that got warm last first), the probe's
        pin, switches held; how far each carriage and motor went from the mark; where the nozzle is from the bed's front
        left corner; the room left to the hard stops, mm.
        """
        mechanics = self._board.mechanics
        now, baths = {**mechanics.where, **mechanics.spun}, self._board.baths
        ambient = self._board.scenario.scenario.ambient_c
        warm = {name: plant.block_c - ambient for name, plant in self._board.plants.items()}
        return {
            "turning": self._board.turning(),
            "warm": [name for name in sorted(warm, key=self._lately) if warm[name] > WARM_C],
            "pin_down": self._board.pin_is_down,
            "moved": seen(self._board.mechanics.travelled),
            "turned": sorted(role for role, mm in self._board.mechanics.turned.items() if abs(mm) > LEAST_MM),
            "from_mark": {name: now[name] - self._marked.get(name, 0.0) for name in now},
            "nozzle": dict(mechanics.where),
            "room": {
                axis: (mechanics.where[axis] - each.low_mm, each.high_mm - mechanics.where[axis])
                for axis, each in mechanics.carriages.items()
            },
            "mode": self._board.mode,
            "baths": {name: baths[socket] for name, socket in self._sensors() if socket in baths},
            "switches": {name: switch.pressed for name, switch in self._board.switches.items()},
        }

    def _lately(self, plant: str) -> float:
        return -self._board.driven_at.get(plant, -1.0)

    def _sensors(self) -> list[tuple[str, str]]:
        """Every sensor of the board with its socket."""
        return [(name, str(self._board.live[f"sensors.{name}.socket"])) for name in self._board.sensors]


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
