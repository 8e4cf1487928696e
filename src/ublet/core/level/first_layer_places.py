"""Where the first layer is tried: five patches, or one stripe across the bed that is judged in five pieces."""

from __future__ import annotations

from typing import Literal

from ublet.core.level.mesh_trials import GridParameters, grid_of
from ublet.core.level.surface import Place
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.patterns import RIM_MM, Patch, Stroke
from ublet.core.run import TrialFailed
from ublet.core.settings import Part, setting

STRIPE_MM, PURGED_MM, LEAST_MM = 12.0, 6.0, 6.0
PIECES = ("left", "left of the middle", "middle", "right of the middle", "right")


class LayerShape(Part):
    """What is printed, and how."""

    tries: Literal["patches", "stripe"] = setting(
        "Patches in the corners and the middle, or one stripe from left to right.", default="patches"
    )
    layer_mm: float = setting("Height of the first layer.", unit="mm", low=0.05, high=1, default=0.2)
    width_mm: float = setting("Width of a line.", unit="mm", low=0.1, high=2, default=0.45)
    speed_mm_s: float = setting("Speed of printing.", unit="mm/s", low=5, high=100, default=25.0)
    side_mm: float = setting("Side of a patch.", unit="mm", low=LEAST_MM, high=60, default=20.0)

    @property
    def stroke(self) -> Stroke:
        """How a line is laid."""
        return Stroke(self.width_mm, self.layer_mm, self.speed_mm_s)


def places_of(machine: MachineFile, shape: LayerShape) -> tuple[Patch, ...]:
    """The patches in the order in which they are printed, on the bed and within the nozzle's travel.

    Raises:
        TrialFailed: there is no room for them.
    """
    bed, axes = machine.bed, machine.axes
    rim = bed.margin_mm + RIM_MM
    left, right = max(rim, axes.x.minimum_mm), min(bed.width_mm - rim, axes.x.maximum_mm)
    front, back = max(rim + PURGED_MM, axes.y.minimum_mm), min(bed.depth_mm - rim, axes.y.maximum_mm)
    middle = ((left + right) / 2, (front + back) / 2)
    if shape.tries == "stripe":
        wide = (right - left) / len(PIECES)
        if wide < STRIPE_MM:
            raise TrialFailed(f"A stripe needs {STRIPE_MM * len(PIECES):.0f} mm along X; here are {right - left:.0f}.")
        return tuple(
            Patch(name, left + (number + 0.5) * wide, middle[1], wide, STRIPE_MM) for number, name in enumerate(PIECES)
        )
    side = shape.side_mm
    room = min(right - left, back - front)
    if 3 * side > room:
        raise TrialFailed(
            f"Patches of {side:g} mm do not fit beside one another in {room:.0f} mm: {room / 3:.0f} mm or less would."
        )
    low, high = (left + side / 2, front + side / 2), (right - side / 2, back - side / 2)
    if (mesh := _meshed(machine)) is not None:  # where the mesh tells the height, and no further out
        (first, near), (last, far) = mesh
        low, high = (max(low[0], first), max(low[1], near)), (min(high[0], last), min(high[1], far))
        if min(high[0] - low[0], high[1] - low[1]) < 2 * side:
            raise TrialFailed(f"The mesh is too small for patches of {side:g} mm in its corners.")
    corners = (
        ("left front", low[0], low[1]),
        ("right front", high[0], low[1]),
        ("right back", high[0], high[1]),
        ("left back", low[0], high[1]),
    )
    return (Patch("middle", *middle, side, side), *(Patch(name, x, y, side, side) for name, x, y in corners))


def _meshed(machine: MachineFile) -> tuple[Place, Place] | None:
    """Front left and back right corner of the declared mesh; None where there is none."""
    try:
        _, xs, ys = grid_of(machine, GridParameters())
    except TrialFailed:
        return None
    return (xs[0], ys[0]), (xs[-1], ys[-1])
