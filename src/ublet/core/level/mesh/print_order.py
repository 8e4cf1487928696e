"""The order in which a print begins and ends on a machine, and why: what its declaration and its results imply."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.patterns import RIM_MM, Laying, Stroke
from ublet.core.motion.program import Dwell, Segment, Warm
from ublet.core.units import duration

PARK_MM, UP_MM, DRAWN_MM = 10.0, 10.0, 2.0
FROM_HERE, ABSOLUTE = "G91 (from where it is)", "G90 (absolute places, mm)"


@dataclass(frozen=True)
class PrintStep:
    """One step: its word, what is done, why there, and what of it is motion. own: the builder's own line for it, from
    the machine file's table ``program``; standard words know no homing, for one. lines: words of the standard that
    come before the segments, or stand for them.
    """

    name: str
    does: str
    why: str
    own: str = ""
    segments: tuple[Segment, ...] = ()
    lines: tuple[str, ...] = ()


def start_of_print(machine: MachineFile, material: str, mesh: str, mesh_why: str) -> tuple[PrintStep, ...]:
    """What comes before the first line. mesh: the one to load (empty: none), and why that one or none."""
    own = machine.program
    beds = [name for name, heater in machine.heaters.items() if heater.part == "bed"]
    hotends = [name for name, heater in machine.heaters.items() if heater.part == "hotend"]
    warmth_of = machine.materials.get(material)
    steps: list[PrintStep] = []
    if beds:
        warm = f" to {warmth_of.bed_c:g} °C" if warmth_of is not None else ""
        why = "the bed is the slowest, and moves while it warms: everything else waits for it"
        steps.append(
            PrintStep("bed", f"heat the bed{warm}", why, own.bed, tuple(Warm(name, place="bed") for name in beds))
        )
        soak = machine.bed.soak_s
        does = f"let it soak for {duration(soak)}" if soak else "let it soak"
        why = (
            "its surface lags its sensor, by as much as the soak trial found"
            if soak
            else "nobody has measured how long: run the station soak time"
        )
        steps.append(PrintStep("soak", does, why, own.soak, (Dwell(soak, "soak"),) if soak else ()))
    hot = machine.axes.z.homing.preheat_nozzle_c
    if hotends and hot is not None:
        why = "plastic at a cold tip holds it off the bed; declared before Z homes"
        steps.append(PrintStep("tip", f"warm the nozzle to {hot:g} °C", why, own.tip))
    steps.append(PrintStep("home", "home X, Y, then Z", f"{_why_home(machine)}", own.home))
    if len(machine.axes.z.motors) > 1 and machine.lifts is not None:
        why = "single motors stand where they were left: their square is lost when they are let go"
        steps.append(PrintStep("lifts", "square the lead screws, then home Z again", why, own.lifts))
    if machine.mesh is not None:
        does = f"load the mesh “{mesh}”" if mesh else "load no mesh"
        steps.append(PrintStep("mesh", does, mesh_why, own.mesh))
    if hotends:
        warm = f" to {warmth_of.nozzle_c:g} °C" if warmth_of is not None else ""
        why = "last, since it drools while it waits"
        segments = tuple(Warm(name, place="nozzle") for name in hotends)
        steps.append(PrintStep("nozzle", f"heat the nozzle{warm}", why, own.nozzle, segments))
    if machine.extruder is not None:
        laying = Laying(machine.extruder, Stroke())
        laying.purge(machine.bed.width_mm / 2, machine.bed.margin_mm + RIM_MM)
        why = "what drooled out is missing at the beginning of the first line"
        counts = (f"G92 {own.filament}0 (filament counts from here)",) if own.filament else ()
        does = "lay a purge line along the front edge"
        steps.append(PrintStep("purge", does, why, own.purge, tuple(laying.made), counts))
    return tuple(steps)


def _why_home(machine: MachineFile) -> str:
    if machine.axes.z.homing.end == "probe":
        return "warm as it prints: bed and probe have moved with the heat; Z over the middle, after X and Y"
    return "warm as it prints: the bed has moved with the heat; Z last, away from what may lie on the bed"


def end_of_print(machine: MachineFile) -> tuple[PrintStep, ...]:
    """What comes after the last line. Where it ended nobody knows beforehand: drawing back and raising count from
    there.
    """
    own, steps, letter = machine.program, [], machine.program.filament
    if machine.extruder is not None and letter:
        why = "a string would hang between nozzle and part"
        lines = (FROM_HERE, f"G1 {letter}-{DRAWN_MM:g} F1200", ABSOLUTE)
        steps.append(PrintStep("draw back", f"draw back {DRAWN_MM:g} mm", why, own.draw_back, lines=lines))
    why = "the nozzle leaves the part before it can melt into it"
    x, y = machine.axes.x.minimum_mm + PARK_MM, machine.axes.y.maximum_mm - PARK_MM
    away = (FROM_HERE, f"G0 Z{UP_MM:g} F600", ABSOLUTE, f"G0 X{x:g} Y{y:g} F3600")
    steps.append(PrintStep("park", f"raise Z by {UP_MM:g} mm, park at the back left", why, own.park, lines=away))
    steps.append(PrintStep("off", "heaters off", "nothing is left hot that nobody watches", own.off))
    return tuple(steps)


def missing_from(text: str, steps: Sequence[PrintStep]) -> list[str]:
    """What a program that the builder wrote lacks of the steps, as sentences: each is looked for by the builder's own
    line for it, after the one of the step before.
    """
    missing, at, before = [], 0, ""
    plain = "\n".join(" ".join(line.split()) for line in text.splitlines())
    for step in steps:
        wanted = "\n".join(" ".join(line.split()) for line in step.own.strip().splitlines())
        if not wanted:
            key = step.name.replace(" ", "_")
            missing.append(
                f"{step.does}: it cannot be checked, since program.{key} does not say how your program writes it"
            )
            continue
        there = plain.find(wanted, at)
        if there >= 0:
            at, before = there + len(wanted), step.name
        elif wanted in plain:
            missing.append(f"{step.does}: “{wanted}” stands there, but before “{before}”; {step.why}")
        else:
            missing.append(f"{step.does}: “{wanted}” is missing; {step.why}")
    return missing
