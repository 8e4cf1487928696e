"""Trials of the leg Wire that concern heat: each heater with its own sensor, each fan by itself."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.heat.pairing import Warmed, exchange, odd_sensors
from ublet.core.heat.start import surface_sensor
from ublet.core.machine.schema import MachineFile
from ublet.core.mixed_up import cycles
from ublet.core.observations import FeelBlocks, LookAtFans
from ublet.core.questions import Question
from ublet.core.remedy import ByHand, ChangeParameter, GoTo, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes

APART_C = 5.0
"""Sensors at rest further than this from the room are not believed, °C."""

CALM_S = 15.0
"""Rest between two pulses: what was warmed goes on rising for a while, s."""

FELT_C = 10.0
"""A pulse ends when a sensor has risen by this much: a hand held near feels it, °C."""

COLD_C, COLD_FRACTION = 1.0, 0.5
"""No sensor risen by this much after this share of the time: nothing warms, °C."""

HIGHEST_C = 25.0
"""A pulse ends when any sensor has risen by this much, °C."""


class PairingParameters(Part):
    """How strong and how long a pulse may be."""

    duty: float = setting("Duty of the pulse.", unit="duty", low=0.05, high=0.5, default=0.3)
    longest_s: float = setting("Longest pulse.", unit="s", low=20, high=300, default=150.0)


class FanParameters(Part):
    """How long each fan turns before the question."""

    spin_s: float = setting("Time to come up to speed.", unit="s", low=1, high=20, default=3.0)


async def heaters_paired(bench: Bench, aim: PairingParameters) -> TrialResult:
    """All sensors near room temperature; then a gentle pulse on each heater: its own sensor must warm, and its block.

    The sensors alone cannot distinguish a machine whose heaters and sensors are both exchanged from a right one: only
    a hand at the block can.
    """
    machine = bench.machine
    with bench.aside():
        readings = {name: bench.heat.celsius(name) for name in machine.sensors}
        odd = odd_sensors(readings, machine.machine.room_c, APART_C)
    if odd:
        raise TrialFailed(
            f"{' '.join(odd.values())} Nothing was heated.",
            GoTo("sensors at rest", "compare the sensor with a reference"),
        )
    pulses: list[Warmed] = []
    felt: dict[str, str] = {}
    for number, name in enumerate(machine.heaters):
        pulses.append(await _pulse(bench, name, aim, number))
        if pulses[-1].sensor is not None:
            felt[name] = await _feel(bench, name)
    findings = tuple(
        Finding(
            "rise",
            rise,
            unit="°C",
            subject={"heater": pulse.heater, "sensor": sensor},
            words=f"{pulse.heater} warms {sensor}",
        )
        for pulse in pulses
        for sensor, rise in pulse.rises.items()
    )
    own = {name: heater.sensor for name, heater in machine.heaters.items()}
    return _paired(bench, {pulse.heater: pulse.sensor for pulse in pulses}, felt, own, findings)


async def _pulse(bench: Bench, heater: str, aim: PairingParameters, number: int) -> Warmed:
    """Drive one heater gently until a hand can feel it, or the time is up."""
    machine = bench.machine
    count = len(machine.heaters)
    if number:
        await bench.clock.rest(CALM_S)
    with bench.aside():
        start = {name: bench.heat.celsius(name) or 0.0 for name in machine.sensors}
    own = start[machine.heaters[heater].sensor]
    with bench.aside():
        surfaces = frozenset(sensor for name in machine.heaters if (sensor := surface_sensor(machine, name)))
    await bench.heat.pulse(heater, aim.duty, own + HIGHEST_C)
    rises = dict.fromkeys(start, 0.0)
    passed = 0.0
    while passed < aim.longest_s and max(rises.values()) < FELT_C:
        await bench.clock.rest(1.0)
        passed += 1.0
        rises = {name: bench.heat.rise(name, start[name]) or 0.0 for name in start}
        fraction = (number + passed / aim.longest_s) / count
        bench.progress(Progress(f"{heater} pulse", fraction, None, f"{number + 1} of {count}"))
        for at, rise in enumerate(rises.values()):
            bench.record.row("rises", (float(number), passed, float(at), rise))
        if passed > COLD_FRACTION * aim.longest_s and max(rises.values()) < COLD_C:
            break
    await bench.heat.off(heater)
    return Warmed(heater, rises, surfaces)


CANNOT_SAY = "cannot tell"


async def _feel(bench: Bench, driven: str) -> str:
    """Which block a hand found to get warm while one heater was driven; it is off again."""
    blocks = tuple(bench.machine.heaters)
    named = " or ".join(blocks)
    text = (
        f"Touch nothing, hold the hand near: which one is getting warm, {named}? (The {driven} was driven; it is off.)"
    )
    return await bench.builder.ask(Question(text, (*blocks, CANNOT_SAY), FeelBlocks(tuple(blocks))))


def _paired(
    bench: Bench,
    warmed: Mapping[str, str | None],
    felt: Mapping[str, str],
    own: Mapping[str, str],
    findings: tuple[Finding, ...],
) -> TrialResult:
    """What was warmed, by the sensors and by the hand, gives the plugs that are mixed up.

    warmed: heater → the sensor that rose; felt: heater → the block that a hand found warm; own: block → its sensor.
    The block that a heater warms shows where that heater's plug sits, and the sensor that rose then, the sensor's.
    """
    dead = [name for name, sensor in warmed.items() if sensor is None]
    words = [f"The {name} warmed no sensor: check its plug, its fuse and its supply." for name in dead]
    words += [f"Driving the {n} warmed the {s} sensor." for n, s in warmed.items() if s not in (None, own[n])]
    unknown = [name for name, block in felt.items() if block == CANNOT_SAY]
    if unknown:
        named = " and ".join(unknown)
        words.append(
            f"Nobody felt which block the {named} warms, so plugs may be mixed up unnoticed: pulse again, longer."
        )
        longer = ChangeParameter("longest_s", "longer pulses")
        return TrialResult("failed", " ".join(words), {}, findings, remedies=(longer,))
    words += [f"Driving the {name}, the {block} got warm." for name, block in felt.items() if block != name]
    if not words:
        return TrialResult("proven", "Each heater warms its own block and its own sensor.", {}, findings)
    heaters = _permuted({block: name for name, block in felt.items()})
    sensors = _permuted({own[block]: str(warmed[name]) for name, block in felt.items()})
    proposals: tuple[Proposal, ...] = ()
    for parts, root, what, effect in (
        (heaters, "heaters", "heaters", "the {} is plugged in there"),
        (sensors, "sensors", "sensors", "the sensor of the {} is plugged in there"),
    ):
        if parts:
            sockets = {part: bench.settings.shown(f"{root}.{part}.socket") for part in parts}
            proposals += exchange(parts, root, sockets, effect)
            words.append(f"The {what}' plugs are mixed up.")
    if not proposals or dead:
        wired = ByHand("check the heater's plug, its fuse and its supply")
        return TrialResult("failed", " ".join(words), {}, findings, remedies=(wired, StartAgain()))
    if not (heaters and sensors):
        words.append(f"The {'sensors' if heaters else 'heaters'} are right.")
    option = Option("mend", "then pulse them again", proposals, {})
    return TrialResult("failed", " ".join(words), {}, findings, (option,), "mend")


def _permuted(warmed: Mapping[str, str]) -> dict[str, str]:
    """The parts that sit at each other's places; none when they are not all each other's."""
    wrong = {part: other for part, other in warmed.items() if part != other}
    return wrong if set(wrong) == set(wrong.values()) else {}


async def fans_one_by_one(bench: Bench, aim: FanParameters) -> TrialResult:
    """Each fan by itself at full duty; the builder says which one turns."""
    names = tuple(bench.machine.fans)
    turned: dict[str, str | None] = {}
    for number, name in enumerate(names):
        bench.progress(Progress(f"{name} fan", number / len(names), None, f"{number + 1} of {len(names)}"))
        for other in names:
            await bench.heat.fan(other, 1.0 if other == name else 0.0)
        await bench.clock.rest(aim.spin_s)
        answer = await bench.builder.ask(
            Question(f"The {name} fan was switched on. Which fan turns?", (*names, "none"), LookAtFans())
        )
        turned[name] = None if answer == "none" else answer
        bench.record.row("seen", (float(number), math.nan if answer == "none" else float(names.index(answer))))
        await bench.heat.fan(name, 0.0)
    own = {name: name for name in names}
    findings = (Finding("fans_right", float(sum(turned[name] == name for name in names))),)
    if turned == own:
        return TrialResult("proven", f"{len(names)} fans turn when switched on.", {}, findings)
    words = [f"The {name} fan does not turn: check its plug." for name, seen in turned.items() if seen is None]
    words += [
        f"The {name} fan was switched on, and the {seen} fan turned instead."
        for name, seen in turned.items()
        if seen not in (None, name)
    ]
    wrong = {seen: name for name, seen in cycles(turned, own).items()}
    if not wrong:
        wired = ByHand("check the fan's plug")
        return TrialResult("failed", " ".join(words), {}, findings, remedies=(wired, StartAgain()))
    sockets = {name: bench.settings.shown(f"fans.{name}.socket") for name in wrong}
    option = Option(
        "mend", "then turn them again", exchange(wrong, "fans", sockets, "the {} fan is plugged in there"), {}
    )
    return TrialResult("failed", " ".join(words), {}, findings, (option,), "mend")


def _pairing_needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    readings = {name: read(name) for name in machine.sensors}
    odd = odd_sensors(readings, machine.machine.room_c, APART_C)
    if odd:
        return tuple(Need(words.rstrip("."), False) for words in odd.values())
    return (
        Need("all sensors near room temperature", True),
        Need(f"{len(machine.heaters)} heaters declared", bool(machine.heaters)),
    )


def _fan_needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (Need(f"{len(machine.fans)} fans declared", bool(machine.fans)),)


def _announce_pairing(machine: MachineFile, aim: PairingParameters) -> str:
    names = " and ".join(machine.heaters)
    return (
        f"Warms {names} one after the other at {100 * aim.duty:.0f} % for at most {aim.longest_s:.0f} s, "
        f"by {HIGHEST_C:.0f} °C at the most. Nothing moves."
    )


def _announce_fans(machine: MachineFile, aim: FanParameters) -> str:
    return f"Turns {len(machine.fans)} fans one after the other at full speed: keep fingers away. Nothing heats."


USUAL_PULSE_S = {"hotend": 38.0, "bed": 130.0, "chamber": 150.0}
"""How long a gentle pulse takes until it can be felt, by the part that it warms, s."""


def _lasts(machine: MachineFile, aim: PairingParameters, times: TrialTimes) -> float:
    return sum(USUAL_PULSE_S[heater.part] for heater in machine.heaters.values())


def _lasts_fans(machine: MachineFile, aim: FanParameters, times: TrialTimes) -> float:
    return len(machine.fans) * aim.spin_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "heaters-paired",
        "heaters paired",
        "A short low-power pulse on each heater: its own sensor must warm.",
        PairingParameters,
        heaters_paired,
        (Stream("rises", ("heater", "time_s", "sensor", "rise_c"), ("", "s", "", "°C"), 1.0),),
        _announce_pairing,
        _pairing_needs,
        verify="heaters-paired",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=always("heat"),
        facts=facts("plugs"),
    ),
    TrialSpec(
        "fans-one-by-one",
        "fans",
        "Each fan by itself; which one turns?",
        FanParameters,
        fans_one_by_one,
        (Stream("seen", ("commanded", "turned"), ("", ""), number="f4"),),
        _announce_fans,
        _fan_needs,
        verify="fans-one-by-one",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts_fans,
        uses=always("heat"),
        facts=facts("plugs"),
    ),
)
