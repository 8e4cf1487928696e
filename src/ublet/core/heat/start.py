"""Starting a heat trial: which sensor, what room, from how warm, with how much headroom."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Callable

from ublet.core.heat.pid import Gains
from ublet.core.machine.schema import MachineFile
from ublet.core.trial import Bench, HeatSample, Need, Progress, Question, TrialFailed

WARM_C = 5.0
"""Above the room by more than this, a start is warm and spoils the first cycle and the model, °C."""


def part_fan(machine: MachineFile) -> str | None:
    """Name of the fan that cools the part, if there is one."""
    return next((name for name, fan in machine.fans.items() if fan.role == "part"), None)


def room_temperature(bench: Bench, heater: str) -> float:
    """Room temperature, °C: as declared, or the coolest of the other sensors (none: this one).

    Raises:
        TrialFailed: the heater's own sensor does not read.
    """
    room = room_from(bench.machine, heater, bench.celsius)
    if room is None:
        raise TrialFailed(
            f"The {bench.machine.heaters[heater].sensor} sensor reads open or shorted: "
            "check its plug and cable, then try again. Nothing was heated."
        )
    return room


def room_from(machine: MachineFile, heater: str, read: Callable[[str], float | None]) -> float | None:
    """The room by a reader of sensors; None when the heater's own sensor does not read."""
    own = machine.heaters[heater].sensor
    mine = read(own)
    if mine is None:
        return None
    if machine.machine.room_c is not None:
        return machine.machine.room_c
    others = [read(name) for name in machine.sensors if name != own]
    return min((value for value in others if value is not None), default=mine)


def heat_needs(
    machine: MachineFile, heater: str, target: float, headroom: float, read: Callable[[str], float | None]
) -> tuple[Need, ...]:
    """What a heat trial needs: a sane sensor, headroom below the maximum, a start from the room."""
    declared = machine.heaters[heater]
    own, room = read(declared.sensor), room_from(machine, heater, read)
    if own is None or room is None:
        return (Need(f"{declared.sensor} sensor open, shorted or silent: check its plug", False),)
    needs = [Need("sensor reads", True)]
    if own - room > WARM_C:
        needs.append(Need(f"warm, {own:.0f} °C: will first cool to {room + WARM_C:.0f} °C", False, blocking=False))
    else:
        needs.append(Need(f"from room, {own:.1f} °C", True))
    highest = declared.maximum_c - headroom
    if target > highest:
        needs.append(Need(f"{target:g} °C is too near the maximum: choose {highest:g} °C or less", False))
    else:
        needs.append(Need(f"below the maximum of {declared.maximum_c:g} °C", True))
    return tuple(needs)


async def from_room(bench: Bench, heater: str, samples: AsyncIterator[HeatSample]) -> float:
    """Wait, when the builder agrees, until the heater is near the room; returns the room in °C.

    The time left is told from the fall itself: ``t = tau ln((T - room) / 5 °C)``, tau from the slope.
    """
    room = room_temperature(bench, heater)
    first = await anext(samples)
    if first.celsius - room <= WARM_C:
        return room
    answer = await bench.ask(
        Question(
            f"The {heater} is at {first.celsius:.0f} °C and the room at {room:.0f} °C; a warm start spoils "
            f"the result. Wait until it is below {room + WARM_C:.0f} °C?",
            ("wait", "cancel"),
        )
    )
    if answer != "wait":
        raise TrialFailed("Not started: the hotend was still warm and you chose not to wait.")
    fan = part_fan(bench.machine)
    if fan:
        await bench.fan(fan, 1.0)
    last, left = first, None
    async for sample in samples:
        above = sample.celsius - room
        if above <= WARM_C:
            break
        if sample.time_s - last.time_s >= 10:
            fall = math.log(max(last.celsius - room, 0.1) / above) / (sample.time_s - last.time_s)
            left = math.log(above / WARM_C) / fall if fall > 1e-5 else None
            last = sample
        done = 1 - math.log(above / WARM_C) / math.log(max(first.celsius - room, WARM_C * 1.01) / WARM_C)
        bench.progress(Progress("cooling to room", done, left, f"{sample.celsius:.1f} °C"))
    if fan:
        await bench.fan(fan, 0.0)
    return room


def check_room_above(machine: MachineFile, heater: str, target: float, headroom: float) -> None:
    """Refuse an unknown heater or a target too near its maximum.

    Raises:
        TrialFailed: with the highest target allowed.
    """
    if heater not in machine.heaters:
        raise TrialFailed(f"No heater “{heater}” is declared; known: {', '.join(machine.heaters)}.")
    highest = machine.heaters[heater].maximum_c - headroom
    if target > highest:
        raise TrialFailed(
            f"{target:g} °C is too near the maximum of the {heater} "
            f"({machine.heaters[heater].maximum_c:g} °C): the swing needs {headroom:g} °C above the target. "
            f"Choose {highest:g} °C or less."
        )


def live_gains(bench: Bench, heater: str) -> Gains:
    """The gains that are live on the board."""
    return Gains(*(float(bench.setting(f"heaters.{heater}.{key}") or 0.0) for key in ("kp", "ki", "kd")))
