"""The truth behind the trials of the leg Move: steps, ends, and what the motors can carry."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import axis_of
from ublet.core.motion.motor_trials import motor_roots
from ublet.core.motion.steps_trials import StepsParameters, axes_of, measured_length
from ublet.core.settings import Value
from ublet.world.assembly import assemble
from ublet.world.scenario import Scenario


def steps_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """True steps per millimetre of each axis: from what its motors carry in a turn, and the steps of a turn."""
    mechanics, found = assemble(scenario, machine), {}
    for axis in ("x", "y", "z"):
        declared = axis_of(machine, axis).motors
        told = {f"{axis}.{name}": motor.microsteps for name, motor in declared.items()}
        own = [motor for motor in mechanics.motors.values() if motor.role in told]
        if own:
            each = [m.turn_mm / (m.full_steps * (m.microsteps or told[m.role])) for m in own]
            found[f"steps_per_mm.{axis}"] = len(each) / sum(each)
    return found


def lengths_truth(scenario: Scenario, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """The same, and how far each axis really goes when it is told the length that is measured, with the steps that are
    in force on arrival.
    """
    chosen, found = StepsParameters.model_validate(dict(aim)), steps_truth(scenario, machine)
    for axis in axes_of(chosen):
        true = found.get(f"steps_per_mm.{axis}")
        if true is None:
            continue
        told = measured_length(machine, axis, chosen)
        steps = _in_force(scenario, f"axes.{axis}.steps_per_mm", _declared_steps(machine, axis))
        found[f"measured.{axis}"] = told * steps / true
        found[f"error.{axis}"] = told * (steps / true - 1)
    return found


def travel_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """Where the homed ends of X and Y really are, from the bed's corner, and what the board counts over that corner."""
    found = {}
    for axis in ("x", "y"):
        declared = axis_of(machine, axis)
        switch = scenario.switches.get(str(declared.homing.endstop))
        if switch is not None:
            end = declared.maximum_mm if declared.homing.end == "high" else declared.minimum_mm
            found[f"{declared.homing.end}.{axis}"] = switch.at_mm
            found[f"zero_to_corner.{axis}"] = end - switch.at_mm
    return found


def limits_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """Where each axis really begins to lose steps: feed at its declared acceleration, acceleration at its declared
    feed, and the current that just carries both; for the weakest of its motors.
    """
    mechanics, found = assemble(scenario, machine), {}
    corexy = machine.machine.kinematics == "corexy"
    least: dict[str, float] = {}
    for axis in ("x", "y", "z"):
        declared, carriage = axis_of(machine, axis), mechanics.carriages[axis]
        shared = ("x", "y") if corexy and axis in ("x", "y") else (axis,)
        motors = [motor for motor in mechanics.motors.values() if motor.role.partition(".")[0] in shared]
        amps = min(motor.run_a for name in shared for motor in axis_of(machine, name).motors.values())
        ratio = steps_truth(scenario, machine)[f"steps_per_mm.{axis}"]
        real = _declared_steps(machine, axis) / ratio  # a told speed is so many times faster in truth

        def spare(feed: float, acceleration: float, current: float) -> float:
            """Force left over, N."""
            load = carriage.load_n(acceleration * real) / len(motors)  # noqa: B023
            return min(motor.force_n(current, feed * real) for motor in motors) - load  # noqa: B023

        feed = _in_force(scenario, f"axes.{axis}.maximum_feed_mm_s", declared.maximum_feed_mm_s)
        acceleration = _in_force(scenario, f"axes.{axis}.acceleration_mm_s2", declared.acceleration_mm_s2)
        found[f"feed_limit.{axis}"] = _root(lambda v: spare(v, acceleration, amps), 1e4)  # noqa: B023
        found[f"acceleration_limit.{axis}"] = _root(lambda a: spare(feed, a, amps), 1e7)  # noqa: B023
        carries = _root(lambda i: -spare(feed, acceleration, i), 50.0)  # noqa: B023
        least[axis] = max(carries, *(motor.least_a for motor in motors))
    if corexy:
        least["x"] = max(least.pop("y"), least["x"])
    return {**found, **{f"least_current.{axis}": amps for axis, amps in least.items()}}


def motors_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """How many motors sit where the board thinks."""
    mechanics, right = assemble(scenario, machine), 0
    for root in motor_roots(machine):
        declared = root.split(".")
        part = machine.extruder.motor if machine.extruder is not None and declared[0] == "extruder" else None
        motor = part or axis_of(machine, declared[1]).motors[declared[3]]
        role = "extruder" if part is not None else f"{declared[1]}.{declared[3]}"
        there = mechanics.motors.get(in_force(scenario, f"{root}.socket", motor.socket))
        right += there is not None and there.role == role and not there.open
    return {"motors_right": float(right)}


def in_force(scenario: Scenario, path: str, declared: str) -> str:
    """A word as it is on arrival: stored, else in the image, else as the file says."""
    return str({**scenario.image_settings(), **scenario.stored_settings()}.get(path, declared))


def _in_force(scenario: Scenario, path: str, declared: float) -> float:
    """A setting as it is on arrival: stored, else in the image, else as the file says."""
    arrived = {**scenario.image_settings(), **scenario.stored_settings()}.get(path)
    return float(arrived) if isinstance(arrived, (int, float)) else declared


def _declared_steps(machine: MachineFile, axis: str) -> float:
    declared = axis_of(machine, axis)
    motor = next(iter(declared.motors.values()))
    return declared.steps_per_mm or axis_steps_per_mm(declared, motor)


def _root(good: Callable[[float], float], top: float) -> float:
    """Where a falling function of a positive value crosses zero, by halving."""
    low, high = 0.0, top
    for _ in range(80):
        middle = (low + high) / 2
        low, high = (middle, high) if good(middle) > 0 else (low, middle)
    return (low + high) / 2
