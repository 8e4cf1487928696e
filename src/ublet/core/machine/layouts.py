"""How motors carry axes, as data: whatever depends on the kinematics of a machine asks its layout, by no word of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

AXES = ("x", "y", "z")

LIFTS, BESIDE = 4, 2
"""Most motors that carry Z, as lifts below a bed, and any other axis."""


@dataclass(frozen=True)
class Layout:
    """How the motors of a machine carry its axes, as data: whatever depends on the kinematics asks this.

    name: its word in the machine file. shared: the two axes that two belts carry together; the motor of the first turns
    by their sum, that of the second by their difference (handbook, section 2). Every other axis has motors of its own.
    """

    name: str
    shared: tuple[str, ...] = ()

    def row(self, axis: str) -> tuple[float, float, float]:
        """The matrix's row of a motor whose table stands below this axis in the machine file."""
        if axis not in self.shared:
            x, y, z = (float(axis == column) for column in AXES)
            return x, y, z
        sign = 1.0 if axis == self.shared[0] else -1.0
        x, y, z = (0.0 if column not in self.shared else 1.0 if column == self.shared[0] else sign for column in AXES)
        return x, y, z

    def carried_with(self, axis: str) -> tuple[str, ...]:
        """The axes that the motors of this one move, itself among them."""
        return self.shared if axis in self.shared else (axis,)

    def groups(self, axes: Sequence[str]) -> tuple[tuple[str, ...], ...]:
        """These axes, those that share motors together: the other one too where only one of them was named."""
        together = (self.shared,) if set(self.shared) & set(axes) else ()
        return (*together, *((axis,) for axis in axes if axis not in self.shared))

    def most_motors(self, axis: str) -> int:
        """Most motors that may carry an axis: a shared one has one belt, lifts may be four."""
        return 1 if axis in self.shared else LIFTS if axis == "z" else BESIDE


CARTESIAN, COREXY, BELTS_XZ = Layout("cartesian"), Layout("corexy", ("x", "y")), Layout("belts-xz", ("x", "z"))
LAYOUTS: Mapping[str, Layout] = {layout.name: layout for layout in (CARTESIAN, COREXY, BELTS_XZ)}
"""Known layouts, by their word in the machine file."""
