"""What the frame and the bed are, followed: Z goes up and down with the live mesh, X leans against the frame's skew.

It lies over whatever is planned: positions, limits and times know nothing of it. A move that looks out for an input
(homing, a touch) is made without the mesh, homing of X and Y without the skew, too; and so is everything while
``mesh.follows`` is off or the axes are not homed.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np

from ublet.core.level.mesh.live import CORRECTION, ENDS, HEIGHTS, SHIFT, live_correction, live_mesh
from ublet.core.level.mesh.mesh import Between, Mesh
from ublet.core.settings import Value
from ublet.core.sockets import Pace, Sockets, Steps, Until
from ublet.firmware.live_values import number_in

PIECE_MM = 4.0
"""Along a path Z is set anew after so much, mm."""

FINE_MM = 4.0
LEAVES_MM_S = 5.0
"""Before a move that looks out for an input what is followed is taken back at this speed, mm/s."""

STEEPEST = 0.2
"""Z follows by no more than this share of the path: a mesh that becomes live is reached within some millimetres."""

LIMIT_SLOPE = 0.1
"""Towards a limit of X the correction of skew goes down to nothing by this share of the way that is left."""

NOTHING_MM = 1e-7
SKEW = "motion.skew_deg"
MADE_OF = ("mesh.follows", "mesh.between", "mesh.fade_mm", SHIFT, CORRECTION, HEIGHTS, *ENDS)
"""Settings that what is followed is made of: it is made anew when one of them has changed."""


class PathCorrections:
    """What X and Z are moved by besides what is commanded. where: where the axes stand as the board knows it."""

    def __init__(self, where: Callable[[], Mapping[str, float | None]]) -> None:
        self._where = where
        self.applied_mm = {"x": 0.0, "z": 0.0}
        self._lean = 0.0  # tangent of the skew
        self._x_limits, self._middle_y = (0.0, 0.0), 0.0
        self._fade_mm = self._shift_mm = 0.0
        self._fine: Mesh | None = None
        self._made_of: dict[str, Value] = {}
        self._can = True
        self._steps: Mapping[str, tuple[Steps, ...]] = {}

    def begin(self, can: bool) -> None:
        """Power-on. can: whether the image that runs has the module for it."""
        self._can, self._made_of, self._fine = can, {}, None
        self.forget("x", "z")

    def settled(self, live: Mapping[str, Value], steps: Mapping[str, tuple[Steps, ...]]) -> None:
        """Live settings have changed. steps: what motors make for a millimetre of X, and of Z."""
        self._steps = steps
        self._lean = math.tan(math.radians(number_in(live, SKEW))) if SKEW in live else 0.0
        if self._lean:
            low, high = (
                {axis: number_in(live, f"axes.{axis}.{end}") for axis in ("x", "y")}
                for end in ("minimum_mm", "maximum_mm")
            )
            self._x_limits, self._middle_y = (low["x"], high["x"]), (low["y"] + high["y"]) / 2
        made_of = {path: live.get(path) for path in MADE_OF}
        if made_of == self._made_of:
            return
        self._made_of, self._fine = made_of, None
        mesh = live_mesh(live.get) if self._can and live.get("mesh.follows") else None
        if mesh is None:
            return
        x, y = (np.linspace(at[0], at[-1], max(2, round((at[-1] - at[0]) / FINE_MM) + 1)) for at in (mesh.x, mesh.y))
        between: Between = "bilinear" if live.get("mesh.between") == "bilinear" else "bicubic"
        heights = mesh.over(x, y, between)
        if (correction := live_correction(live.get, mesh)) is not None:
            heights = heights + correction.over(x, y)
        self._fine, self._fade_mm = Mesh(x, y, heights), number_in(live, "mesh.fade_mm")
        self._shift_mm = number_in(live, SHIFT)

    def forget(self, *axes: str) -> None:
        """Axes no longer know where they stand, or were homed anew: nothing is followed there yet."""
        self.applied_mm |= dict.fromkeys(axes, 0.0)

    def turn(
        self,
        sockets: Sockets,
        steps: tuple[Steps, ...],
        direction: Mapping[str, float],
        pace: Pace,
        until: Until | None,
    ) -> float | None:
        """Let motors follow a pace, X and Z following frame and bed; returns when ``until`` came true, as the sockets
        do.
        """
        length = pace.gone(pace.seconds)
        bends = self._fine is not None or bool(self.applied_mm["z"])
        if until is not None or length <= 0 or not (bends or self._lean or self.applied_mm["x"]):
            return sockets.turn(steps, pace, until)
        bends = bends or self._near_limit(direction, length)
        count = max(1, math.ceil(length / PIECE_MM)) if bends else 1  # skew leaves a straight line straight
        began = 0.0
        for number in range(1, count + 1):
            mm = length * number / count
            ends = pace.seconds if number == count else pace.reached(mm)
            steepest = STEEPEST * length / count
            with_more = steps
            for axis, wanted_mm in self._wanted(direction, mm).items():
                by_mm = max(-steepest, min(steepest, wanted_mm - self.applied_mm[axis]))
                with_more = self._with(with_more, axis, by_mm * count / length)
                self.applied_mm[axis] += by_mm
            sockets.turn(with_more, Pace(pace.speed(began), pace.acceleration_mm_s2, ends - began))
            began = ends
        return None

    def leave(self, sockets: Sockets, direction: Mapping[str, float], until: Until | None) -> float:
        """Take back what a line must be made without, and what is no longer followed; returns how long that took, s."""
        if not any(self.applied_mm.values()):
            return 0.0
        ends = {"z": self._fine is None or until is not None}
        ends["x"] = not self._lean or (until is not None and not direction.keys().isdisjoint(("x", "y")))
        took = 0.0
        for axis in ("z", "x"):
            by_mm = -self.applied_mm[axis]
            if not ends[axis] or abs(by_mm) <= NOTHING_MM:
                continue
            seconds = abs(by_mm) / LEAVES_MM_S
            sockets.turn(self._with((), axis, math.copysign(1.0, by_mm)), Pace(LEAVES_MM_S, 0.0, seconds))
            self.applied_mm[axis] = 0.0
            took += seconds
        return took

    def _wanted(self, direction: Mapping[str, float], mm: float) -> dict[str, float]:
        """Corrections of X and Z, mm, that are due after ``mm`` of the line."""
        where = {axis: here for axis, here in self._where().items() if here is not None}
        if len(where) < 3:
            return {"x": 0.0, "z": 0.0}
        x, y, z = (where[axis] + direction.get(axis, 0.0) * mm for axis in ("x", "y", "z"))
        leant = self._leant(x, y) if self._lean else 0.0
        if self._fine is None:
            return {"x": leant, "z": 0.0}
        fades = max(0.0, min(1.0, 1 - max(0.0, z) / self._fade_mm)) if self._fade_mm else 1.0
        return {"x": leant, "z": fades * (self._height(x, y) + self._shift_mm)}

    def _leant(self, x: float, y: float) -> float:
        """How far X leans against the skew: nothing at a limit of X, and ever more away from it."""
        low, high = self._x_limits
        return max(LIMIT_SLOPE * min(0.0, low - x), min(LIMIT_SLOPE * max(0.0, high - x), self._skew_mm(y)))

    def _skew_mm(self, y: float) -> float:
        return -self._lean * (y - self._middle_y)

    def _near_limit(self, direction: Mapping[str, float], length: float) -> bool:
        """Whether a line begins or ends where a limit of X holds the skew's correction back."""
        x, y = (self._where()[axis] for axis in ("x", "y"))
        if not self._lean or x is None or y is None:
            return False
        ends = ((x + direction.get("x", 0.0) * mm, y + direction.get("y", 0.0) * mm) for mm in (0.0, length))
        return any(self._leant(*end) != self._skew_mm(end[1]) for end in ends)

    def _height(self, x: float, y: float) -> float:
        mesh = self._fine
        assert mesh is not None
        weighted = []
        for at, lines in ((x, mesh.x), (y, mesh.y)):
            step = (lines[-1] - lines[0]) / (len(lines) - 1)
            fraction = min(max((at - lines[0]) / step, 0.0), len(lines) - 1.0)
            cell = min(int(fraction), len(lines) - 2)
            weighted.append((cell, fraction - cell))
        (c, u), (r, v) = weighted
        heights = mesh.heights
        return float(
            (1 - v) * ((1 - u) * heights[r, c] + u * heights[r, c + 1])
            + v * ((1 - u) * heights[r + 1, c] + u * heights[r + 1, c + 1])
        )

    def _with(self, steps: tuple[Steps, ...], axis: str, a_mm: float) -> tuple[Steps, ...]:
        """The steps, with ``a_mm`` of an axis added for each mm of the path."""
        if not a_mm:
            return steps
        own = {step.socket: step for step in steps}
        for extra in self._steps[axis]:
            mine = own.get(extra.socket)
            more = extra.per_mm * a_mm
            own[extra.socket] = replace(mine or extra, per_mm=(mine.per_mm if mine is not None else 0.0) + more)
        return tuple(own.values())
