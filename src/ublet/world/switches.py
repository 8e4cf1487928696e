"""Switches as they really are: contacts, faults, bounces, and how often they changed."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ublet.world.scenario import SwitchPart

PULLED_EDGES = 8
"""Changes of a wheel's contact while a hand pulls filament through."""


class Switch:
    """One switch; ``edges`` counts every change of its contact since power-on, bounces too."""

    def __init__(self, part: SwitchPart) -> None:
        self.part = part
        self.pressed = False
        self.edges = 0
        self._reached = False
        self._offset = self._shaken = 0.0
        self._turns = 0
        self.towards_mm_s = 0.0
        """How fast its carriage comes towards it now: the faster, the further it goes on before it answers."""

    def press(self, down: bool) -> None:
        """A hand presses or lets go."""
        before, self.pressed = self.is_open, down
        if self.is_open != before:
            self.edges += 1 + 2 * self.part.bounces

    def pulled(self, by_hand: bool) -> None:
        """A hand pulls some centimetres of filament through a wheel."""
        if by_hand and self.part.fault == "none":
            self.edges += PULLED_EDGES

    def turned_by(self, mm: float) -> None:
        """Filament has turned the wheel by a length in all, mm: its contact changes twice a turn."""
        edges = int(mm / self.part.pulse_mm)
        if edges > self._turns and self.part.fault == "none":
            self.edges += edges - self._turns
            self.pressed = bool(edges % 2)
        self._turns = edges

    def let_go(self) -> None:
        """What pressed it is gone: a pin that was drawn in."""
        self._reached = False
        if self.pressed:
            self.press(False)

    def follow(self, where: Mapping[str, float], random: np.random.Generator) -> None:
        """The carriages stand here now: one that reaches the switch presses it, each time a little elsewhere."""
        if (self.part.axis or self.part.lift) and self._reaches(where) != self._reached:
            self.change(random)

    def change(self, random: np.random.Generator) -> None:
        """A carriage comes to press it, or to let go; the next time that will be a little elsewhere."""
        self._reached = not self._reached
        self.press(self._reached)
        if not self._reached and self.part.spread_mm:
            self._offset = float(random.normal(0.0, self.part.spread_mm))
        if not self._reached and self.part.late_spread_s:
            self._shaken = float(random.normal())

    @property
    def is_open(self) -> bool:
        """Whether no current flows through its contact and wires."""
        return self._opens(self.pressed)

    def is_open_at(self, where: Mapping[str, float]) -> bool:
        """Whether it would be open if the carriages stood there."""
        reached = self._reaches(where)
        return self._opens(reached if reached != self._reached else self.pressed)

    def _reaches(self, where: Mapping[str, float]) -> bool:
        beyond = self._beyond(where) - self._offset
        return beyond <= 0 if self.part.side == "low" else beyond >= 0

    def _beyond(self, where: Mapping[str, float]) -> float:
        """How far its carriage is from where it presses it, mm."""
        late_s = max(0.0, self.part.late_s + self.part.late_spread_s * self._shaken)
        late_mm = late_s * self.towards_mm_s
        return (
            where[self.part.lift or self.part.axis]
            - self.part.at_mm
            + (late_mm if self.part.side == "low" else -late_mm)
        )

    def _opens(self, pressed: bool) -> bool:
        if self.part.fault == "broken-wire":
            return True
        pressed = pressed and self.part.fault != "stuck"
        return pressed if self.part.normally_closed else not pressed
