"""Pressure advance on the board: the extruder leads the path by a time constant; what flows then follows the speed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from ublet.core.machine.layouts import AXES
from ublet.core.sockets import Pace, Steps

NO_STEPS = 1e-6
"""A lead of fewer steps is none."""


class Lead:
    """How many steps the extruder is ahead of its share of the path.

    On a line that pushes r steps for each mm, at a speed v, it is to be ahead by ``r k v``: while the path's speed
    changes evenly the extruder turns evenly faster by ``r k a``. Whatever a corner, or another k, asks for at once is
    made up within the extruder's largest speed.
    """

    def __init__(self) -> None:
        self._k_s = 0.0
        self._socket, self._most_per_s = "", 0.0
        self._last: Steps | None = None
        self.steps = 0.0

    def limit(self, socket: str, most_per_s: float) -> None:
        """The extruder's motor, and the most steps a second that it may make."""
        self._socket, self._most_per_s = socket, most_per_s

    def follow(self, k_s: float) -> None:
        """From now on this pressure advance, s."""
        self._k_s = k_s

    def forget(self) -> None:
        """Everything stands."""
        self.steps, self._last = 0.0, None

    def with_lead(self, motors: tuple[Steps, ...], direction: Mapping[str, float], pace: Pace) -> tuple[Steps, ...]:
        """The motors of a line, the extruder's with what it has to turn besides, over a piece of its pace."""
        own = next((steps for steps in motors if steps.socket == self._socket), None) if self._socket else None
        if own is not None:
            self._last = replace(own, per_mm=0.0)
        prints = own is not None and direction.get("e", 0.0) > 0 and any(axis in direction for axis in AXES)
        ends = pace.speed(pace.seconds)
        wanted = own.per_mm * self._k_s * ends if prints and own is not None else 0.0
        if pace.seconds <= 0 or self._last is None or abs(wanted - self.steps) < NO_STEPS:
            return motors
        turns = own if own is not None else self._last
        per_s = (wanted - self.steps) / pace.seconds
        if self._most_per_s:
            own_per_s = turns.per_mm * max(pace.speed_mm_s, ends)
            per_s = max(-self._most_per_s - own_per_s, min(self._most_per_s - own_per_s, per_s))
        self.steps += per_s * pace.seconds
        led = replace(turns, ahead_per_s=per_s)
        return (*(steps for steps in motors if steps.socket != self._socket), led)
