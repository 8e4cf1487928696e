"""Levelling cold or as warm as one prints: what is heated before, how long the bed soaks, and what is held since."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ublet.core.bench import Bench
from ublet.core.heat.demands import hotends, preheats
from ublet.core.heat.start import CLOSE_C, reach, room_from
from ublet.core.machine.schema import MachineFile
from ublet.core.questions import Live
from ublet.core.remedies import material_remedy
from ublet.core.remedy import ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import Progress, TrialFailed
from ublet.core.settings import Part, setting
from ublet.core.trial import Need
from ublet.core.trial_times import TrialTimes
from ublet.core.units import duration
from ublet.core.words import several


class WarmUp(Part):
    """How warm it is done."""

    bed_c: float = setting(
        "Bed temperature to do it at; 0: as it is.", zero="as it is", unit="°C", low=0, high=150, default=0.0
    )
    nozzle_c: float = setting(
        "Nozzle temperature to do it at; 0: as it is.", zero="as it is", unit="°C", low=0, high=300, default=0.0
    )


class BedWarmUp(WarmUp):
    """The same; a material's bed temperature stands for the bed's where none is given."""

    bed_c: float = setting(
        "Bed temperature; 0: by the material.", zero="by the material", unit="°C", low=0, high=150, default=0.0
    )
    material: str = setting(
        "Material at whose bed temperature it is done (a table below [materials]); empty: as it is.",
        zero="none",
        default="",
    )


class PrintWarmUp(BedWarmUp):
    """The same; a material's temperatures stand for both where they are not given."""

    nozzle_c: float = setting(
        "Nozzle temperature; 0: by the material.", zero="by the material", unit="°C", low=0, high=300, default=0.0
    )
    material: str = setting(
        "Material at whose temperatures it is done (a table below [materials]); empty: as it is.",
        zero="none",
        default="",
    )


def _temperatures(machine: MachineFile, aim: WarmUp) -> tuple[float, float]:
    """What bed and nozzle are to have, °C; 0: as they are.

    Raises:
        TrialFailed: there is no such material.
    """
    if not isinstance(aim, BedWarmUp) or not aim.material:
        return aim.bed_c, aim.nozzle_c
    material = machine.materials.get(aim.material)
    if material is None:
        known = ", ".join(machine.materials) or "none: add a table below [materials]"
        raise TrialFailed(f"No material “{aim.material}” is declared; known: {known}.", material_remedy(machine))
    hot = material.nozzle_c if isinstance(aim, PrintWarmUp) else 0.0
    return aim.bed_c or material.bed_c, aim.nozzle_c or hot


def cooling(
    machine: MachineFile,
    warm: Mapping[str, float],
    read: Callable[[str], float | None],
    target: Callable[[str], float | None],
    first_c: float | None = None,
) -> str:
    """Which bed cools during a trial that does not heat it, as a sentence's end; empty: none does.

    warm: heaters that are held, °C. A bed that is further above the room than a trial lets it move would end it on the
    way.
    """
    for name, heater in machine.heaters.items():
        celsius, room = read(heater.sensor), room_from(machine, name, read, first_c)
        if heater.part != "bed" or name in warm or target(name) is not None or celsius is None or room is None:
            continue
        if celsius - room > SAME_C:
            return f"the {name} is at {celsius:.0f} °C and cools to about {room:.0f}: it moves meanwhile"
    return ""


SAME_C = 6.0
"""A bed may change by this much while it is probed, °C: heights of two temperatures cannot be compared."""


async def soaked(bench: Bench, heater: str) -> None:
    """Let the bed stand at its temperature for as long as it is declared, counted from when it got there, whoever
    heated it; the builder may skip what is left, which is noted with the run.
    """
    soak_s = bench.machine.bed.soak_s
    began = bench.clock.now_s() - min(soak_s, bench.heat.held_s(heater))
    asked = Live("The bed soaks: its surface lags its sensor, and it moves meanwhile.", (SKIP,), None, {})
    if bench.clock.now_s() - began >= soak_s:
        return
    async with bench.builder.live(asked) as controls:
        while (gone := bench.clock.now_s() - began) < soak_s:
            if controls.answer is not None:
                bench.record.knowingly(f"the {heater} soaked for {duration(gone)} of {duration(soak_s)}")
                return
            left = soak_s - gone
            words = "its surface lags its sensor"
            bench.progress(Progress("the bed soaks", 0.05, left, words, phase_only=True))
            await bench.clock.rest(min(SOAK_STEP_S, soak_s - gone + 0.1))


SKIP = "skip the rest"
SOAK_STEP_S = 5.0
"""While the bed soaks the time left is shown this often, s."""


def wanted(machine: MachineFile, aim: WarmUp) -> dict[str, float]:
    """Heaters to hold, and at what, °C.

    Raises:
        TrialFailed: no heater is there for it, or it may not get so hot.
    """
    beds = [name for name, heater in machine.heaters.items() if heater.part == "bed"]
    bed_c, nozzle_c = _temperatures(machine, aim)
    temperatures = {}
    for words, heaters, celsius in (("bed", beds, bed_c), ("hotend", hotends(machine), nozzle_c)):
        if not celsius:
            continue
        if not heaters:
            raise TrialFailed(
                f"This machine file declares no heater of a {words}: it can only be done as it is.",
                ChangeSetting("heaters", f'set part = "{words}" at a heater'),
            )
        if celsius > (most := machine.heaters[heaters[0]].maximum_c):
            raise TrialFailed(
                f"The {heaters[0]} may be {most:g} °C at the most: {celsius:g} is too hot.",
                ChangeParameter("bed_c" if words == "bed" else "nozzle_c", f"{most:g} °C or less"),
            )
        temperatures[heaters[0]] = celsius
    return temperatures


async def warm_up(bench: Bench, aim: WarmUp) -> tuple[dict[str, float], dict[str, float]]:
    """Heat what is wanted and let the bed soak. Returns what is held, °C by heater; and the sensors that must stay as
    they read now, °C.

    Raises:
        TrialFailed: it does not get there; or a bed that is not heated is warm, and cools meanwhile.
    """
    machine, warm = bench.machine, wanted(bench.machine, aim)
    with bench.aside():
        cools = cooling(machine, warm, bench.heat.celsius, bench.heat.target, bench.heat.first_c)
    if cools:
        raise TrialFailed(
            f"Not begun: {cools}. Nothing moved.",
            ChangeParameter("material" if isinstance(aim, BedWarmUp) else "bed_c", "as warm as you print"),
            StartAgain("when it is cold"),
        )
    for heater, celsius in warm.items():
        await bench.heat.warm(heater, celsius)
    for heater, celsius in warm.items():
        await reach(bench, heater, celsius, 0.02)
    if any(machine.heaters[heater].part == "bed" for heater in warm) and machine.bed.soak_s:
        await soaked(bench, next(heater for heater in warm if machine.heaters[heater].part == "bed"))
    beds = [heater.sensor for heater in machine.heaters.values() if heater.part == "bed"]
    read = {sensor: bench.heat.celsius(sensor) for sensor in beds}
    return warm, {sensor: celsius for sensor, celsius in read.items() if celsius is not None}


def conditions(bench: Bench) -> dict[str, float]:
    """How warm bed and hotend are now, °C by heater."""
    read = {name: bench.heat.celsius(heater.sensor) for name, heater in bench.machine.heaters.items()}
    return {f"{name}_c": round(celsius, 1) for name, celsius in read.items() if celsius is not None}


COLD_C, WARM_BED_C = 35.0, 45.0
"""A bed below the first counts as cold, on a machine with a material whose bed is warmer than the second, °C."""


def cold_words(machine: MachineFile, conditions: Mapping[str, object]) -> str:
    """How cold the bed was when something was measured that prints will have warm; empty: it was not."""
    beds = [name for name, heater in machine.heaters.items() if heater.part == "bed"]
    read = [value for name in beds if isinstance(value := conditions.get(f"{name}_c"), (int, float))]
    prints_warm = any(material.bed_c > WARM_BED_C for material in machine.materials.values())
    return f"cold: bed at {read[0]:.0f} °C" if read and prints_warm and read[0] < COLD_C else ""


def warming_s(machine: MachineFile, aim: WarmUp, times: TrialTimes) -> float:
    """How long heating and soaking take before it is levelled, s."""
    try:
        warm = wanted(machine, aim)
    except TrialFailed:
        return 0.0
    soaks = any(machine.heaters[heater].part == "bed" for heater in warm)
    return times.warm_s(warm, machine.bed.soak_s if soaks else 0.0)


def warm_words(machine: MachineFile, aim: WarmUp) -> str:
    """What heats, for an announcement."""
    try:
        warm = wanted(machine, aim)
    except TrialFailed as missing:
        return str(missing)
    bed = any(machine.heaters[heater].part == "bed" for heater in warm)
    soak = f"; the bed soaks for {machine.bed.soak_s:g} s" if bed and machine.bed.soak_s else ""
    heaters_words = several([f"the {heater} to {celsius:g} °C" for heater, celsius in warm.items()])
    first = f"Heats {heaters_words}{soak}. " if warm else ""
    before = {heater: celsius for heater, celsius in preheats(machine).items() if celsius > warm.get(heater, 0.0)}
    homing = several([f"the {heater} heats to {celsius:g} °C" for heater, celsius in before.items()])
    return f"{first}{f'Before Z homes {homing}, as declared.' if before else '' if warm else 'Nothing heats.'}".strip()


def warm_needs(machine: MachineFile, aim: WarmUp, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    """What holding these temperatures needs."""
    try:
        warm = wanted(machine, aim)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    needs = []
    if cools := cooling(machine, warm, read, lambda heater: None):
        needs.append(Need(f"{cools}: heat it, or wait", False, blocking=False))
    for heater, celsius in warm.items():
        own = read(machine.heaters[heater].sensor)
        if own is None:
            needs.append(Need(f"the {heater}'s sensor does not read", False))
        else:
            needs.append(Need(f"{heater} at {own:.0f} °C: heats to {celsius:g}", own >= celsius - CLOSE_C, False))
    return tuple(needs)
