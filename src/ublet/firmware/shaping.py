"""Input shaping on the board: the speeds of paths, spread over the live trains, as the motors are really stepped."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.machine.layouts import AXES
from ublet.core.motion.sweep_motion import GRID_HZ
from ublet.core.settings import Value
from ublet.core.shake.shapers import ImpulseSequence, live_impulses
from ublet.core.sockets import Pace

LONGEST_S = 0.5
"""A train that reaches as far is none, s."""


class Shaping:
    """Speeds of the axes on a grid of time, of the period that goes on and of as much before as a train reaches back.

    awake: whether anybody could feel how the steps come. Only then they are worked out: nothing else knows them finer
    than by paths, and all that moves would take twice as long.
    """

    def __init__(self) -> None:
        self.awake = False
        self._can = True
        self._sequences: dict[str, ImpulseSequence] = {}
        self._kept = round(LONGEST_S * GRID_HZ)
        self._past: dict[str, Floats] = {}
        self._now: dict[str, Floats] = {}

    def begin(self, can: bool) -> None:
        """Power-on. can: whether the image that runs has the module for it."""
        self._can = can
        self.sleep()

    def settled(self, live: Mapping[str, Value]) -> None:
        """Live settings have changed."""
        shapers = {axis: live_impulses(live.get, axis) for axis in AXES} if self._can else {}
        self._sequences = {
            axis: impulses
            for axis, impulses in shapers.items()
            if impulses is not None and impulses.duration_s < LONGEST_S
        }

    def impulses(self, axis: str) -> tuple[tuple[float, float], ...]:
        """What the steps of an axis are spread over: a time, s, and an amplitude each."""
        sequence = self._sequences.get(axis)
        if sequence is None:
            return ((0.0, 1.0),)
        return tuple(zip(sequence.times.tolist(), sequence.amplitudes.tolist(), strict=True))

    def sleep(self) -> None:
        """Nobody feels it: what was on its way is forgotten."""
        self.awake = False
        self._past.clear()
        self._now.clear()

    def begin_period(self, seconds: float) -> None:
        """A control period begins, in which nothing moves yet."""
        count = round(seconds * GRID_HZ) + 1
        for axis in AXES:
            past = self._past.setdefault(axis, np.zeros(self._kept))
            self._now[axis] = np.zeros(count)
            self._now[axis][0] = past[-1]

    def follow(self, direction: Mapping[str, float], from_s: float, pace: Pace) -> None:
        """A path is followed for a while, from a time in the period on."""
        first, last = np.ceil(from_s * GRID_HZ - 1e-6), np.floor((from_s + pace.seconds) * GRID_HZ + 1e-6)
        at = np.arange(int(first), int(last) + 1)
        speeds = pace.speed_mm_s + pace.acceleration_mm_s2 * (at / GRID_HZ - from_s)
        self.stepped(direction, int(first), speeds)

    def stepped(self, direction: Mapping[str, float], first: int, speeds: Floats) -> None:
        """Speeds along a way, mm/s, at points of the period's grid from one on."""
        for axis, fraction in direction.items():
            if axis in self._now:
                room = self._now[axis][first : first + len(speeds)]
                room[:] = fraction * speeds[: len(room)]

    def end_period(self) -> dict[str, Floats]:
        """What the axes were really stepped with: n + 1 speeds over the period, mm/s, shaped."""
        pieces = {}
        for axis in AXES:
            whole = np.concatenate([self._past[axis], self._now[axis][1:]])
            self._past[axis] = whole[-self._kept :]
            count = len(self._now[axis])
            impulses = self._sequences.get(axis)
            pieces[axis] = whole[-count:] if impulses is None else _spread(whole, count, impulses)
        return pieces


def _spread(whole: Floats, count: int, impulses: ImpulseSequence) -> Floats:
    """The last of many speeds, each the sum of what was commanded so much earlier; even between the points of the
    grid.
    """
    speeds = np.zeros(count)
    for time_s, fraction in zip(impulses.times.tolist(), impulses.amplitudes.tolist(), strict=True):
        back = time_s * GRID_HZ
        steps = int(back)
        part = back - steps
        end = len(whole) - steps
        speeds += fraction * ((1 - part) * whole[end - count : end] + part * whole[end - count - 1 : end - 1])
    return speeds
