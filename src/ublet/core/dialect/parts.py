"""What a line language is spoken about: the parts of one machine, and what may be asked of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.machine.effective import board_settings
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value

AXES = ("x", "y", "z")


@dataclass(frozen=True)
class MachineParts:
    """Names of a machine's parts. heaters: with the sensor of each and the highest target, °C; settings: those that a
    board holds for it, with the values of the machine file.
    """

    heaters: Mapping[str, tuple[str, float]]
    sensors: tuple[str, ...]
    fans: tuple[str, ...]
    inputs: tuple[str, ...]
    settings: Mapping[str, Value]

    @property
    def channels(self) -> list[str]:
        """What a sample of such a machine holds after index and time, in the protocol's order."""
        return [
            *(f"sensors.{name}" for name in self.sensors),
            *(f"heaters.{name}.{what}" for name in self.heaters for what in ("duty", "target_c")),
            *(f"fans.{name}" for name in self.fans),
            *(f"{what}.{name}" for name in self.inputs for what in ("inputs", "edges")),
            "motion.moving",
            *(f"axes.{axis}.mm" for axis in AXES),
        ]


def parts_of(machine: MachineFile) -> MachineParts:
    """The parts that a machine file declares."""
    settings = board_settings(machine)
    inputs = [f"endstops.{name}" for name in machine.endstops]
    inputs += [name for name in ("probe", "filament") if f"{name}.socket" in settings]
    return MachineParts(
        {name: (heater.sensor, heater.maximum_c) for name, heater in machine.heaters.items()},
        tuple(machine.sensors),
        tuple(machine.fans),
        tuple(inputs),
        settings,
    )
