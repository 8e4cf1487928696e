"""Patterns to print: a square with a purge line before it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.program import Program, Push, Segment, To

LIFT_MM = 2.0
PRIME_MM = 60.0
"""Length of the purge line."""

TRAVEL_MM_S = 120.0


@dataclass(frozen=True)
class Stroke:
    """How a line is laid: width and height of the string in mm, speed in mm/s."""

    width_mm: float = 0.45
    height_mm: float = 0.2
    mm_s: float = 25.0


def filament_for(length_mm: float, stroke: Stroke, filament_mm: float) -> float:
    """Filament for a line, mm: the string's section, a rectangle with round ends, over the filament's.

    ``(w - h) h + pi h^2 / 4`` for a width w and a height h.
    """
    section = (stroke.width_mm - stroke.height_mm) * stroke.height_mm + math.pi * stroke.height_mm**2 / 4
    return length_mm * section / (math.pi * filament_mm**2 / 4)


def in_the_air(program: Program, above_mm: float) -> Program:
    """The same way so far above the bed, without filament: to see where it goes before anything is printed."""
    made: list[Segment] = []
    place = ""
    for each in program.segments:
        place = place or each.place
        if isinstance(each, Push):
            continue
        if isinstance(each, To):
            at = {axis: mm + above_mm if axis == "z" else mm for axis, mm in each.at.items()}
            made.append(To(at, each.mm_s, place=place))
        else:
            made.append(replace(each, place=place))
        place = ""
    return Program(program.name, tuple(made), f"{program.note}, {above_mm:g} mm above the bed and without filament")


def square(machine: MachineFile, side_mm: float = 40.0, rounds: int = 3, stroke: Stroke | None = None) -> Program:
    """A purge line near the front edge, then squares one inside the other in the middle of the bed.

    Raises:
        ValueError: it does not fit on the bed, or there is no extruder.
    """
    if machine.extruder is None:
        raise ValueError("this machine has no extruder: a pattern pushes filament")
    bed, laid = machine.bed, stroke or Stroke()
    rim = bed.margin_mm + 2.0
    room = min(bed.width_mm, bed.depth_mm) - 2 * rim
    if not 4 * laid.width_mm * rounds < side_mm <= room - 20.0:
        raise ValueError(
            f"a square of {side_mm:g} mm with {rounds} rounds does not fit: allowed {4 * laid.width_mm * rounds:g} to "
            f"{room - 20.0:g} mm on this bed"
        )
    draw, back = machine.extruder.retract_mm, machine.extruder.retract_mm_s
    made: list[Segment] = []

    def lay(x: float, y: float, length: float, place: str = "") -> None:
        pushed = filament_for(length, laid, machine.extruder.filament_mm) if machine.extruder else 0.0
        made.append(To({"x": x, "y": y}, laid.mm_s, pushed, place))

    def go(x: float, y: float, place: str) -> None:
        """Over to the beginning of a line, lifted; with the filament drawn back, once some was laid."""
        lays = any(each.filament for each in made if isinstance(each, To))
        if lays:
            made.append(Push(-draw, back))
            made.append(To({"z": LIFT_MM + laid.height_mm}, TRAVEL_MM_S))
        made.append(To({"x": x, "y": y}, TRAVEL_MM_S, place=place))
        made.append(To({"z": laid.height_mm}, TRAVEL_MM_S))
        if lays:
            made.append(Push(draw, back))

    middle_x, middle_y = bed.width_mm / 2, bed.depth_mm / 2
    made.append(To({"z": LIFT_MM + laid.height_mm}, TRAVEL_MM_S, place="lift"))
    go(middle_x - PRIME_MM / 2, rim, "purge line")
    lay(middle_x + PRIME_MM / 2, rim, PRIME_MM)
    for number in range(rounds):
        half = side_mm / 2 - number * laid.width_mm
        corners = [(-half, -half), (half, -half), (half, half), (-half, half)]
        go(middle_x - half, middle_y - half, f"square {number + 1} of {rounds}")
        for x, y in (*corners[1:], corners[0]):
            lay(middle_x + x, middle_y + y, 2 * half)
    made.append(Push(-draw, back, "end"))
    made.append(To({"z": 10.0}, TRAVEL_MM_S))
    return Program("square", tuple(made), f"{side_mm:g} mm square, {rounds} rounds, with a purge line")
