"""Switches as they really are: contacts, faults, bounces, and how often they changed."""

from __future__ import annotations

from ublet.sim.scenario import SwitchPart


class Switch:
    """One switch; ``edges`` counts every change of its contact since power-on, bounces too."""

    def __init__(self, part: SwitchPart) -> None:
        self.part = part
        self.pressed = False
        self.edges = 0

    def press(self, down: bool) -> None:
        """A hand presses or lets go."""
        before, self.pressed = self.is_open, down
        if self.is_open != before:
            self.edges += 1 + 2 * self.part.bounces

    @property
    def is_open(self) -> bool:
        """Whether no current flows through its contact and wires."""
        if self.part.fault == "broken-wire":
            return True
        pressed = self.pressed and self.part.fault != "stuck"
        return pressed if self.part.normally_closed else not pressed
