"""Where over the bed the probe can touch, and where the nozzle stands then."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.arrays import Point
from ublet.core.machine.level_parts import rim_out_of_reach
from ublet.core.machine.schema import MachineFile
from ublet.core.remedy import ChangeSetting, GoTo
from ublet.core.run import Proposal, TrialFailed

INSIDE_MM = 0.5
"""Margin inside the machine's limits, mm."""


@dataclass(frozen=True)
class ProbeArea:
    """A rectangle of the bed, mm from its front left corner; offset: where the probe sits seen from the nozzle, mm."""

    x: tuple[float, float]
    y: tuple[float, float]
    offset: Point

    def nearest(self, place: Point) -> Point:
        """The place in it that is nearest to another one."""
        return _clamp(place[0], self.x), _clamp(place[1], self.y)

    def nozzle(self, place: Point) -> Point:
        """Where the nozzle stands when the probe is over a place."""
        return place[0] - self.offset[0], place[1] - self.offset[1]

    @property
    def middle(self) -> Point:
        """Its middle."""
        return (self.x[0] + self.x[1]) / 2, (self.y[0] + self.y[1]) / 2

    def grid(self, columns: int, rows: int) -> tuple[Point, ...]:
        """Places in a grid over it, serpentine from the front left."""
        points = []
        for row in range(rows):
            y = _between(self.y, row, rows)
            line = [(_between(self.x, column, columns), y) for column in range(columns)]
            points += line if row % 2 == 0 else line[::-1]
        return tuple(points)

    def words(self, place: Point) -> str:
        """A place in both coordinates."""
        nozzle = self.nozzle(place)
        return f"bed {place[0]:.1f}, {place[1]:.1f} (nozzle {nozzle[0]:.1f}, {nozzle[1]:.1f})"


NO_PROBE = "this machine has no probe that senses the bed"


def probe_offset(machine: MachineFile) -> Point:
    """Where the probe sits seen from the nozzle, mm; a nozzle that is lowered by hand sits where it is."""
    probe = machine.probe
    if probe is None or not senses(machine):
        return 0.0, 0.0
    return probe.offset_x_mm, probe.offset_y_mm


def senses(machine: MachineFile) -> bool:
    """Whether a probe finds the bed by itself."""
    return machine.probe is not None and machine.probe.kind != "nozzle"


def reach_of(machine: MachineFile) -> ProbeArea:
    """Travel of the nozzle shifted by the probe's offset, cut with the bed less its margin (handbook, section 5).

    Raises:
        TrialFailed: nothing is left.
    """
    offset, bed = probe_offset(machine), machine.bed
    sides = []
    for name, size, by in (("x", bed.width_mm, offset[0]), ("y", bed.depth_mm, offset[1])):
        axis = getattr(machine.axes, name)
        low = max(bed.margin_mm, axis.minimum_mm + INSIDE_MM + by)
        high = min(size - bed.margin_mm, axis.maximum_mm - INSIDE_MM + by)
        if high - low < 1.0:
            raise TrialFailed(
                f"The probe reaches no place of the bed along {name.upper()}: the nozzle goes from {axis.minimum_mm:g} "
                f"to {axis.maximum_mm:g} mm, the probe sits {by:+g} mm from it, and the bed's margin is "
                f"{bed.margin_mm:g} mm. Correct offset, travel or margin.",
                ChangeSetting(
                    "probe.offset_x_mm" if name == "x" else "probe.offset_y_mm", "where the probe really sits"
                ),
                GoTo("travel limits", "how far the nozzle goes"),
            )
        sides.append((low, high))
    return ProbeArea(sides[0], sides[1], offset)


def margin_follows(machine: MachineFile, proposed: Sequence[Proposal]) -> list[Proposal]:
    """What is to go with a change of travel or of the probe's place: a mesh's margin that the probe still reaches.

    Without it the file would contradict itself, and the change could not be kept.
    """
    mesh = machine.mesh
    if mesh is None:
        return []
    after = {p.setting: p.after for p in proposed if isinstance(p.after, float)}
    need = 0.0
    for name, size, offset in zip(
        ("x", "y"), (machine.bed.width_mm, machine.bed.depth_mm), probe_offset(machine), strict=True
    ):
        axis = getattr(machine.axes, name)
        by = after.get(f"probe.offset_{name}_mm", offset)
        low = after.get(f"axes.{name}.minimum_mm", axis.minimum_mm) + by
        high = after.get(f"axes.{name}.maximum_mm", axis.maximum_mm) + by
        need = max(need, rim_out_of_reach(low, high, size))
    margin = math.ceil(need * 2 - 1e-6) / 2
    smallest = min(machine.bed.width_mm, machine.bed.depth_mm)
    if need <= mesh.margin_mm + 1e-9 or margin >= smallest / 2:
        return []
    effect = f"the mesh's points stay within what the probe reaches: {margin - mesh.margin_mm:.1f} mm more of the rim"
    return [Proposal("mesh.margin_mm", mesh.margin_mm, margin, "mm", effect)]


def must_reach(reach: ProbeArea, place: Point) -> None:
    """Raises TrialFailed when a place cannot be touched, with both coordinates and the side that is short."""
    for axis, at, (low, high) in (("X", place[0], reach.x), ("Y", place[1], reach.y)):
        if not low - 1e-6 <= at <= high + 1e-6:
            raise TrialFailed(
                f"{reach.words(place)} is out of reach: along {axis} the probe touches the bed from {low:.1f} to "
                f"{high:.1f} mm (travel shifted by the probe's offset, less the bed's margin).",
                ChangeSetting("mesh.margin_mm", "points that the probe reaches"),
                GoTo("travel limits", "how far the nozzle goes"),
            )


def _clamp(value: float, side: tuple[float, float]) -> float:
    return min(side[1], max(side[0], value))


def _between(side: tuple[float, float], number: int, count: int) -> float:
    return side[0] + (side[1] - side[0]) * (number / (count - 1) if count > 1 else 0.5)
