"""The truth behind the trials of the leg Move: steps, ends, and what the motors can carry."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import axis_of
from ublet.sim.assembly import assemble
from ublet.sim.scenario import Scenario


def steps_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """True steps per millimetre of each axis: from what its motors carry in a turn, and the steps of a turn."""
    mechanics, found = assemble(scenario, machine), {}
    for axis in ("x", "y", "z"):
        declared = axis_of(machine, axis).motors
        told = {f"{axis}.{name}": motor.microsteps for name, motor in declared.items()}
        own = [motor for motor in mechanics.motors.values() if motor.role in told]
        if own:
            each = [m.turn_mm / (m.full_steps * (m.microsteps or told[m.role])) for m in own]
            found[f"{axis} steps per mm"] = len(each) / sum(each)
    return found


def travel_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """Where the homed ends of X and Y really are, from the bed's corner, and what the board counts over that corner."""
    found = {}
    for axis in ("x", "y"):
        declared = axis_of(machine, axis)
        switch = scenario.switches.get(str(declared.homing.endstop))
        if switch is not None:
            end = declared.maximum_mm if declared.homing.end == "high" else declared.minimum_mm
            found[f"{axis} {declared.homing.end}"] = switch.at_mm
            found[f"{axis} zero to corner"] = end - switch.at_mm
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
        ratio = steps_truth(scenario, machine)[f"{axis} steps per mm"]
        real = _declared_steps(machine, axis) / ratio  # a told speed is so many times faster in truth

        def spare(feed: float, acceleration: float, current: float) -> float:
            """Force left over, N."""
            load = carriage.load_n(acceleration * real) / len(motors)  # noqa: B023
            return min(motor.force_n(current, feed * real) for motor in motors) - load  # noqa: B023

        feed = _in_force(scenario, f"axes.{axis}.maximum_feed_mm_s", declared.maximum_feed_mm_s)
        acceleration = _in_force(scenario, f"axes.{axis}.acceleration_mm_s2", declared.acceleration_mm_s2)
        found[f"{axis} feed limit"] = _root(lambda v: spare(v, acceleration, amps), 1e4)  # noqa: B023
        found[f"{axis} acceleration limit"] = _root(lambda a: spare(feed, a, amps), 1e7)  # noqa: B023
        carries = _root(lambda i: -spare(feed, acceleration, i), 50.0)  # noqa: B023
        least[axis] = max(carries, *(motor.least_a for motor in motors))
    if corexy:
        least["x"] = max(least.pop("y"), least["x"])
    return {**found, **{f"{axis} least current": amps for axis, amps in least.items()}}


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
