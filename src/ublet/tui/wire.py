"""Benches of the leg Wire: switches, heaters, fans and motors, each by itself."""

from __future__ import annotations

from ublet.tui.asking import AskingBench
from ublet.tui.pictures import Picture
from ublet.tui.wire_pictures import fans_picture, inputs_picture, motors_picture, pairing_picture


class InputsBench(AskingBench):
    """Switches pressed by hand."""

    kind = "inputs"
    why = "Inputs by hand   an endstop that lies lets an axis run into its end"

    def picture(self) -> Picture:
        """Levels over the last half minute."""
        return inputs_picture


class PairingBench(AskingBench):
    """Each heater with its own sensor."""

    kind = "pairing"
    why = "Heaters paired   a heater with another one's sensor burns before a guard can know"

    def picture(self) -> Picture:
        """Sensors that warm."""
        return pairing_picture


class FansBench(AskingBench):
    """Each fan by itself."""

    kind = "fans"
    why = "Fans   the one that cools the hotend must not be the one that cools the part"

    def picture(self) -> Picture:
        """Fans and what they are told."""
        return fans_picture


class MotorsBench(AskingBench):
    """Each motor by itself."""

    kind = "motors"
    why = "Motors   small steps first: what turns, and is it the one that was told"

    def picture(self) -> Picture:
        """Motors and their drivers."""
        return motors_picture
