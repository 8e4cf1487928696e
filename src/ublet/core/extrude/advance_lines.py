"""Lines that show pressure advance: slow, fast and slow again, the value rising from line to line, joined by two rails.

Each lies on a plain one: on the bed itself a few hundredths of unevenness would make widths differ more than a wrong
value does. The whole comes off in one piece and can be held against the light. Every fifth line sticks out, short
strokes at both ends show where the speed changes.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.patterns import RIM_MM, Laying, Stroke, filament_for
from ublet.core.motion.program import Program, SetAdvance, To
from ublet.core.observations import WidthPlace
from ublet.core.remedy import ChangeParameter
from ublet.core.run import TrialFailed
from ublet.core.settings import Part, setting

DIRECT_S, DIRECT_STEP_S = 0.1, 0.005
TUBE_S_MM, TUBE_STEP_S = 1.4 / 400, 0.05
"""A tube adds so much for each mm of it, s/mm; the step of its values, s."""

MOST_S, SOFT_TIMES = 1.5, 2.5
"""The largest value that is proposed, s; soft filament needs so many times as much."""

LEAST_LINES, MOST_LINES = 4, 45
APART_MM, PURGED_MM = 4.0, 8.0
"""Lines are so far apart; the first lies so far behind the purge line, mm."""

FIFTH, TALLY_MM, STROKE_MM, STROKE_GAP_MM = 5, 6.0, 5.0, 2.0
"""Every so many lines one sticks out by so much; strokes are so long, and begin so far from the lines, mm."""

BASE_MM_S = 30.0
"""The plain lines below are laid at this speed."""

GRAMS_MM3 = 1.24e-3
"""Density of usual filament, g/mm³."""


@dataclass(frozen=True)
class LineKind:
    """How lines are laid out for a drive: lengths of the slow and the fast stretch, mm; their speeds, mm/s; the
    acceleration between them, mm/s²; how far behind a change of speed one looks on lines, and on a tower, mm; where
    widths are typed, and over which share of the value, to both sides, they follow it in a straight line.
    """

    slow_mm: float
    fast_mm: float
    slow_mm_s: float
    fast_mm_s: float
    acceleration_mm_s2: float
    look_mm: float
    tower_look_mm: float
    places: tuple[WidthPlace, ...]
    straight_fraction: float


DIRECT_PLACES = (
    *(WidthPlace(1, mm, 1.0) for mm in (-3.0, 1.5, 3.5)),
    *(WidthPlace(2, mm, 1.0) for mm in (-1.0, 1.0, 3.0)),
)
TUBE_PLACES = (
    WidthPlace(1, -15.0, 22.5),
    WidthPlace(1, 15.0, 32.5),
    WidthPlace(2, -10.0, 23.0),
    WidthPlace(2, 1.0, 8.0),
    WidthPlace(2, 6.0, 7.0),
    WidthPlace(2, 15.0, 23.25),
)
"""Behind a direct drive a line is uneven next to the strokes only: every place counts alike. Through a tube it is so
everywhere, and each place counts by the length around it.
"""

DIRECT_LINE = LineKind(25.0, 40.0, 20.0, 90.0, 1000.0, 3.0, 4.0, DIRECT_PLACES, 0.5)
TUBE_LINE = LineKind(45.0, 60.0, 12.0, 70.0, 100.0, 25.0, 16.0, TUBE_PLACES, 0.25)
"""In a tube pressure takes a second to follow: longer stretches, and a gentle acceleration. Slow stretches of 12 mm/s
bulge nearly twice as much as those of 20, and over 25 mm behind a change what bulges and what is thin even out at the
right value; more gently the filament's play in the tube makes more of it uneven (``benchmark/line_layouts.py``).
"""


class LinesParameters(Part):
    """What is printed: values from the first line to the last, and how."""

    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )
    first_s: float = setting("Pressure advance of the first line.", unit="s", low=0, high=3, default=0.0)
    last_s: float = setting(
        "And of the last one; 0: by drive and material.", zero="by the drive", unit="s", low=0, high=3, default=0.0
    )
    step_s: float = setting(
        "From one line to the next; 0: by the drive.", zero="by the drive", unit="s", low=0, high=1, default=0.0
    )
    slow_mm_s: float = setting(
        "Speed of the slow stretches; 0: by the drive.", zero="by the drive", unit="mm/s", low=0, high=60, default=0.0
    )
    fast_mm_s: float = setting(
        "Speed between them; 0: by the drive.", zero="by the drive", unit="mm/s", low=0, high=300, default=0.0
    )
    width_mm: float = setting("Width of the lines.", unit="mm", low=0.2, high=1.2, default=0.55)
    layer_mm: float = setting("Their height.", unit="mm", low=0.08, high=0.6, default=0.2)


@dataclass(frozen=True)
class AdvanceLine:
    """One line: its number from 1, its value, its y, where it begins, gets fast, gets slow and ends along X, mm."""

    number: int
    value_s: float
    y: float
    x: tuple[float, float, float, float]

    @property
    def place(self) -> str:
        """Its name while it is printed."""
        return f"line {self.number}: {self.value_s:.3f} s"


@dataclass(frozen=True)
class LinesLayout:
    """Where everything lies. fast_mm_s: as fast as the middle goes; led_mm_s2: the acceleration that is used."""

    lines: tuple[AdvanceLine, ...]
    kind: LineKind
    stroke: Stroke
    fast_mm_s: float
    acceleration_mm_s2: float

    @property
    def slow_mm_s(self) -> float:
        """Speed of the slow stretches."""
        return self.stroke.mm_s


def is_tube(machine: MachineFile) -> bool:
    """Whether filament goes through a tube."""
    return machine.extruder is not None and machine.extruder.tube_mm > 0


def line_kind(machine: MachineFile) -> LineKind:
    """How lines are laid out for a machine's drive."""
    return TUBE_LINE if is_tube(machine) else DIRECT_LINE


def stroke_of(aim: LinesParameters, kind: LineKind) -> Stroke:
    """How the slow stretches are laid."""
    return Stroke(aim.width_mm, aim.layer_mm, aim.slow_mm_s or kind.slow_mm_s)


def proposed_range(machine: MachineFile, material: str) -> tuple[float, float]:
    """The last value and the step that suit a drive and a material, s."""
    extruder = extruder_of(machine)
    _, declared = material_of(machine, material)
    soft = SOFT_TIMES if declared.soft else 1.0
    if not extruder.tube_mm:
        return min(MOST_S, soft * DIRECT_S), soft * DIRECT_STEP_S
    last = min(MOST_S, soft * (DIRECT_S + TUBE_S_MM * extruder.tube_mm))
    return round(max(last, 6 * TUBE_STEP_S), 2), TUBE_STEP_S


def values_of(machine: MachineFile, aim: LinesParameters) -> tuple[float, ...]:
    """The value of each line, s.

    Raises:
        TrialFailed: the range is reversed, or gives too few or too many lines.
    """
    last, step = proposed_range(machine, aim.material)
    last, step = aim.last_s or max(last, aim.first_s + 8 * step), aim.step_s or step
    if last <= aim.first_s:
        raise TrialFailed(
            f"The last line's value, {last:g} s, must be above the first one's, {aim.first_s:g} s.",
            ChangeParameter("last_s", f"more than {aim.first_s:g} s"),
        )
    count = round((last - aim.first_s) / step) + 1
    if not LEAST_LINES <= count <= MOST_LINES:
        few = count < LEAST_LINES
        better = (last - aim.first_s) / (LEAST_LINES if few else MOST_LINES - 1)
        raise TrialFailed(
            f"From {aim.first_s:g} to {last:g} s in steps of {step:g} s makes {count} lines: {LEAST_LINES} to "
            f"{MOST_LINES} can be compared.",
            ChangeParameter("step_s", f"{better:.2g} s or {'less' if few else 'more'}"),
        )
    return tuple(round(aim.first_s + number * step, 6) for number in range(count))


def layout_of(machine: MachineFile, aim: LinesParameters, acceleration_mm_s2: float = 0.0) -> LinesLayout:
    """Where the lines lie, in the middle of the bed. acceleration_mm_s2: other than the drive's usual one.

    Raises:
        TrialFailed: they do not fit on the bed, or make no range.
    """
    kind, values = line_kind(machine), values_of(machine, aim)
    stroke = stroke_of(aim, kind)
    fast = fast_mm_s_of(machine, aim, kind, stroke)
    bed, rim = machine.bed, machine.bed.margin_mm + RIM_MM
    wide, deep = 2 * kind.slow_mm + kind.fast_mm + TALLY_MM, (len(values) - 1) * APART_MM
    room_x, room_y = bed.width_mm - 2 * rim, bed.depth_mm - 2 * rim - PURGED_MM - 2 * (STROKE_MM + STROKE_GAP_MM)
    if wide > room_x or deep > room_y:
        most = int(room_y / APART_MM) + 1
        raise TrialFailed(
            f"{len(values)} lines take {wide:.0f} x {deep:.0f} mm: this bed has room for {room_x:.0f} x "
            f"{max(0.0, room_y):.0f} mm, {most} lines.",
            ChangeParameter("step_s", f"{(values[-1] - values[0]) / max(1, most - 1):.2g} s or more"),
        )
    left = rim + (room_x - wide) / 2
    front = rim + PURGED_MM + STROKE_MM + STROKE_GAP_MM + (room_y - deep) / 2
    lines = []
    for number, value in enumerate(values, start=1):
        begin, fast_at = left, left + kind.slow_mm
        slow_at = fast_at + kind.fast_mm
        end = slow_at + kind.slow_mm + (TALLY_MM if number % FIFTH == 0 else 0.0)
        lines.append(AdvanceLine(number, value, front + (number - 1) * APART_MM, (begin, fast_at, slow_at, end)))
    return LinesLayout(tuple(lines), kind, stroke, fast, acceleration_mm_s2 or kind.acceleration_mm_s2)


def fast_mm_s_of(machine: MachineFile, aim: LinesParameters, kind: LineKind, stroke: Stroke) -> float:
    """The fast speed: as typed, or the usual one; where the material melts less than that, what it melts.

    Raises:
        TrialFailed: it is not much faster than the slow one.
    """
    fast = aim.fast_mm_s
    if not fast:
        _, material = material_of(machine, aim.material)
        most = material.largest_flow_mm3_s
        fast = kind.fast_mm_s if most is None else min(kind.fast_mm_s, math.floor(most / stroke.section_mm2))
    if fast < 1.5 * stroke.mm_s:
        raise TrialFailed(
            f"{fast:g} mm/s is not much faster than {stroke.mm_s:g}: a change of speed must show.",
            ChangeParameter("fast_mm_s", f"{3 * stroke.mm_s:g} mm/s or so"),
        )
    return fast


def lines_program(machine: MachineFile, layout: LinesLayout, name: str = "advance lines") -> Program:
    """The purge line, both rails, strokes at the changes of speed, the lines below, then each line with its value."""
    extruder = extruder_of(machine)
    laying, lines = Laying(extruder, layout.stroke), layout.lines
    begin, fast_at, slow_at = lines[0].x[:3]
    rail, rim = slow_at + layout.kind.slow_mm, machine.bed.margin_mm + RIM_MM
    laying.purge(machine.bed.width_mm / 2, rim)
    front, back = lines[0].y, lines[-1].y
    for number, x in enumerate((begin, rail)):
        laying.go(x, front, "rails" if not number else "")
        laying.lay(x, back, back - front)
    for number, (x, y) in enumerate(
        (x, y) for y in (front - STROKE_GAP_MM - STROKE_MM, back + STROKE_GAP_MM) for x in (fast_at, slow_at)
    ):
        laying.go(x, y, "strokes" if not number else "")
        laying.lay(x, y + STROKE_MM, STROKE_MM)
    laying.at_height(replace(layout.stroke, mm_s=BASE_MM_S), layout.stroke.height_mm)
    for number, line in enumerate(lines):
        laying.go(line.x[0], line.y, "lines below" if not number else "")
        laying.lay(line.x[3], line.y, line.x[3] - line.x[0])
    laying.at_height(layout.stroke, 2 * layout.stroke.height_mm)
    per_mm = filament_for(1.0, layout.stroke, extruder.filament_mm)
    for line in lines:
        laying.go(line.x[0], line.y, line.place)
        laying.made.append(SetAdvance(line.value_s))
        for here, there, mm_s in zip(
            line.x, line.x[1:], (layout.slow_mm_s, layout.fast_mm_s, layout.slow_mm_s), strict=False
        ):
            made = To({"x": there, "y": line.y}, mm_s, (there - here) * per_mm, mm_s2=layout.acceleration_mm_s2)
            laying.made.append(made)
        laying.at = (line.x[3], line.y)
    note = f"{len(lines)} lines, {lines[0].value_s:g} to {lines[-1].value_s:g} s"
    return Program(name, laying.end(), note)


def grams_of(program: Program, filament_mm: float) -> float:
    """Weight of the filament that a program pushes, g."""
    return program.filament_mm * math.pi * filament_mm**2 / 4 * GRAMS_MM3


def followed_mm_s2(caps: Caps, machine: MachineFile, stroke: Stroke, advance_s: float) -> float:
    """The acceleration that the extruder still follows at a pressure advance, mm/s²; inf: any."""
    per_mm = filament_for(1.0, stroke, extruder_of(machine).filament_mm)
    return caps.with_advance(advance_s).led_acceleration_mm_s2(per_mm)
