"""What is asked of the control of each kind of heater, and how long it may take to show it."""

from __future__ import annotations

from dataclasses import dataclass

from ublet.core.machine.schema import MachineFile


@dataclass(frozen=True)
class Demands:
    """Limits of a heater's control.

    overshoot_c and ripple_c: what is good enough, °C. headroom_c: left above the target for the relay's swing. hold_s:
    how long a step is held after the climb before the fan (or the end); read_s: the last stretch of it over which
    ripple is read. climb_s and cycle_s: longest climb and longest relay cycle. fans: whether the part fan blows at it.
    """

    overshoot_c: float
    ripple_c: float
    headroom_c: float
    hold_s: float
    read_s: float
    heat_up_s: float
    cycle_s: float
    fans: bool


HOTEND = Demands(2.0, 0.5, 15.0, 120.0, 30.0, 900.0, 240.0, True)
SLOW = Demands(1.0, 0.3, 6.0, 420.0, 120.0, 5400.0, 900.0, False)
"""A bed or a chamber: more mass, more lag, less noise allowed."""


def hotends(machine: MachineFile) -> tuple[str, ...]:
    """The heaters of nozzles."""
    return tuple(name for name, heater in machine.heaters.items() if heater.part == "hotend")


def slow_heaters(machine: MachineFile) -> tuple[str, ...]:
    """Those of beds and chambers."""
    return tuple(name for name, heater in machine.heaters.items() if heater.part != "hotend")


def beds(machine: MachineFile) -> tuple[str, ...]:
    """Those of beds."""
    return tuple(name for name, heater in machine.heaters.items() if heater.part == "bed")


def material_targets(machine: MachineFile, heater: str) -> dict[str, float]:
    """The temperature of a heater for each material, °C: the nozzle's or the bed's."""
    nozzle = heater in hotends(machine)
    return {name: material.nozzle_c if nozzle else material.bed_c for name, material in machine.materials.items()}


def demands_of(machine: MachineFile, heater: str) -> Demands:
    """The demands on a declared heater; an unknown one is taken for a hotend."""
    declared = machine.heaters.get(heater)
    return HOTEND if declared is None or declared.part == "hotend" else SLOW


def preheats(machine: MachineFile) -> dict[str, float]:
    """Heaters to warm before Z homes, and how far, °C."""
    homing = machine.axes.z.homing
    wanted = {"hotend": homing.preheat_nozzle_c, "bed": homing.preheat_bed_c}
    temperatures = {}
    for part, celsius in wanted.items():
        heater = next((name for name, heater in machine.heaters.items() if heater.part == part), None)
        if heater is not None and celsius is not None:
            temperatures[heater] = celsius
    return temperatures
