"""What is done at the machine by keys, outside of any trial: motors off, filament moved, the probe's pin, a touch."""

from __future__ import annotations

from dataclasses import dataclass

from ublet.core.heat.demands import hotends
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import number_or
from ublet.core.trouble import Trouble
from ublet.session.jogging import push, touch
from ublet.session.session import Session

STEP_MM = 10.0
"""One press pushes or pulls this much, mm."""

SLOW_MM_S, FAST_MM_S = 3.0, 20.0
"""Speeds of filament into the melt, and through the tube, mm/s."""

MELT_MM = 60.0
"""From the extruder's outlet into the nozzle, mm; this part is pushed slowly."""

TIP_MM = 4.0
"""Pushed before unloading, so that the tip is not a thread, mm."""

FLOOR_MM, TOUCH_MM_S = -3.0, 4.0


class NotNow(Trouble):
    """It cannot be done now; the message says why and what helps."""


@dataclass(frozen=True)
class FilamentMoves:
    """How far each key moves filament on this machine, mm."""

    load_mm: float
    unload_mm: float
    purge_mm: float


def filament_moves(machine: MachineFile) -> FilamentMoves:
    """Lengths for loading, unloading and purging: as declared, else by the tube.

    Raises:
        NotNow: no extruder is declared.
    """
    extruder = machine.extruder
    if extruder is None:
        raise NotNow("this machine file declares no extruder")
    return FilamentMoves(
        extruder.load_mm or extruder.tube_mm + MELT_MM,
        extruder.unload_mm or extruder.tube_mm + MELT_MM + 20.0,
        extruder.purge_mm,
    )


def why_not(session: Session) -> str:
    """Why nothing can be done by hand now; empty: it can."""
    if not session.connection.linked:
        return "there is no link to the board"
    if session.runner.running is not None:
        return f"{session.runner.running.name.replace('-', ' ')} is running"
    if why := session.barred():
        return why.rstrip(".")
    return "" if session.usable else f"the board is {session.connection.state.mode}"


def why_cold(session: Session, material: str) -> str:
    """Why filament is not moved now: the nozzle is too cold for it; empty: it is warm enough."""
    machine = session.machine_now
    names = hotends(machine)
    if not names:
        return "no heater is a hotend"
    least = number_or(session.live("extruder.least_c"), 0.0)
    if material in machine.materials:
        least = max(least, machine.materials[material].least_nozzle_c)
    celsius = session.connection.channel(f"sensors.{machine.heaters[names[0]].sensor}")
    if celsius is None:
        return f"the {names[0]} sensor does not read"
    return (
        "" if celsius >= least else f"the {names[0]} is at {celsius:.0f} °C: {material or 'it'} moves from {least:g} on"
    )


def _must(why: str) -> None:
    if why:
        raise NotNow(f"Not now: {why}.")


async def motors_off(session: Session) -> str:
    """Let every motor go; returns what that means.

    Raises:
        NotNow, LinkLost, BoardRefused.
    """
    _must(why_not(session))
    await session.connection.controller.let_go()
    session.motors_let_go()
    await session.connection.next_samples()
    return "Motors off: carriages can be moved by hand. X, Y and Z do not know where they stand until they home."


async def warm_nozzle(session: Session, material: str) -> str:
    """Heat the hotend for a material; it stays on until it is switched off.

    Raises:
        NotNow, LinkLost, BoardRefused.
    """
    _must(why_not(session))
    machine = session.machine_now
    if material not in machine.materials or not hotends(machine):
        raise NotNow("Not now: no material or no hotend is declared.")
    celsius = machine.materials[material].nozzle_c
    await session.connection.controller.target(hotends(machine)[0], celsius)
    return f"The {hotends(machine)[0]} heats to {celsius:g} °C for {material}, and stays there until you switch it off."


async def move_filament(session: Session, material: str, mm: float, mm_s: float = SLOW_MM_S) -> str:
    """Push filament, or pull it back (negative).

    Raises:
        NotNow: too cold, or something runs. LinkLost, BoardRefused.
    """
    _must(why_not(session) or why_cold(session, material))
    await push(session.connection, mm, mm_s)
    return f"{abs(mm):g} mm {'pushed' if mm > 0 else 'pulled back'}."


async def load(session: Session, material: str) -> str:
    """Push filament from the extruder's inlet to the nozzle: fast along the tube, slowly into the melt.

    Raises:
        NotNow, LinkLost, BoardRefused.
    """
    whole = filament_moves(session.machine_now).load_mm
    slow = min(MELT_MM, whole)
    if whole > slow:
        await move_filament(session, material, whole - slow, FAST_MM_S)
    await move_filament(session, material, slow)
    return f"Loaded: {whole:g} mm pushed. Does it come out of the nozzle?"


async def unload(session: Session, material: str) -> str:
    """Shape the tip with a little push, then pull the filament out.

    Raises:
        NotNow, LinkLost, BoardRefused.
    """
    whole = filament_moves(session.machine_now).unload_mm
    await move_filament(session, material, TIP_MM)
    await move_filament(session, material, -whole - TIP_MM, FAST_MM_S)
    return f"Unloaded: {whole:g} mm pulled back. Pull it out by hand."


async def purge(session: Session, material: str) -> str:
    """Push what is left of the former filament out.

    Raises:
        NotNow, LinkLost, BoardRefused.
    """
    return await move_filament(session, material, filament_moves(session.machine_now).purge_mm)


async def move_pin(session: Session, down: bool) -> str:
    """The probe's pin down or up.

    Raises:
        NotNow: no pin. LinkLost, BoardRefused.
    """
    _must(why_not(session))
    probe = session.machine_now.probe
    if probe is None or probe.kind != "pin":
        raise NotNow("Not now: this machine has no pin.")
    await session.connection.controller.pin(down)
    return f"The pin is commanded {'down' if down else 'up'}: look whether it went."


async def touch_here(session: Session) -> str:
    """Touch the bed below the probe, and go back up.

    Raises:
        NotNow: Z is not homed, or no probe senses. LinkLost, BoardRefused.
    """
    _must(why_not(session))
    probe, connection = session.machine_now.probe, session.connection
    if probe is None or probe.kind == "nozzle":
        raise NotNow("Not now: no probe senses the bed.")
    lowest = session.live("axes.z.minimum_mm")
    begin = connection.channel("axes.z.mm")
    if begin is None:
        raise NotNow("Not now: Z does not know where it stands. Home it first.")
    if probe.kind == "pin":
        await connection.controller.pin(True)
    try:
        met = await touch(connection, max(FLOOR_MM, number_or(lowest, 0.0)), TOUCH_MM_S)
    finally:
        here = connection.channel("axes.z.mm")
        if connection.linked and here is not None and here < begin:
            from ublet.session.jogging import jog

            await jog(connection, "z", begin - here, TOUCH_MM_S * 2)
        if probe.kind == "pin" and connection.linked:
            await connection.controller.pin(False)
    return "It did not trigger down to its floor." if met is None else f"It triggered at Z {met:.3f} mm."
