"""Benches of the leg Move: directions, homing, lengths, speeds."""

from __future__ import annotations

from ublet.tui.asking import AskingBench
from ublet.tui.measure_pictures import limits_picture, steps_picture
from ublet.tui.move_pictures import directions_picture, homing_picture
from ublet.tui.pictures import Picture


class DirectionsBench(AskingBench):
    """Each axis the right way."""

    kind = "directions"
    why = "Directions   an axis that runs the wrong way never finds its end"

    def picture(self) -> Picture:
        """The machine, and what is positive."""
        return directions_picture


class HomingBench(AskingBench):
    """Every axis to its end."""

    kind = "homing"
    why = "Homing   every position counts from the ends"

    def picture(self) -> Picture:
        """Axes to scale, and how well their ends repeat."""
        return homing_picture


class StepsBench(AskingBench):
    """Each axis as long as it says."""

    kind = "steps"
    why = "Steps per mm   geometry first; measured only to find a wrong part"

    def picture(self) -> Picture:
        """Readings against what was told."""
        return steps_picture


class LimitsBench(AskingBench):
    """What each axis stands."""

    kind = "limits"
    why = "Speed limits   the fastest that loses no step, with a margin kept"

    def picture(self) -> Picture:
        """Every try, and whether it held."""
        return limits_picture
