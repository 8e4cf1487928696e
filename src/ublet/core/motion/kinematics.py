"""Kinematics: which motors carry which axes, from axes to motors and back. One table of factors is one kinematics."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.machine.layouts import AXES, Layout


@dataclass(frozen=True)
class Kinematics:
    """Travel of each motor for a travel of each axis, ``motor = matrix @ axis``.

    Several motors may carry one axis (the lifts of a bed), and one motor several axes (the belts of a CoreXY).

    matrix: rows are motors, columns the axes x, y, z; mm of belt or screw for each mm of axis.
    """

    motors: tuple[str, ...]
    matrix: tuple[tuple[float, float, float], ...]

    def __post_init__(self) -> None:
        back = np.linalg.pinv(np.array(self.matrix, dtype=np.float64).reshape(-1, 3))
        object.__setattr__(self, "_back", {name: tuple(back[:, i].tolist()) for i, name in enumerate(self.motors)})
        object.__setattr__(self, "_rows", dict(zip(self.motors, self.matrix, strict=True)))

    def of_axes(self, travel: Mapping[str, float]) -> dict[str, float]:
        """What each motor travels, mm, when the axes travel so far; motors that rest are left out."""
        distances = [travel.get(axis, 0.0) for axis in AXES]
        rows: Mapping[str, tuple[float, ...]] = self.__dict__["_rows"]
        by_motor = {name: sum(f * mm for f, mm in zip(row, distances, strict=True)) for name, row in rows.items()}
        return {name: mm for name, mm in by_motor.items() if mm}

    def of_motors(self, travel: Mapping[str, float]) -> dict[str, float]:
        """What the axes travel, mm, when motors travel so far and the others hold still.

        Several motors of one axis carry it by their mean (Moore-Penrose inverse).
        """
        back: Mapping[str, tuple[float, ...]] = self.__dict__["_back"]
        sums = [0.0, 0.0, 0.0]
        for name, mm in travel.items():
            for column, fraction in enumerate(back[name]):
                sums[column] += fraction * mm
        return {axis: mm for axis, mm in zip(AXES, sums, strict=True) if abs(mm) > 1e-15}

    def forces(self, asked: Mapping[str, float]) -> dict[str, float]:
        """The force, N, that each motor gives at its belt or screw, when axes ask for so much, N, with their signs.

        By virtual work ``axis force = matrix^T @ motor force``, shared evenly where several motors could give it. A
        diagonal of a CoreXY asks all of one belt.
        """
        accelerations = [asked.get(axis, 0.0) for axis in AXES]
        back: Mapping[str, tuple[float, ...]] = self.__dict__["_back"]
        return {name: sum(f * force for f, force in zip(row, accelerations, strict=True)) for name, row in back.items()}

    def axes_of(self, motor: str) -> tuple[str, ...]:
        """The axes that a motor takes part in."""
        rows: Mapping[str, tuple[float, ...]] = self.__dict__["_rows"]
        return tuple(axis for axis, factor in zip(AXES, rows[motor], strict=True) if factor)


def kinematics_of(layout: Layout, motors: Mapping[str, Sequence[str]]) -> Kinematics:
    """The kinematics of a machine; motors: for each axis the names of its motors."""
    named = [(name, layout.row(axis)) for axis in AXES for name in motors.get(axis, ())]
    return Kinematics(tuple(name for name, _ in named), tuple(row for _, row in named))
