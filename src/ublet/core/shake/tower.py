"""A ringing tower: a wall around a square in bands of rising acceleration, and ringing read off its ripples."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.patterns import RIM_MM, TRAVEL_MM_S, Laying, Stroke, filament_for
from ublet.core.motion.program import Program, Push, To
from ublet.core.settings import Part, setting

READ_MM, PLACED = 0.05, 0.12
"""Callipers beside a lens: a distance is read within so much, half-width, mm; and where a ripple begins is seen within
this share of it, standard, at both ends.
"""

MOST_RIPPLES, MOST_MM, MOST_MM_S = 1000.0, 2000.0, 5000.0
LEAST_HZ, MOST_HZ = 1.0, 1000.0

SURE = 3.0


@dataclass(frozen=True)
class Rippled:
    """A frequency in Hz with its standard uncertainty, and what contradicts itself: as sentences, and which rows (from
    0) stand out.
    """

    frequency_hz: float
    frequency_u: float
    problems: tuple[str, ...]
    odd: tuple[int, ...] = ()


def frequency_of(rows: Sequence[tuple[float, float, float]], names: Sequence[str] = ()) -> Rippled:
    """From ripples, distance (mm) and speed (mm/s) of each band: ``f = v n / D``, the mean by their uncertainties;
    where bands differ by more than these, the scatter counts (Birge 1932), and those that stand out are named, by their
    number or by a name that is given.

    Raises:
        ValueError: no band, or one without ripples, distance or speed.
    """
    readings_of: list[tuple[float, float]] = []
    for number, (ripples, distance, speed) in enumerate(rows, start=1):
        if ripples <= 0 or distance <= 0 or speed <= 0:
            raise ValueError(f"band {number}: ripples, distance and speed must be above 0")
        if not (ripples <= MOST_RIPPLES and distance <= MOST_MM and speed <= MOST_MM_S):
            raise ValueError(
                f"band {number}: no print is like that; up to {MOST_RIPPLES:g} ripples over {MOST_MM:g} mm at "
                f"{MOST_MM_S:g} mm/s"
            )
        if not LEAST_HZ <= speed * ripples / distance <= MOST_HZ:
            made = f"that makes {speed * ripples / distance:.3g} Hz"
            raise ValueError(
                f"band {number}: {made}; a frame rings between {LEAST_HZ:g} and {MOST_HZ:g}: look at the columns"
            )
        hz = speed * ripples / distance
        readings_of.append((hz, hz * math.hypot(READ_MM / math.sqrt(3) / distance, math.sqrt(2) * PLACED / ripples)))
    if not readings_of:
        raise ValueError("no band was read")
    weights = [1 / u**2 for _, u in readings_of]
    mean = sum(w * hz for w, (hz, _) in zip(weights, readings_of, strict=True)) / sum(weights)
    left = sum(((hz - mean) / u) ** 2 for hz, u in readings_of)
    wider = max(1.0, left / (len(readings_of) - 1)) if len(readings_of) > 1 else 1.0
    odd, problems = [], []
    for at, (hz, u) in enumerate(readings_of):
        others = [other for n, other in enumerate(readings_of) if n != at]
        if not others:
            continue
        usual, usual_u = (statistics.median(part) for part in zip(*others, strict=True))
        if abs(hz - usual) > SURE * math.hypot(u, usual_u / math.sqrt(len(others))):
            odd.append(at)
            name = names[at] if names else f"band {at + 1}"
            problems.append(f"{name} says {hz:.1f} Hz, the others {usual:.1f}: count it again")
    return Rippled(mean, math.sqrt(wider / sum(weights)), tuple(problems), tuple(odd))


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
    bands = []
    for number in range(shape.bands):
        fraction = number / steps if shape.bands > 1 else 1.0
        mm_s2 = round((gentle + (hard - gentle) * fraction) / 50) * 50 or 50
        bands.append(Band(number + 1, float(mm_s2), number * shape.band_mm, (number + 1) * shape.band_mm))
    return tuple(bands)


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
