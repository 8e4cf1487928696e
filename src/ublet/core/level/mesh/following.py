"""What it costs to follow a mesh: how layers differ while it fades out, what a step of Z allows, where it ends."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ublet.core.level.mesh.mesh import Mesh
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.counting import full_step_mm

MUCH = 0.05
"""Layers that are thicker or thinner than this fraction show."""

LITTLE = 0.03
"""What a longer fade is to bring them down to."""

FADES_MM = (5.0, 10.0, 15.0, 20.0, 30.0, 40.0, 50.0, 75.0, 100.0)
"""Heights that are proposed for fading out, mm; the last is the longest that a board takes."""

COARSE_RATIO = 3
"""Below this many full steps of range, Z follows the bed in steps that show."""


@dataclass(frozen=True)
class FollowingCosts:
    """What it costs to follow a mesh.

    fade_mm: where it has faded out; uneven: fraction by which layers are thicker or thinner until there; better_mm: a
    fade that is long enough (None: this one is); full_step_mm: of Z; margins_mm: from the mesh's ends to the bed's rim,
    left, right, front, back.
    """

    fade_mm: float
    uneven: float
    better_mm: float | None
    full_step_mm: float
    range_mm: float
    margins_mm: tuple[float, float, float, float]

    @property
    def words(self) -> str:
        """The same in sentences."""
        percent = 100 * self.uneven
        fades = f"While it fades out over {self.fade_mm:g} mm, layers are up to {percent:.1f} % thicker or thinner"
        if self.better_mm is not None:
            fades += f"; fade it out over {self.better_mm:g} mm instead"
        sentences = [fades]
        if self.range_mm < COARSE_RATIO * self.full_step_mm:
            sentences.append(
                f"One full step of Z is {self.full_step_mm:.3f} mm and the bed differs by little more: Z follows it "
                "only as well as its microsteps hold"
            )
        left, right, front, back = (f"{mm:.0f}" for mm in self.margins_mm)
        sentences.append(
            f"It ends {left} mm from the left rim, {right} from the right, {front} from the front and {back} from the "
            "back; beyond, its outermost heights count"
        )
        return ". ".join(sentences) + "."


def following_costs(machine: MachineFile, mesh: Mesh, fade_mm: float) -> FollowingCosts:
    """What following a mesh costs, fading out over fade_mm.

    A height ``h`` that fades out evenly over ``f`` makes each layer below thinner or thicker by ``h / f`` of itself.
    """
    worst = float(np.nanmax(np.abs(mesh.heights)))
    uneven = worst / fade_mm
    better = None
    if uneven > MUCH:
        longer = [mm for mm in FADES_MM if mm > fade_mm]
        enough = [mm for mm in longer if worst / mm <= LITTLE]
        better = enough[0] if enough else longer[-1] if longer else None
    bed = machine.bed
    margins = (mesh.x[0], bed.width_mm - mesh.x[-1], mesh.y[0], bed.depth_mm - mesh.y[-1])
    left, right, front, back = (float(mm) for mm in margins)
    range_mm = float(np.nanmax(mesh.heights) - np.nanmin(mesh.heights))
    step_mm = full_step_mm(machine, "z") if machine.axes.z.motors else math.nan
    return FollowingCosts(fade_mm, uneven, better, step_mm, range_mm, (left, right, front, back))
