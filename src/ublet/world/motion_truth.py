"""The truth behind the trials of the leg Move: steps, ends, and what the motors can carry."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.counting import loss_directions
from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import axis_of
from ublet.core.motion.limit_trials import FEED_AND_ACCELERATION, motor_groups
from ublet.core.motion.motor_trials import motor_roots
from ublet.core.motion.steps_trials import StepsParameters, axes_of, measured_length
from ublet.core.settings import Value
from ublet.world.assembly import assemble
from ublet.world.roots import rising_root
from ublet.world.scenario import Scenario


def steps_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """True steps per millimetre of each axis: from what its motors carry in a turn, and the steps of a turn."""
    mechanics, truths = assemble(scenario, machine), {}
    for axis in ("x", "y", "z"):
        declared = axis_of(machine, axis).motors
        microsteps = {f"{axis}.{name}": motor.microsteps for name, motor in declared.items()}
        own = [motor for motor in mechanics.motors.values() if motor.role in microsteps]
        if own:
            travel = [m.turn_mm / (m.full_steps * (m.microsteps or microsteps[m.role])) for m in own]
            truths[f"steps_per_mm.{axis}"] = len(travel) / sum(travel)
    return truths


def lengths_truth(scenario: Scenario, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """The same, and how far each axis really goes when the measured length is commanded, with the steps
    that are in force on arrival.
    """
    chosen, truths = StepsParameters.model_validate(dict(aim)), steps_truth(scenario, machine)
    for axis in axes_of(chosen):
        true = truths.get(f"steps_per_mm.{axis}")
        if true is None:
            continue
        length = measured_length(machine, axis, chosen)
        steps = number_in_force(scenario, f"axes.{axis}.steps_per_mm", _declared_steps(machine, axis))
        truths[f"measured.{axis}"] = length * steps / true
        truths[f"error.{axis}"] = length * (steps / true - 1)
    return truths


def travel_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """Where the homed ends of X and Y really are, from the bed's corner, and what the board counts over that corner."""
    truths = {}
    for axis in ("x", "y"):
        declared = axis_of(machine, axis)
        switch = scenario.switches.get(str(declared.homing.endstop))
        if switch is not None:
            key = "maximum_mm" if declared.homing.end == "high" else "minimum_mm"
            end = number_in_force(scenario, f"axes.{axis}.{key}", getattr(declared, key))
            truths[f"{declared.homing.end}.{axis}"] = switch.at_mm
            truths[f"zero_to_corner.{axis}"] = end - switch.at_mm
    return truths


def limits_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """Where axes really begin to lose steps: feed at the declared acceleration, acceleration at the declared feed, and
    the current that just carries both; for the weakest motor, in the worst direction of those that share motors.
    """
    mechanics, truths = assemble(scenario, machine), {}
    ratios = steps_truth(scenario, machine)
    for axes in motor_groups(machine, "all"):
        feeds, hards = (
            {
                axis: number_in_force(scenario, f"axes.{axis}.{key}", getattr(axis_of(machine, axis), key))
                for axis in axes
            }
            for key in FEED_AND_ACCELERATION
        )
        # a commanded speed is so many times faster in truth
        steps = {
            axis: number_in_force(scenario, f"axes.{axis}.steps_per_mm", _declared_steps(machine, axis))
            for axis in axes
        }
        real = {axis: steps[axis] / ratios[f"steps_per_mm.{axis}"] for axis in axes}
        amps = min(
            number_in_force(scenario, f"axes.{axis}.motors.{name}.run_a", motor.run_a)
            for axis in axes
            for name, motor in axis_of(machine, axis).motors.items()
        )

        def spare(speed: float, hard: float, current: float) -> float:
            """Force left over, N, at so many times the feeds and accelerations, in the worst direction."""
            return min(
                mechanics.spare_n(
                    {axis: direction * feeds[axis] * real[axis] * speed for axis, direction in directions.items()},  # noqa: B023
                    {axis: hards[axis] * real[axis] * hard for axis in directions},  # noqa: B023
                    current,
                )
                for directions in loss_directions(machine, axes)  # noqa: B023
            )

        feed = _root(lambda times: spare(times, 1.0, amps), 100.0)  # noqa: B023
        hard = _root(lambda times: spare(1.0, times, amps), 1000.0)  # noqa: B023
        for axis in axes:
            truths[f"feed_limit.{axis}"] = feed * feeds[axis]
            truths[f"acceleration_limit.{axis}"] = hard * hards[axis]
        carries = _root(lambda current: -spare(1.0, 1.0, current), 50.0)
        least = [motor.least_a for motor in mechanics.motors.values() if motor.role.partition(".")[0] in axes]
        truths[f"least_current.{axes[0]}"] = max(carries, *least)
    return truths


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


def number_in_force(scenario: Scenario, path: str, declared: float) -> float:
    """A setting as it is on arrival: stored, else in the image, else as the file says."""
    arrived = {**scenario.image_settings(), **scenario.stored_settings()}.get(path)
    return float(arrived) if isinstance(arrived, (int, float)) else declared


def _declared_steps(machine: MachineFile, axis: str) -> float:
    declared = axis_of(machine, axis)
    motor = next(iter(declared.motors.values()))
    return declared.steps_per_mm or axis_steps_per_mm(declared, motor)


def _root(good: Callable[[float], float], top: float) -> float:
    """Where a falling function of a positive value crosses zero."""
    return rising_root(lambda value: -good(value), 0.0, top)
