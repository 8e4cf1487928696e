"""A ringing tower: one wall around a square, its bands printed at rising accelerations, whose corners ring."""

from __future__ import annotations

import math
from dataclasses import dataclass

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.patterns import RIM_MM, TRAVEL_MM_S, Laying, Stroke, filament_for
from ublet.core.motion.program import Program, Push, To
from ublet.core.settings import Part, setting

WALLS = ("front", "right", "back", "left")
"""Walls in the order in which they are laid, from the front left corner."""

SHOWS = {"front": "y", "back": "y", "left": "x", "right": "x"}
"""The axis whose ringing stands on a wall: the one that has just stopped in its corner."""

GENTLEST = 0.4
"""The lowest band is printed at this share of the highest one's acceleration, where nothing else is asked for."""

BRIM = 3
"""Rounds beside one another in the first layer."""


class TowerShape(Part):
    """How large it is, how fast and how hard it is printed."""

    side_mm: float = setting("Side of the square.", unit="mm", low=30, high=150, default=50.0)
    bands: int = setting("Bands, one above the other.", low=1, high=8, default=4)
    band_mm: float = setting("Height of a band.", unit="mm", low=1, high=20, default=3.0)
    speed_mm_s: float = setting("Speed of the walls.", unit="mm/s", low=20, high=300, default=80.0)
    gentle_mm_s2: float = setting(
        "Acceleration of the lowest band; 0: a good third of the highest.",
        unit="mm/s²",
        low=0,
        high=50_000,
        default=0.0,
        zero="a good third of the highest",
    )
    hard_mm_s2: float = setting(
        "Acceleration of the highest band; 0: that of the axes.",
        unit="mm/s²",
        low=0,
        high=50_000,
        default=0.0,
        zero="that of the axes",
    )


@dataclass(frozen=True)
class Band:
    """A band: its number from the bottom (1 on), its acceleration in mm/s², where it begins and ends, mm."""

    number: int
    mm_s2: float
    from_mm: float
    to_mm: float


def place_of(band: Band) -> str:
    """The named place of a program where a band begins."""
    return f"band {band.number}, {band.mm_s2:g} mm/s2"


def wall_of(band: Band, wall: str) -> str:
    """A wall of a band, as the progress of reading names it."""
    return f"the {wall} wall, {place_of(band)}"


def bands_of(machine: MachineFile, shape: TowerShape) -> tuple[Band, ...]:
    """The bands, from the bottom."""
    axes = min(machine.axes.x.acceleration_mm_s2, machine.axes.y.acceleration_mm_s2)
    hard = min(shape.hard_mm_s2 or axes, axes)
    gentle = min(shape.gentle_mm_s2 or GENTLEST * hard, hard)
    steps = max(1, shape.bands - 1)
    found = []
    for number in range(shape.bands):
        share = number / steps if shape.bands > 1 else 1.0
        mm_s2 = round((gentle + (hard - gentle) * share) / 50) * 50 or 50
        found.append(Band(number + 1, float(mm_s2), number * shape.band_mm, (number + 1) * shape.band_mm))
    return tuple(found)


def even_after_mm(shape: TowerShape, mm_s2: float) -> float:
    """How far behind a corner the wall is at its speed: what lies before is left out, mm."""
    return shape.speed_mm_s**2 / (2 * mm_s2)


def ringing_tower(machine: MachineFile, shape: TowerShape | None = None) -> Program:
    """A purge line, then one wall around the square, layer on layer, in bands of rising acceleration.

    Raises:
        ValueError: it does not fit on the bed, there is no extruder, or a wall is too short for its speed.
    """
    shape = shape or TowerShape()
    if machine.extruder is None:
        raise ValueError("this machine has no extruder: a pattern pushes filament")
    bed, stroke = machine.bed, Stroke(0.5, 0.2, shape.speed_mm_s)
    rim = bed.margin_mm + RIM_MM
    room = min(bed.width_mm, bed.depth_mm) - 2 * rim - 20.0
    bands = bands_of(machine, shape)
    needed = 2 * even_after_mm(shape, bands[0].mm_s2) + 10.0
    if not needed <= shape.side_mm <= room:
        raise ValueError(
            f"a tower of {shape.side_mm:g} mm at {shape.speed_mm_s:g} mm/s: allowed {needed:.0f} to {room:g} mm; "
            "print it more slowly, or harder"
        )
    x, y, half = bed.width_mm / 2, bed.depth_mm / 2, shape.side_mm / 2
    laying = Laying(machine.extruder, stroke)
    laying.purge(x, rim)
    layer = stroke.height_mm
    for round_ in range(BRIM, 0, -1):  # from outside in; the last of these is the first layer's wall
        out = half + (round_ - 1) * stroke.width_mm
        if round_ == BRIM:
            laying.go(x - out, y - out, "brim")
        _around(laying, machine, x, y, out, stroke, 25.0, 0.0)
    for band in bands:
        place = place_of(band)
        for number in range(round(band.from_mm / layer), round(band.to_mm / layer)):
            if number == 0:
                continue
            laying.made.append(To({"z": (number + 1) * layer}, TRAVEL_MM_S))
            _around(laying, machine, x, y, half, stroke, shape.speed_mm_s, band.mm_s2, place)
            place = ""
    top = bands[-1].to_mm
    laying.made.append(Push(-machine.extruder.retract_mm, machine.extruder.retract_mm_s, "end"))
    laying.made.append(To({"z": top + 10.0}, TRAVEL_MM_S))
    note = f"{shape.side_mm:g} mm square, {len(bands)} bands, {shape.speed_mm_s:g} mm/s"
    return Program("ringing tower", tuple(laying.made), note)


def _around(
    laying: Laying,
    machine: MachineFile,
    x: float,
    y: float,
    half: float,
    stroke: Stroke,
    mm_s: float,
    mm_s2: float,
    place: str = "",
) -> None:
    """Once around, from the front left corner."""
    assert machine.extruder is not None
    here = laying.at
    for to in ((x + half, y - half), (x + half, y + half), (x - half, y + half), (x - half, y - half)):
        length = math.hypot(to[0] - here[0], to[1] - here[1])
        pushed = filament_for(length, stroke, machine.extruder.filament_mm)
        laying.made.append(To({"x": to[0], "y": to[1]}, mm_s, pushed, place, mm_s2))
        here, place = to, ""
    laying.at = here
