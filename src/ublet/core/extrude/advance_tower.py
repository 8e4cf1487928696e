"""A tower that shows pressure advance: slow and fast sides, the value rising with height, a notch in front every 5 mm.

Every corner is a change of speed: behind two of them the nozzle is faster, behind two slower. The value at a height is
``k = k0 + step × height``. The walls are one line thick, so that the tower can be held against the light.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.extrude.advance_lines import (
    LineKind,
    LinesParameters,
    fast_mm_s_of,
    followed_mm_s2,
    line_kind,
    stroke_of,
    values_of,
)
from ublet.core.extrude.melting import extruder_of
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.patterns import RIM_MM, Laying, Stroke, filament_for
from ublet.core.motion.program import Program, SetAdvance, To
from ublet.core.remedy import ChangeParameter
from ublet.core.run import TrialFailed
from ublet.core.settings import setting

BAND_MM = 1.5
"""What is picked is a band so high, mm: lower ones an eye cannot part on a wall."""

NOTCH_EVERY_MM, NOTCH_MM, NOTCH_WIDE_MM = 5.0, 0.4, 3.0
"""Height between notches, by which heights are counted; their depth, and how far they reach to either side of the
middle of the front, mm. One layer has one there, where layers begin and nobody looks: what lies over it is thin.
"""

PURGE_ROOM_MM, FIRST_MM, FIRST_MM_S = 12.0, 0.2, 20.0


class AdvanceTowerParameters(LinesParameters):
    """What is printed: the value at the bed, at the top, and how the sides are laid."""

    layer_mm: float = setting("Their height.", unit="mm", low=0.08, high=0.6, default=0.3)


@dataclass(frozen=True)
class TowerBand:
    """A band of the tower: its number from 1, the value in its middle, from and to which height, mm."""

    number: int
    value_s: float
    low_mm: float
    high_mm: float

    @property
    def place(self) -> str:
        """Its name while it is printed."""
        return f"height {self.low_mm:g} mm: {self.value_s:.3f} s"

    @property
    def label(self) -> str:
        """As it is picked."""
        return f"{self.low_mm:g}-{self.high_mm:g} mm {self.value_s:.3f} s"


@dataclass(frozen=True)
class TowerLayout:
    """Where it stands: sides along X (slow) and along Y (fast), mm; its bands from the bed up; k0, s, and the step,
    s/mm.
    """

    x: tuple[float, float]
    y: tuple[float, float]
    bands: tuple[TowerBand, ...]
    kind: LineKind
    stroke: Stroke
    fast_mm_s: float
    first_s: float
    step_s_mm: float

    @property
    def high_mm(self) -> float:
        """How high it is."""
        return self.bands[-1].high_mm

    @property
    def layers(self) -> int:
        """How many layers it has."""
        return 1 + round((self.high_mm - FIRST_MM) / self.stroke.height_mm)

    def sides(self, notched: bool = False) -> tuple[tuple[float, float, bool], ...]:
        """Where each side of a layer ends, from the middle of the front to the right and round, mm; whether it is a
        fast one. notched: with a notch in the middle of the front.
        """
        (left, right), (front, back) = self.x, self.y
        middle = (left + right) / 2
        deep, near, far = front + NOTCH_MM, middle - NOTCH_WIDE_MM, middle + NOTCH_WIDE_MM
        into = ((far, deep, False), (far, front, False)) if notched else ()
        out_of = ((near, front, False), (near, deep, False)) if notched else ()
        return (
            *into,
            (right, front, False),
            (right, back, True),
            (left, back, False),
            (left, front, True),
            *out_of,
            (middle, deep if notched else front, False),
        )

    def value_at(self, height_mm: float) -> float:
        """The value at a height, s."""
        return self.first_s + self.step_s_mm * height_mm


def tower_of(machine: MachineFile, aim: AdvanceTowerParameters) -> TowerLayout:
    """The tower in the middle of the bed.

    Raises:
        TrialFailed: it does not fit, or makes no range.
    """
    kind, values = line_kind(machine), values_of(machine, aim)
    stroke = stroke_of(aim, kind)
    fast = fast_mm_s_of(machine, aim, kind, stroke)
    bed, rim = machine.bed, machine.bed.margin_mm + RIM_MM
    wide, deep, high = kind.slow_mm, kind.fast_mm, BAND_MM * len(values)
    room_x, room_y = bed.width_mm - 2 * rim, bed.depth_mm - 2 * rim - PURGE_ROOM_MM
    if wide > room_x or deep > room_y:
        raise TrialFailed(
            f"The tower takes {wide:g} x {deep:g} mm: this bed has room for {room_x:.0f} x {room_y:.0f} mm.",
            ChangeParameter("step_s", "print lines instead: they take less of the bed"),
        )
    if high > machine.axes.z.maximum_mm - 20.0:
        raise TrialFailed(
            f"{len(values)} bands of {BAND_MM:g} mm are {high:g} mm high: Z goes to {machine.axes.z.maximum_mm:g} mm.",
            ChangeParameter("step_s", "a larger step, so that fewer are printed"),
        )
    left, front = (bed.width_mm - wide) / 2, rim + PURGE_ROOM_MM + (room_y - deep) / 2
    per_mm = (values[1] - values[0]) / BAND_MM
    bands = tuple(
        TowerBand(at + 1, values[0] + per_mm * BAND_MM * (at + 0.5), BAND_MM * at, BAND_MM * (at + 1))
        for at in range(len(values))
    )
    return TowerLayout((left, left + wide), (front, front + deep), bands, kind, stroke, fast, values[0], per_mm)


def tower_program(machine: MachineFile, layout: TowerLayout) -> Program:
    """The purge line, then layer on layer with its value, each begun in the middle of the front side."""
    extruder, stroke = extruder_of(machine), layout.stroke
    first = Stroke(stroke.width_mm, FIRST_MM, FIRST_MM_S)
    laying = Laying(extruder, first)
    laying.purge(machine.bed.width_mm / 2, machine.bed.margin_mm + RIM_MM)
    made, named = laying.made, 0
    for layer in range(layout.layers):
        height = FIRST_MM + layer * stroke.height_mm
        band = layout.bands[min(len(layout.bands) - 1, int(height / BAND_MM))]
        place = band.place if band.number > named else ""
        named = band.number
        sides = layout.sides(notched=layer > 0 and _is_notched(height, stroke.height_mm))
        middle, front, _ = sides[-1]
        if not layer:
            laying.at_height(first, height)
            laying.go(middle, front, place)
        else:
            laying.at_height(stroke, height)
            made.append(To({"x": middle, "y": front, "z": height}, FIRST_MM_S, place=place))
        made.append(SetAdvance(round(layout.value_at(height), 5)))
        now = stroke if layer else first
        per_mm, fast = filament_for(1.0, now, extruder.filament_mm), layout.fast_mm_s if layer else FIRST_MM_S
        here = (middle, front)
        for x, y, is_fast in sides:
            mm, mm_s = math.hypot(x - here[0], y - here[1]), fast if is_fast else now.mm_s
            made.append(To({"x": x, "y": y}, mm_s, mm * per_mm, mm_s2=layout.kind.acceleration_mm_s2))
            here = (x, y)
        laying.at = here
    note = f"{layout.high_mm:g} mm high, {layout.first_s:g} s at the bed and {layout.step_s_mm:.4g} s more a mm"
    return Program("advance tower", laying.end(), note)


def _is_notched(height_mm: float, layer_mm: float) -> bool:
    """Whether a layer is the one that shows a full count of height."""
    count = round(height_mm / NOTCH_EVERY_MM)
    return count > 0 and abs(height_mm - count * NOTCH_EVERY_MM) <= layer_mm / 2


def tower_followed_mm_s2(caps: Caps, machine: MachineFile, layout: TowerLayout) -> float:
    """The acceleration that the extruder still follows at the top, mm/s²; inf: any."""
    return followed_mm_s2(caps, machine, layout.stroke, layout.value_at(layout.high_mm))


def bands_done(layout: TowerLayout, places: Sequence[str]) -> tuple[TowerBand, ...]:
    """The bands that were printed."""
    return tuple(band for band in layout.bands if band.place in places)
