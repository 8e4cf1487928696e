"""The machine behind the board, put together from the scenario and, where that is silent, the machine file."""

from __future__ import annotations

import math

from ublet.core.machine.schema import Axis, MachineFile
from ublet.core.motion.kinematics import kinematics_of
from ublet.world.frame import Frame
from ublet.world.mechanics import EXTRUDER, Carriage, Mechanics, MotorTruth
from ublet.world.scenario import CarriagePart, Scenario

SCREW_EFFICIENCY = 0.35
BEYOND_MM = 2.5
"""Hard stops lie so far beyond the declared ends, mm."""


def assemble(scenario: Scenario, machine: MachineFile) -> Mechanics:
    """The carriages and motors: as the scenario says, the rest as the machine file declares it."""
    axes: dict[str, Axis] = {name: getattr(machine.axes, name) for name in ("x", "y", "z")}
    motors: dict[str, MotorTruth] = {}
    for name, axis in axes.items():
        turn = axis.belt_pitch_mm * axis.pulley_teeth if axis.drive == "belt" else axis.screw_lead_mm
        efficiency = SCREW_EFFICIENCY if axis.drive == "screw" else 1.0
        for label, motor in axis.motors.items():
            steps = round(360 / motor.step_angle_deg)
            motors[motor.socket] = MotorTruth(
                f"{name}.{label}", turn_mm=turn / axis.gear_ratio, full_steps=steps, efficiency=efficiency
            )
    if machine.extruder is not None:
        drive = machine.extruder
        motors[drive.motor.socket] = MotorTruth(
            EXTRUDER,
            turn_mm=math.pi * drive.hob_mm / drive.gear_ratio,
            full_steps=round(360 / drive.motor.step_angle_deg),
        )
    motors.update({socket: part.truth() for socket, part in scenario.motors.items()})
    carriages = {name: _carriage(axis, scenario, name) for name, axis in axes.items()}
    where = {name: (carriage.low_mm + carriage.high_mm) / 2 for name, carriage in carriages.items()}
    roles = [motor.role.partition(".") for motor in motors.values()]
    named = {axis: sorted({f"{axis}.{label}" for of, _, label in roles if of == axis}) for axis in axes}
    return Mechanics(kinematics_of(machine.machine.layout, named), motors, carriages, where)


def heats(scenario: Scenario, machine: MachineFile, part: str) -> str:
    """The plant that the socket of the first heater of a part (``hotend``, ``bed``) really heats; empty: there is
    none.
    """
    sockets = [heater.socket for heater in machine.heaters.values() if heater.part == part]
    return scenario.heaters.get(sockets[0], "") if sockets else ""


def frame_of(scenario: Scenario, machine: MachineFile) -> Frame:
    """The frame that carries all this."""
    axes = machine.axes
    masses = {axis: _carriage(getattr(axes, axis), scenario, axis).mass_kg for axis in "xy"}
    spans = {axis: (getattr(axes, axis).minimum_mm, getattr(axes, axis).maximum_mm) for axis in "xy"}
    shares_belts = set(masses) == set(machine.machine.layout.shared)
    return Frame(scenario.frame.truth(), masses, spans, shares_belts, machine.bed.moves == "y")


def _carriage(axis: Axis, scenario: Scenario, name: str) -> Carriage:
    own_part = {str(key): part for key, part in scenario.carriages.items()}.get(name) or CarriagePart()
    return Carriage(
        axis.minimum_mm - BEYOND_MM if own_part.low_mm is None else own_part.low_mm,
        axis.maximum_mm + BEYOND_MM if own_part.high_mm is None else own_part.high_mm,
        own_part.mass_kg,
        own_part.friction_n,
        own_part.weight_n,
        own_part.play_mm,
    )
