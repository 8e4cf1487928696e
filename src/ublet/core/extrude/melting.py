"""Filament made soft: which hotend, how warm for a material, and waiting until all of it has melted."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.bench import Bench
from ublet.core.heat.demands import hotends
from ublet.core.heat.start import CLOSE_C, reach
from ublet.core.machine.heat_parts import Material
from ublet.core.machine.schema import MachineFile
from ublet.core.machine.tool_parts import Extruder
from ublet.core.remedies import material_remedy
from ublet.core.remedy import ChangeSetting
from ublet.core.run import TrialFailed
from ublet.core.trial import Need

MELTS_S = 20.0
"""Time at its temperature after which the filament in the nozzle has melted, s."""

HEADROOM_C = 10.0
"""A hotend is not driven nearer to its maximum than this, °C."""


def extruder_of(machine: MachineFile) -> Extruder:
    """The declared extruder.

    Raises:
        TrialFailed: there is none.
    """
    if machine.extruder is None:
        raise TrialFailed(
            "This machine file declares no extruder: add one to it ([extruder]) first.",
            ChangeSetting("extruder", "declare the extruder"),
        )
    return machine.extruder


def hotend_of(machine: MachineFile) -> str:
    """The heater that melts the filament.

    Raises:
        TrialFailed: no hotend is declared.
    """
    heater_names = hotends(machine)
    if not heater_names:
        raise TrialFailed(
            'No heater of this machine file is a hotend: set part = "hotend" at the one that melts.',
            ChangeSetting("heaters", 'set part = "hotend" at the heater that melts'),
        )
    return heater_names[0]


def material_of(machine: MachineFile, named: str) -> tuple[str, Material]:
    """A material by its name; the first one where none is named.

    Raises:
        TrialFailed: there is no such material.
    """
    name = named or next(iter(machine.materials), "")
    if name not in machine.materials:
        known = ", ".join(machine.materials) or "none: add a table below [materials]"
        raise TrialFailed(f"No material “{name or 'at all'}” is declared; known: {known}.", material_remedy(machine))
    return name, machine.materials[name]


def melt_needs(machine: MachineFile, named: str, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    """What pushing a material needs: an extruder, a hotend that reads, a temperature between two limits."""
    try:
        extruder, heater = extruder_of(machine), hotend_of(machine)
        name, material = material_of(machine, named)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    declared = machine.heaters[heater]
    if (own := read(declared.sensor)) is None:
        return (Need(f"{declared.sensor} sensor open, shorted or silent: check its plug", False),)
    least = max(extruder.least_c, material.least_nozzle_c)
    if material.nozzle_c < least:
        return (Need(f"{name} at {material.nozzle_c:g} °C: filament is pushed from {least:g} °C on", False),)
    if material.nozzle_c > declared.maximum_c - HEADROOM_C:
        highest = declared.maximum_c - HEADROOM_C
        return (Need(f"{name} asks for {material.nozzle_c:g} °C: this {heater} allows {highest:g}", False),)
    now = Need(f"{heater} at {own:.0f} °C: heats to {material.nozzle_c:g}", own >= material.nozzle_c - CLOSE_C, False)
    return (Need(f"{name}, melted at {material.nozzle_c:g} °C", True), now)


async def melt(bench: Bench, heater: str, celsius: float, fraction: float) -> None:
    """Heat, and wait until it has been there for so long that all filament in the nozzle has melted.

    Raises:
        TrialFailed: it does not get there.
    """
    await reach(bench, heater, celsius, fraction, MELTS_S, "there: the filament melts")
