"""The simulated machine: firmware plugged into a world by its sockets. The only place where the two meet."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ublet.core.dialect.language import Language
from ublet.core.machine.schema import MachineFile
from ublet.firmware.board import SimulatedBoard
from ublet.firmware.dialect_service import DialectService
from ublet.firmware.hardware import Hardware, Wire
from ublet.firmware.service import Service
from ublet.firmware.slots import factory_image
from ublet.firmware.store import Store
from ublet.world.bed_parts import CoilPart
from ublet.world.hands import Hands
from ublet.world.scenario import Scenario
from ublet.world.shake_parts import AccelerometerPart
from ublet.world.world import World


class SimulatedMachine:
    """A board and what stands around it, as a scenario says.

    Args:
        scenario: the truth, and with what the board was delivered.
        machine: the machine file that goes with it.
        link_clock: the link's own time, s, for the dead-man.
        store: a file that keeps the stored settings, and the image slots beside it; else they last as long as this.
        speed: of the board's clock, times the link's.
        seed: of all noise.
        language: the dialect that its line speaks; None: the protocol.
    """

    def __init__(
        self,
        scenario: Scenario,
        machine: MachineFile,
        link_clock: Callable[[], float],
        store: Path | None = None,
        speed: float = 1.0,
        seed: int = 1,
        language: Language | None = None,
    ) -> None:
        about = scenario.scenario
        sensors: dict[str, AccelerometerPart | CoilPart | None] = {
            "accelerometer": scenario.accelerometer,
            "coil": scenario.coil,
        }
        streams = tuple(name for name, part in sensors.items() if part is not None)
        hardware = Hardware(
            about.board,
            about.firmware,
            scenario.flash.slot_bytes,
            about.steps_per_s,
            streams,
            about.memory_bytes,
            {name: part.socket for name, part in sensors.items() if part is not None and part.socket},
            frozenset(scenario.lacks),
        )
        factory = factory_image(hardware, machine, scenario.image_settings())
        slots = store.with_suffix(".slots") if store else None
        self.world = World(scenario, machine, seed)
        kept = Store(store, scenario.stored_settings())
        self.board = SimulatedBoard(hardware, factory, kept, self.world, link_clock, slots)
        wire = Wire(**scenario.link.model_dump())
        self.service = (
            DialectService(self.board, language, speed, seed, wire)
            if language is not None
            else Service(self.board, speed, seed, wire)
        )
        self.hands = Hands(
            self.world,
            lambda: self.board.layers.live,
            lambda: self.board.mode,
            lambda axis: self.board.mover.queue.shaping.impulses(axis),
        )
        self.world.supply = self._dip
        self.board.powered = self.world.bed.sag

    def _dip(self, kind: str, seconds: float) -> None:
        """The power dips, or the board falls silent."""
        if kind == "reboot":
            self.board.slots.forget_upload()
            self.board.reset()
        else:
            self.board.fall_silent(seconds)
