"""Steps per millimetre from the geometry of a drive."""

from __future__ import annotations

import math

from ublet.core.machine.motion_parts import Axis, Motor
from ublet.core.machine.tool_parts import Extruder


def steps_per_turn(step_angle_deg: float, microsteps: int) -> float:
    """Microsteps of a motor in one turn: ``(360 / step_angle) * microsteps``.

    >>> steps_per_turn(1.8, 16)
    3200.0
    """
    return 360.0 / step_angle_deg * microsteps


def belt_steps_per_mm(turn: float, pitch_mm: float, teeth: int, gear_ratio: float = 1.0) -> float:
    """Steps per millimetre of a belt drive: steps in a turn over the belt's travel in that turn.

    >>> belt_steps_per_mm(3200, 2, 20)
    80.0
    """
    return turn * gear_ratio / (teeth * pitch_mm)


def screw_steps_per_mm(turn: float, lead_mm: float, gear_ratio: float = 1.0) -> float:
    """Steps per millimetre of a screw drive.

    >>> screw_steps_per_mm(3200, 8)
    400.0
    """
    return turn * gear_ratio / lead_mm


def axis_steps_per_mm(axis: Axis, motor: Motor) -> float:
    """What the declared geometry of an axis gives for one of its motors, steps/mm."""
    turn = steps_per_turn(motor.step_angle_deg, motor.microsteps)
    if axis.drive == "belt":
        return belt_steps_per_mm(turn, axis.belt_pitch_mm, axis.pulley_teeth, axis.gear_ratio)
    return screw_steps_per_mm(turn, axis.screw_lead_mm, axis.gear_ratio)


def extruder_steps_per_mm(extruder: Extruder) -> float:
    """What the declared gear gives, steps per mm of filament: steps in a turn over its circumference."""
    turn = steps_per_turn(extruder.motor.step_angle_deg, extruder.motor.microsteps)
    return turn * extruder.gear_ratio / (math.pi * extruder.hob_mm)
