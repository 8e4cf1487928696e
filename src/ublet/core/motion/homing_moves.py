"""How an axis is homed as part of a trial: Z lifted before, over its place on the bed, warm where that is declared."""

from __future__ import annotations

from ublet.core.bench import Bench
from ublet.core.capabilities import Capability, Uses
from ublet.core.heat.demands import preheats
from ublet.core.heat.start import reach
from ublet.core.machine.schema import Axis, MachineFile
from ublet.core.motion.caps import UNHOMED_MM_S
from ublet.core.motion.lift_directions import must_go_alike
from ublet.core.remedies import WRITE
from ublet.core.remedy import GoTo, StartAgain
from ublet.core.run import Progress, TrialFailed
from ublet.core.words import several

TRAVEL_MM_S = 50.0
FRESH_S = 0.6
"""Readings are not older than this, s."""


def axis_of(machine: MachineFile, name: str) -> Axis:
    """The declared axis x, y or z."""
    axis: Axis = getattr(machine.axes, name)
    return axis


def number_of(bench: Bench, path: str) -> float:
    """A live number on the board.

    Raises:
        TrialFailed: the board has no such setting.
    """
    value = bench.settings.live(path)
    if not isinstance(value, (int, float)):
        raise TrialFailed(f"The board has no {path}: write the machine file to it first.", WRITE)
    return float(value)


def homing_order(machine: MachineFile) -> tuple[str, ...]:
    """The axes in the order in which they home."""
    return tuple(sorted(("x", "y", "z"), key=lambda name: axis_of(machine, name).homing.order))


def with_those_before(machine: MachineFile, wanted: tuple[str, ...]) -> tuple[str, ...]:
    """The wanted axes in the order of homing; Z on a probe needs X and Y before it."""
    needed = set(wanted)
    if "z" in needed and machine.axes.z.homing.end == "probe":
        needed |= {"x", "y"}
    return tuple(name for name in homing_order(machine) if name in needed)


def preheat_words(machine: MachineFile, axes: tuple[str, ...]) -> str:
    """What heats while these axes home, for an announcement."""
    warm = preheats(machine) if "z" in axes else {}
    if not warm:
        return "Nothing heats."
    heaters_words = several([f"the {heater} heats to {celsius:g} °C" for heater, celsius in warm.items()])
    return f"Before Z homes {heaters_words}, as declared."


def moving(*further: Capability) -> Uses:
    """What moving homed axes uses: also heat, where that is declared before Z homes."""
    return lambda machine: ("motion", *further, *(("heat",) if preheats(machine) else ()))


async def home_axis(bench: Bench, name: str) -> float | None:
    """Home one axis and step off its end; returns by how much its position had been off, mm.

    Raises:
        TrialFailed: it did not find its end.
    """
    machine = bench.machine
    if name == "z":
        _must_have_a_trigger(machine)
        await must_go_alike(bench)
    with bench.aside():  # how it gets there; where it then finds its end is what counts
        homing = axis_of(machine, name).homing
        z = bench.motion.position("z")
        if homing.lift_mm and name != "z" and (z is None or z < homing.lift_mm):
            fast = machine.axes.z.homing.fast_mm_s
            speed = min(fast, UNHOMED_MM_S) if z is None else fast
            await bench.motion.move("z", homing.lift_mm - (z or 0.0), speed)
        if name == "z":
            await preheat(bench)
            if homing.end == "probe":
                await _over_the_bed(bench)
    why, shift = await bench.motion.home(name)
    if why:
        raise TrialFailed(
            f"{name.upper()} did not find its end: {why}.",
            GoTo("inputs by hand", f"the end of {name.upper()} must read when it is pressed"),
            GoTo("directions", f"{name.upper()} must go towards its end"),
            GoTo("travel limits", f"something may bind on the way of {name.upper()}: where?", "part-clearance"),
        )
    with bench.aside():
        away = homing.back_off_mm * (-1 if homing.end == "high" else 1)
        await bench.motion.move(name, away, homing.fast_mm_s)
    return shift


def _must_have_a_trigger(machine: MachineFile) -> None:
    """A coil without a curve never triggers: homing Z with it would go on to the end of the axis.

    Raises:
        TrialFailed: it has none.
    """
    probe = machine.probe
    if machine.axes.z.homing.end != "probe" or probe is None or probe.kind != "coil":
        return
    if probe.coil is None or not probe.coil.trigger_hz:
        raise TrialFailed(
            "Z homes with a coil that has no calibration curve yet, and so no frequency to trigger at "
            "(probe.coil.trigger_hz). Measure it first: station coil probe, trial coil-curve. Z did not move.",
            GoTo("coil probe", "measure the curve and keep it", "coil-curve"),
        )


async def home_unhomed(bench: Bench, wanted: tuple[str, ...]) -> None:
    """Home what of these axes does not know where it stands, and what must be homed before it."""
    await bench.clock.rest(FRESH_S)  # a change kept a moment ago may have made the board forget its position
    with bench.aside():
        missing = tuple(name for name in wanted if bench.motion.position(name) is None)
        for name in with_those_before(bench.machine, missing):
            if bench.motion.position(name) is None:
                bench.progress(Progress(f"axis {name.upper()}", 0.0, None, "homing first"))
                await home_axis(bench, name)


async def go_to(bench: Bench, name: str, mm: float, speed_mm_s: float) -> None:
    """Move an axis that is homed to a position."""
    here = bench.motion.position(name)
    if here is None:
        raise TrialFailed(f"{name.upper()} is not homed any more: start again.", StartAgain())
    if abs(mm - here) > 1e-4:
        await bench.motion.move(name, mm - here, speed_mm_s)


async def preheat(bench: Bench) -> None:
    """Warm what must be warm before Z homes, and wait for it; what a trial holds hotter stays so."""
    warm = {
        heater: max(celsius, bench.heat.target(heater) or 0.0) for heater, celsius in preheats(bench.machine).items()
    }
    for heater, celsius in warm.items():
        await bench.heat.warm(heater, celsius)
    for heater, celsius in warm.items():
        await reach(bench, heater, celsius, 0.0)


async def _over_the_bed(bench: Bench) -> None:
    homing, probe = bench.machine.axes.z.homing, bench.machine.probe
    speed = probe.travel_mm_s if probe is not None else TRAVEL_MM_S
    for name, over in (("x", homing.over_x_mm), ("y", homing.over_y_mm)):
        if over is not None and bench.motion.position(name) is not None:
            await go_to(bench, name, over, speed)
