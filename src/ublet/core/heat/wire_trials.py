"""Trials of the leg Wire that concern heat: each heater with its own sensor, each fan by itself."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ublet.core.heat.pairing import Warmed, exchange, odd_sensors
from ublet.core.heat.start import surface_sensor
from ublet.core.machine.schema import MachineFile
from ublet.core.mixed_up import cycles
from ublet.core.settings import Part, setting
from ublet.core.trial import Bench, Finding, Need, Option, Progress, Question, TrialFailed, TrialResult, TrialSpec

APART_C = 5.0
"""Sensors at rest further than this from the room are not believed, °C."""

CALM_S = 15.0
"""Rest between two pulses: what was warmed goes on rising for a while, s."""

SEEN_C, FELT_C = 3.3, 10.0
"""A pulse ends at this rise of its own sensor; of another one's only when a finger can feel it, °C."""

HIGHEST_C = 25.0
"""A pulse ends when any sensor has risen by this much, °C."""


class PairingParameters(Part):
    """How strong and how long a pulse may be."""

    duty: float = setting("Duty of the pulse.", unit="duty", low=0.05, high=0.5, default=0.3)
    longest_s: float = setting("Longest pulse.", unit="s", low=10, high=120, default=60.0)


class FanParameters(Part):
    """How long each fan turns before the question."""

    spin_s: float = setting("Time to come up to speed.", unit="s", low=1, high=20, default=3.0)


async def heaters_paired(bench: Bench, aim: PairingParameters) -> TrialResult:
    """All sensors near the room; then a short low-power pulse on each heater: its own sensor must warm."""
    machine = bench.machine
    readings = {name: bench.celsius(name) for name in machine.sensors}
    odd = odd_sensors(readings, machine.machine.room_c, APART_C)
    if odd:
        raise TrialFailed(f"{' '.join(odd.values())} Nothing was heated.")
    pulses: list[Warmed] = []
    felt: tuple[str, str] | None = None
    for number, (name, heater) in enumerate(machine.heaters.items()):
        pulses.append(await _pulse(bench, name, aim, number))
        if felt is None and pulses[-1].sensor not in (None, heater.sensor):
            felt = (name, await _feel(bench, name))  # now, while only this one is warm
    found = {pulse.heater: pulse.sensor for pulse in pulses}
    own = {name: heater.sensor for name, heater in machine.heaters.items()}
    findings = tuple(
        Finding(f"{pulse.heater} warms {sensor}", rise, None, "°C")
        for pulse in pulses
        for sensor, rise in pulse.rises.items()
    )
    if found == own:
        return TrialResult("proven", "Each heater warms its own sensor.", {}, findings)
    dead = [name for name, sensor in found.items() if sensor is None]
    words = [f"The {name} warmed no sensor: check its plug, its fuse and its supply." for name in dead]
    crossed = {name: sensor for name, sensor in found.items() if sensor not in (None, own[name])}
    words += [f"Driving the {name} warmed the {sensor} sensor." for name, sensor in crossed.items()]
    wrong = cycles(found, own)
    if not wrong:
        return TrialResult("failed", " ".join(words), {}, findings)
    return _which_plugs(bench, wrong, own, felt, words, findings)


async def _pulse(bench: Bench, heater: str, aim: PairingParameters, number: int) -> Warmed:
    """Drive one heater gently until a sensor stands out, or the time is up."""
    machine = bench.machine
    count = len(machine.heaters)
    if number:
        await bench.rest(CALM_S)
    start = {name: bench.celsius(name) or 0.0 for name in machine.sensors}
    own = start[machine.heaters[heater].sensor]
    surfaces = frozenset(sensor for name in machine.heaters if (sensor := surface_sensor(machine, name)))
    await bench.relay(heater, own + HIGHEST_C, 1.0, aim.duty, 0.0)
    rises = dict.fromkeys(start, 0.0)
    passed = 0.0
    crossed = False
    while passed < aim.longest_s * (2 if crossed else 1):
        await bench.rest(1.0)
        passed += 1.0
        rises = {name: (bench.celsius(name) or start[name]) - start[name] for name in start}
        share = (number + passed / aim.longest_s) / count
        bench.progress(Progress(f"{heater} pulse", share, None, f"{number + 1} of {count}"))
        bench.show("rises", ("heater", "time_s", *(f"{n}_c" for n in start)), (float(number), passed, *rises.values()))
        warmed = Warmed(heater, rises, surfaces).sensor
        crossed = warmed not in (None, machine.heaters[heater].sensor)
        if warmed is not None and max(rises.values()) > (FELT_C if crossed else SEEN_C):
            break
    await bench.target(heater, None)
    return Warmed(heater, rises, surfaces)


async def _feel(bench: Bench, driven: str) -> str:
    """Another sensor warmed than the heater's own: which block did a finger find warm?"""
    blocks = tuple(bench.machine.heaters)
    return await bench.ask(
        Question(
            f"The {driven} was driven, and another sensor warmed. With care: which block is warm now?",
            (*blocks, "cannot tell"),
            ("feel", *blocks),
        )
    )


def _which_plugs(
    bench: Bench,
    wrong: Mapping[str, str],
    own: Mapping[str, str],
    felt: tuple[str, str] | None,
    words: list[str],
    findings: tuple[Finding, ...],
) -> TrialResult:
    """Heaters and sensors are crossed: what a finger found tells which of the two plugs were mixed up."""
    if felt is None or felt[1] == "cannot tell":
        return TrialResult("failed", " ".join(words), {}, findings)
    if felt[1] == felt[0]:  # the heater is right, so its sensor's plug sits elsewhere
        parts = {own[name]: own[other] for name, other in wrong.items()}
        sockets = {name: bench.setting(f"sensors.{name}.socket") for name in parts}
        proposals = exchange(parts, "sensors", sockets, "the sensor of the {} is plugged in there")
        words.append("The heaters are right: the sensors' plugs are mixed up.")
    else:
        parts = {other: name for name, other in wrong.items()}
        sockets = {name: bench.setting(f"heaters.{name}.socket") for name in parts}
        proposals = exchange(parts, "heaters", sockets, "the {} is plugged in there")
        words.append("The sensors are right: the heaters' plugs are mixed up.")
    option = Option("mend", "then pulse them again", proposals, {})
    return TrialResult("failed", " ".join(words), {}, findings, (option,), "mend")


async def fans_one_by_one(bench: Bench, aim: FanParameters) -> TrialResult:
    """Each fan by itself at full duty; the builder says which one turns."""
    names = tuple(bench.machine.fans)
    found: dict[str, str | None] = {}
    for number, name in enumerate(names):
        bench.progress(Progress(f"{name} fan", number / len(names), None, f"{number + 1} of {len(names)}"))
        for other in names:
            await bench.fan(other, 1.0 if other == name else 0.0)
        await bench.rest(aim.spin_s)
        answer = await bench.ask(
            Question(f"The {name} fan was told to turn. Which fan turns?", (*names, "none"), ("look", "fans"))
        )
        found[name] = None if answer == "none" else answer
        await bench.fan(name, 0.0)
    own = {name: name for name in names}
    findings = (Finding("fans right", float(sum(found[name] == name for name in names)), None, ""),)
    if found == own:
        return TrialResult("proven", f"{len(names)} fans turn as they are told.", {}, findings)
    words = [f"The {name} fan does not turn: check its plug." for name, seen in found.items() if seen is None]
    words += [
        f"Told the {name} fan, the {seen} fan turned." for name, seen in found.items() if seen not in (None, name)
    ]
    wrong = {seen: name for name, seen in cycles(found, own).items()}
    if not wrong:
        return TrialResult("failed", " ".join(words), {}, findings)
    sockets = {name: bench.setting(f"fans.{name}.socket") for name in wrong}
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
        Need("all sensors near the room", True),
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


def _depends(*roots: str) -> Callable[[Any, Mapping[str, Any]], tuple[str, ...]]:
    def depends(aim: Any, known: Mapping[str, Any]) -> tuple[str, ...]:
        return tuple(path for path in known if path.startswith(roots) and path.endswith((".socket", ".sensor")))

    return depends


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "heaters-paired",
        "heaters paired",
        "A short low-power pulse on each heater: its own sensor must warm.",
        PairingParameters,
        heaters_paired,
        _announce_pairing,
        _depends("heaters.", "sensors."),
        _pairing_needs,
        verify="heaters-paired",
        mends=True,
    ),
    TrialSpec(
        "fans-one-by-one",
        "fans",
        "Each fan by itself; which one turns?",
        FanParameters,
        fans_one_by_one,
        _announce_fans,
        _depends("fans."),
        _fan_needs,
        verify="fans-one-by-one",
        mends=True,
    ),
)
