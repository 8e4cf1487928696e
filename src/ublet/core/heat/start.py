"""Starting a heat trial: which sensor, what room, from how warm, with how much headroom; waiting until it is warm."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Callable, Sequence

import numpy as np

from ublet.core.bench import Bench, HeatSample
from ublet.core.heat.gain_sets import gains_below, gains_root
from ublet.core.heat.pid import PidGains
from ublet.core.machine.schema import MachineFile
from ublet.core.questions import Question
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, GoTo, StartAgain
from ublet.core.run import Progress, TrialFailed
from ublet.core.trial import Need
from ublet.core.units import duration

CLOSE_C = 2.0
"""Distance from its target within which a heater counts as there, °C."""

LONGEST_S = 1800.0


async def reach(
    bench: Bench, heater: str, celsius: float, fraction: float, settles_s: float = 0.0, settling: str = ""
) -> None:
    """Heat, and wait until it has been there for so long, s. share: of the whole trial; settling: what is shown
    meanwhile.

    Raises:
        TrialFailed: it does not get there.
    """
    await bench.heat.warm(heater, celsius)
    since = there = bench.clock.now_s()
    async for sample in bench.heat.samples(heater):
        now, near = sample.time_s, abs(sample.celsius - celsius) <= CLOSE_C
        there = there if near else now
        if near and now - there >= settles_s:
            return
        if now - since > LONGEST_S:
            raise TrialFailed(
                f"The {heater} did not hold {celsius:g} °C within {LONGEST_S / 60:g} minutes.",
                GoTo(f"{bench.machine.heaters[heater].part} control", "gains that hold a temperature", heater=heater),
            )
        phase = settling if near else f"{sample.celsius:.0f} of {celsius:g} °C"
        bench.progress(Progress(f"{heater} heats", fraction, None, phase))


SLOPE_SAMPLES = 80
"""Samples over which a fall is read before the builder is asked."""

WARM_C = 5.0
"""Above the room by more than this, a start is warm and spoils the first cycle and the model, °C."""


def part_fan(machine: MachineFile) -> str | None:
    """Name of the fan that cools the part, if there is one."""
    return next((name for name, fan in machine.fans.items() if fan.role == "part"), None)


def surface_sensor(machine: MachineFile, heater: str) -> str | None:
    """The sensor on the surface that a heater warms, if one is declared."""
    declared = machine.heaters.get(heater)
    if declared is None or declared.part != "bed" or machine.bed is None:
        return None
    return machine.bed.surface_sensor


def room_temperature(bench: Bench, heater: str) -> float:
    """Room temperature, °C: as declared, or the coolest of the other sensors, now or at first (none: this one).

    Raises:
        TrialFailed: the heater's own sensor does not read.
    """
    room = room_from(bench.machine, heater, bench.heat.celsius, bench.heat.first_c)
    if room is None:
        raise TrialFailed(
            f"The {bench.machine.heaters[heater].sensor} sensor reads open or shorted: "
            "check its plug and cable, then try again. Nothing was heated.",
            ByHand(f"check plug and cable of the {bench.machine.heaters[heater].sensor} sensor"),
        )
    return room


def room_from(
    machine: MachineFile, heater: str, read: Callable[[str], float | None], first_c: float | None = None
) -> float | None:
    """The room by a reader of sensors; None when the heater's own sensor does not read.

    first_c: the coolest sensor when the link was made, for a time when everything is warm.
    """
    own = machine.heaters[heater].sensor
    mine = read(own)
    if mine is None:
        return None
    if machine.machine.room_c is not None:
        return machine.machine.room_c
    others = [first_c, *(read(name) for name in machine.sensors if name != own)]
    return min((value for value in others if value is not None), default=mine)


def heat_needs(
    machine: MachineFile, heater: str, target: float, headroom: float, read: Callable[[str], float | None]
) -> tuple[Need, ...]:
    """What a heat trial needs: a sane sensor, headroom below the maximum, a start from the room."""
    declared = machine.heaters.get(heater)
    if declared is None:
        return (Need(f"no heater “{heater}” is declared; known: {', '.join(machine.heaters)}", False),)
    own, room = read(declared.sensor), room_from(machine, heater, read)
    if own is None or room is None:
        return (Need(f"{declared.sensor} sensor open, shorted or silent: check its plug", False),)
    needs = [Need("sensor reads", True)]
    if own - room > WARM_C:
        needs.append(Need(f"warm, {own:.0f} °C: will first cool to {room + WARM_C:.0f} °C", False, blocking=False))
    else:
        needs.append(Need(f"from room, {own:.0f} °C", True))
    highest = declared.maximum_c - headroom
    if target > highest:
        needs.append(Need(f"{target:g} °C is too near the maximum: choose {highest:g} °C or less", False))
    else:
        needs.append(Need(f"below the maximum of {declared.maximum_c:g} °C", True))
    return tuple(needs)


async def from_room(
    bench: Bench,
    heater: str,
    samples: AsyncIterator[HeatSample],
    wait: bool = False,
    near_c: float = WARM_C,
    falling: bool = False,
    then_s: float | None = None,
) -> float:
    """Wait, when the builder agrees or has said so before, until the heater is near the room; returns the room in °C.

    It is switched off first: somebody may have set it by hand. The time left is predicted from the fall itself.

    near_c: so far above the room counts as near. falling: only wait for one that cools; one that stands where it is has
    a sensor that reads wrong, and that is for the caller to say. then_s: how long the trial takes from there, where
    that is known.
    """
    await bench.heat.off(heater)
    with bench.aside():  # sensors that only show what room it is
        room = room_temperature(bench, heater)
        declared = bench.machine.machine.room_c is not None
    if declared:
        room = bench.machine.machine.room_c or room
    first = await anext(samples)
    if first.celsius - room <= near_c:
        return room
    seen = [first, *[await anext(samples) for _ in range(SLOPE_SAMPLES)]]
    later = seen[-1]
    if falling and not falls([patch.time_s for patch in seen], [patch.celsius for patch in seen]):
        return room
    left = time_to_room(first, later, room, near_c)
    how_long = f"in about {duration(left)} of the machine's time" if left is not None else "after some minutes"
    answer = (
        "wait"
        if wait
        else await bench.builder.ask(
            Question(
                f"The {heater} is at {later.celsius:.0f} °C and the room at {room:.0f} °C; a warm start spoils "
                f"the result. Wait until it is below {room + near_c:.0f} °C ({how_long}, sooner with the part fan)?",
                ("wait", "cancel"),
            )
        )
    )
    if answer != "wait":
        raise TrialFailed(
            f"Not started: the {heater} was still warm and you chose not to wait.",
            StartAgain("and wait until it is cool, or choose not to ask (parameter wait)"),
        )
    with bench.aside():
        fan = part_fan(bench.machine)
        if fan:
            await bench.heat.fan(fan, 1.0)
    last = later
    async for sample in samples:
        above = sample.celsius - room
        if above <= near_c:
            break
        if sample.time_s - last.time_s >= 10:
            left = time_to_room(last, sample, room, near_c)
            last = sample
        done = 1 - math.log(above / near_c) / math.log(max(first.celsius - room, near_c * 1.01) / near_c)
        words = f"to the room, {sample.celsius:.1f} °C"
        whole = left + then_s if left is not None and then_s is not None else left
        bench.progress(Progress("cooling", done, whole, words, phase_only=then_s is None))
    if fan:
        await bench.heat.fan(fan, 0.0)
    return room


def falls(time_s: Sequence[float], celsius: Sequence[float]) -> bool:
    """Whether readings fall by more than their noise explains: a straight line's slope below 0 by three of its errors.

    ``u(slope)^2 = s^2 / sum (t - mean t)^2`` (least squares), s from what the line leaves.
    """
    t = np.array(time_s) - np.mean(time_s)
    y = np.array(celsius)
    slope = float(t @ y / (t @ t))
    left = y - y.mean() - slope * t
    error = math.sqrt(float(left @ left) / (len(t) - 2) / float(t @ t))
    return slope < -3 * error


def time_to_room(first: HeatSample, last: HeatSample, room: float, near_c: float = WARM_C) -> float | None:
    """Seconds from the last sample until a cooling heater is near the room; None when it does not cool.

    ``t = tau ln((T - room) / near)`` for an exponential fall, tau from the two samples.
    """
    before, after = first.celsius - room, last.celsius - room
    if after <= near_c:
        return 0.0
    if before <= after or last.time_s <= first.time_s:
        return None
    fall = math.log(before / after) / (last.time_s - first.time_s)
    return math.log(after / near_c) / fall if fall > 1e-5 else None


def check_room_above(machine: MachineFile, heater: str, target: float, headroom: float) -> None:
    """Refuse an unknown heater or a target too near its maximum.

    Raises:
        TrialFailed: with the highest target allowed.
    """
    if heater not in machine.heaters:
        raise TrialFailed(
            f"No heater “{heater}” is declared; known: {', '.join(machine.heaters)}.",
            ChangeParameter("heater", "one that is declared"),
        )
    highest = machine.heaters[heater].maximum_c - headroom
    if target > highest:
        raise TrialFailed(
            f"{target:g} °C is too near the maximum of the {heater} "
            f"({machine.heaters[heater].maximum_c:g} °C): the limit cycle needs {headroom:g} °C above the target. "
            f"Choose {highest:g} °C or less.",
            ChangeParameter("target", f"{highest:g} °C or less"),
            ChangeSetting(f"heaters.{heater}.maximum_c", "if the part stands more"),
        )


def live_root(bench: Bench, heater: str, target_c: float) -> str:
    """The settings path below which the gains stand that are live for a target."""
    return gains_root(heater, target_c, bench.machine.heaters[heater].gains, bench.settings.shown)


def live_gains(bench: Bench, heater: str, target_c: float) -> PidGains:
    """The gains that are live on the board for a target."""
    return gains_below(live_root(bench, heater, target_c), bench.settings.shown)
