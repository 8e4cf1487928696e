"""Patterns to print, with a purge line before them: a square, patches of lines."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from ublet.core.machine.schema import MachineFile
from ublet.core.machine.tool_parts import Extruder
from ublet.core.motion.program import Program, Push, Segment, To

LIFT_MM = 2.0
PRIME_MM = 60.0
"""Length of the purge line."""

TRAVEL_MM_S = 120.0
RIM_MM = 2.0
"""The purge line keeps so far from the rim where nothing is printed, mm."""


@dataclass(frozen=True)
class Stroke:
    """How a line is laid: width and height of the string in mm, speed in mm/s."""

    width_mm: float = 0.45
    height_mm: float = 0.2
    mm_s: float = 25.0

    @property
    def section_mm2(self) -> float:
        """The string's section, a rectangle with round ends: ``(w - h) h + pi h^2 / 4`` for width w and height h."""
        return (self.width_mm - self.height_mm) * self.height_mm + math.pi * self.height_mm**2 / 4


@dataclass(frozen=True)
class Patch:
    """A place that is printed: its name, its middle and its size on the bed, mm."""

    name: str
    x: float
    y: float
    wide: float
    deep: float

    @property
    def place(self) -> tuple[float, float]:
        """Its middle."""
        return (self.x, self.y)


def filament_for(length_mm: float, stroke: Stroke, filament_mm: float) -> float:
    """Filament for a line, mm: the string's section over the filament's."""
    return length_mm * stroke.section_mm2 / (math.pi * filament_mm**2 / 4)


def in_the_air(program: Program, above_mm: float) -> Program:
    """The same way so far above the bed, without filament: to see where it goes before anything is printed."""
    made: list[Segment] = []
    place = ""
    for segment in program.segments:
        place = place or segment.place
        if isinstance(segment, Push):
            continue
        if isinstance(segment, To):
            at = {axis: mm + above_mm if axis == "z" else mm for axis, mm in segment.at.items()}
            made.append(To(at, segment.mm_s, place=place))
        else:
            made.append(replace(segment, place=place))
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
    rim = bed.margin_mm + RIM_MM
    room = min(bed.width_mm, bed.depth_mm) - 2 * rim
    if not 4 * laid.width_mm * rounds < side_mm <= room - 20.0:
        raise ValueError(
            f"a square of {side_mm:g} mm with {rounds} rounds does not fit: allowed {4 * laid.width_mm * rounds:g} to "
            f"{room - 20.0:g} mm on this bed"
        )
    middle_x, middle_y = bed.width_mm / 2, bed.depth_mm / 2
    laying = Laying(machine.extruder, laid)
    laying.purge(middle_x, rim)
    for number in range(rounds):
        half = side_mm / 2 - number * laid.width_mm
        corners = [(-half, -half), (half, -half), (half, half), (-half, half)]
        laying.go(middle_x - half, middle_y - half, f"square {number + 1} of {rounds}")
        for x, y in (*corners[1:], corners[0]):
            laying.lay(middle_x + x, middle_y + y, 2 * half)
    made = laying.end()
    return Program("square", made, f"{side_mm:g} mm square, {rounds} rounds, with a purge line")


def patches(machine: MachineFile, places: Sequence[Patch], stroke: Stroke) -> Program:
    """A purge line near the front edge, then every patch filled with lines beside one another; one that lies beside the
    one before it to the right goes on from there. Lines run along Y where a patch is wider than it is deep.

    Raises:
        ValueError: there is no extruder.
    """
    if machine.extruder is None:
        raise ValueError("this machine has no extruder: a pattern pushes filament")
    laying = Laying(machine.extruder, stroke)
    laying.purge(machine.bed.width_mm / 2, machine.bed.margin_mm + RIM_MM)
    before: Patch | None = None
    for patch in places:
        upright = patch.wide > patch.deep
        across, length = (patch.wide, patch.deep) if upright else (patch.deep, patch.wide)
        left, front = patch.x - patch.wide / 2, patch.y - patch.deep / 2
        count, place = max(2, int(across / stroke.width_mm)), patch.name
        goes_on = before is not None and upright and abs(before.x + before.wide / 2 - left) < stroke.width_mm
        for number in range(count):
            step = stroke.width_mm * (number + 0.5)
            ends = (0.0, length) if number % 2 == 0 else (length, 0.0)
            (x, y), (to_x, to_y) = (
                (left + step, front + end) if upright else (left + end, front + step) for end in ends
            )
            if number == 0 and not goes_on:
                laying.go(x, y, place)
                place = ""
            else:
                laying.lay(x, y, math.hypot(x - laying.at[0], y - laying.at[1]), place)
                place = ""
            laying.lay(to_x, to_y, length)
        before = patch
    return Program("first layer", laying.end(), f"{len(places)} patches, {stroke.height_mm:g} mm high")


class Laying:
    """Segments that lay lines, lifted and drawn back in between."""

    def __init__(self, extruder: Extruder, stroke: Stroke) -> None:
        self.made: list[Segment] = [To({"z": LIFT_MM + stroke.height_mm}, TRAVEL_MM_S, place="lift")]
        self.at = (0.0, 0.0)
        self._extruder, self._stroke, self._height = extruder, stroke, stroke.height_mm

    def at_height(self, stroke: Stroke, mm: float) -> None:
        """From now on lines are laid so, the nozzle so high above the bed."""
        self._stroke, self._height = stroke, mm

    def purge(self, middle_x: float, y: float) -> None:
        """A line along X near the front edge."""
        self.go(middle_x - PRIME_MM / 2, y, "purge line")
        self.lay(middle_x + PRIME_MM / 2, y, PRIME_MM)

    def lay(self, x: float, y: float, length: float, place: str = "") -> None:
        """A line to a place."""
        pushed = filament_for(length, self._stroke, self._extruder.filament_mm)
        self.made.append(To({"x": x, "y": y}, self._stroke.mm_s, pushed, place))
        self.at = (x, y)

    def go(self, x: float, y: float, place: str) -> None:
        """Over to the beginning of a line, lifted; with the filament drawn back, once some was laid."""
        lays = any(segment.filament for segment in self.made if isinstance(segment, To))
        draw, back = self._extruder.retract_mm, self._extruder.retract_mm_s
        if lays:
            self.made.append(Push(-draw, back))
            self.made.append(To({"z": LIFT_MM + self._height}, TRAVEL_MM_S))
        self.made.append(To({"x": x, "y": y}, TRAVEL_MM_S, place=place))
        self.made.append(To({"z": self._height}, TRAVEL_MM_S))
        if lays:
            self.made.append(Push(draw, back))
        self.at = (x, y)

    def end(self) -> tuple[Segment, ...]:
        """All of it; at the end drawn back and lifted."""
        self.made.append(Push(-self._extruder.retract_mm, self._extruder.retract_mm_s, "end"))
        self.made.append(To({"z": 10.0 + max(0.0, self._height - self._stroke.height_mm)}, TRAVEL_MM_S))
        return tuple(self.made)
