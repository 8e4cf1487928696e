"""The bed's shape, followed: Z goes up and down with the live mesh while the other axes move.

It lies over whatever is planned: positions, limits and times know nothing of it. A move that looks out for an input
(homing, a touch) is made without it, and so is everything while ``mesh.follows`` is off or the axes are not homed.
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

NOTHING_MM = 1e-7
MADE_OF = ("mesh.follows", "mesh.between", "mesh.fade_mm", SHIFT, CORRECTION, HEIGHTS, *ENDS)
"""Settings that what is followed is made of: it is made anew when one of them has changed."""


class MeshFollower:
    """What Z is moved by besides what is commanded. where: where the axes stand as the board knows it."""

    def __init__(self, where: Callable[[], Mapping[str, float | None]]) -> None:
        self._where = where
        self.applied_mm = 0.0
        self._fade_mm = self._shift_mm = 0.0
        self._fine: Mesh | None = None
        self._made_of: dict[str, Value] = {}
        self._can = True
        self._z: tuple[Steps, ...] = ()

    def begin(self, can: bool) -> None:
        """Power-on. can: whether the image that runs has the module for it."""
        self._can, self._made_of, self._fine = can, {}, None
        self.forget()

    def settled(self, live: Mapping[str, Value], z_steps: tuple[Steps, ...]) -> None:
        """Live settings have changed. z_steps: what the motors of Z make for a millimetre of it."""
        self._z = z_steps
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

    @property
    def ends(self) -> bool:
        """Whether something is still followed that should not be any more."""
        return self._fine is None and abs(self.applied_mm) > NOTHING_MM

    def forget(self) -> None:
        """Z no longer knows where it stands, or was homed anew: nothing is followed yet."""
        self.applied_mm = 0.0

    def turn(
        self,
        sockets: Sockets,
        steps: tuple[Steps, ...],
        direction: Mapping[str, float],
        pace: Pace,
        until: Until | None,
    ) -> float | None:
        """Let motors follow a pace, Z following the bed; returns when ``until`` came true, as the sockets do."""
        length = pace.gone(pace.seconds)
        if until is not None or length <= 0 or (self._fine is None and not self.applied_mm):
            return sockets.turn(steps, pace, until)
        count = max(1, math.ceil(length / PIECE_MM))
        began = 0.0
        for number in range(1, count + 1):
            mm = length * number / count
            ends = pace.seconds if number == count else pace.reached(mm)
            steepest = STEEPEST * length / count
            by_mm = max(-steepest, min(steepest, self._wanted(direction, mm) - self.applied_mm))
            piece = Pace(pace.speed(began), pace.acceleration_mm_s2, ends - began)
            sockets.turn(self._with(steps, by_mm * count / length), piece)
            self.applied_mm += by_mm
            began = ends
        return None

    def leave(self, sockets: Sockets) -> float:
        """Take back what is followed; returns how long that took, s."""
        by_mm, self.applied_mm = -self.applied_mm, 0.0
        if abs(by_mm) <= NOTHING_MM:
            return 0.0
        seconds = abs(by_mm) / LEAVES_MM_S
        sockets.turn(self._with((), math.copysign(1.0, by_mm)), Pace(LEAVES_MM_S, 0.0, seconds))
        return seconds

    def _wanted(self, direction: Mapping[str, float], mm: float) -> float:
        """How much higher Z is to stand after so much of the way."""
        where = {axis: here for axis, here in self._where().items() if here is not None}
        if self._fine is None or len(where) < 3:
            return 0.0
        x, y, z = (where[axis] + direction.get(axis, 0.0) * mm for axis in ("x", "y", "z"))
        fades = max(0.0, min(1.0, 1 - max(0.0, z) / self._fade_mm)) if self._fade_mm else 1.0
        return fades * (self._height(x, y) + self._shift_mm)

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

    def _with(self, steps: tuple[Steps, ...], z_a_mm: float) -> tuple[Steps, ...]:
        """The steps with so many millimetres of Z for each of the path."""
        if not z_a_mm:
            return steps
        own = {step.socket: step for step in steps}
        for z in self._z:
            mine = own.get(z.socket)
            more = z.per_mm * z_a_mm
            own[z.socket] = replace(mine or z, per_mm=(mine.per_mm if mine is not None else 0.0) + more)
        return tuple(own.values())
