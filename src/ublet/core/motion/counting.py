"""Whether motors keep their steps: a pattern run there and back in one direction, then the count compared."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.bench import Bench
from ublet.core.machine.layouts import AXES
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import axis_of, go_to, home_axis, number_of
from ublet.core.motion.kinematics import Kinematics, kinematics_of
from ublet.core.motion.limits import tolerance_mm
from ublet.core.run import Progress, Stream
from ublet.core.settings import Value, number_or
from ublet.core.trial_times import TrialTimes
from ublet.core.units import show

START_MM = 12.0
"""The pattern begins so far from the end that the axis homes to, mm."""

SHORTEST_MM = 20.0
FAST_OUT = (True, True, True, False)
"""Each pass goes one way fast and the other way slowly, and not equally often: what is lost both ways adds up."""

TYPICAL_SPREAD_MM = 0.02
DIRECTIONS = ("x", "y", "z", "x+y", "x-y")
"""Directions of a pattern, by the number that stands in a record."""

Directions = Mapping[str, int]
"""The axes that take part, each with 1 (away from the end that it homes to) or -1."""


@dataclass(frozen=True)
class LossPattern:
    """There and back: axes with their ways, and how fast each goes, mm/s, and speeds up, mm/s²."""

    directions: Directions
    feeds: Mapping[str, float]
    accelerations: Mapping[str, float]


def kinematics(machine: MachineFile) -> Kinematics:
    """The declared kinematics."""
    motors = {axis: [f"axes.{axis}.motors.{name}" for name in axis_of(machine, axis).motors] for axis in AXES}
    return kinematics_of(machine.machine.layout, motors)


def loss_directions(machine: MachineFile, axes: tuple[str, ...]) -> tuple[Directions, ...]:
    """The directions to try for axes: where they share motors both diagonals first, since they are the worst."""
    single = tuple({axis: 1} for axis in axes)
    if len(axes) < 2:
        return single
    first, second = axes
    return ({first: 1, second: 1}, {first: 1, second: -1}, *single)


def inward(machine: MachineFile, axis: str) -> int:
    """The sign of the way from the end that an axis homes to."""
    return -1 if axis_of(machine, axis).homing.end == "high" else 1


async def keeps_count(
    bench: Bench, pattern: LossPattern, axes: tuple[str, ...], further: Mapping[str, Value], fraction: float
) -> bool:
    """Run a pattern with other limits for a while, then home the axes that share its motors; was the count right?

    further: settings that are borrowed besides. share: of the whole trial, for its progress.
    """
    machine, going = bench.machine, tuple(pattern.directions)
    feeds = {axis: pattern.feeds[axis] for axis in going}
    with bench.aside():  # where there is room for it
        seconds = min(_length(machine, axis, pattern) / feeds[axis] for axis in going)
        begin, turn, slow = {}, {}, math.inf
        path = math.hypot(*feeds.values())
        for axis in going:
            declared, direction = axis_of(machine, axis), inward(machine, axis)
            near = declared.maximum_mm - START_MM if direction < 0 else max(declared.minimum_mm, 0.0) + START_MM
            far = near + direction * feeds[axis] * seconds
            begin[axis], turn[axis] = (near, far) if pattern.directions[axis] > 0 else (far, near)
            quiet = min(declared.homing.fast_mm_s, declared.maximum_feed_mm_s)
            slow = min(slow, quiet * path / feeds[axis])
    first = going[0]
    bench.progress(Progress(_words(pattern, machine), fraction, None, _pattern_words(pattern, further)))
    for axis in going:
        await go_to(bench, axis, begin[axis], slow * feeds[axis] / path)
    limits: dict[str, Value] = {
        **{f"axes.{axis}.maximum_feed_mm_s": mm for axis, mm in feeds.items()},
        **{f"axes.{axis}.acceleration_mm_s2": pattern.accelerations[axis] for axis in going},
        **further,
    }
    for fast_out in FAST_OUT:
        for out in (True, False):
            to = turn if out else begin
            if out is fast_out:
                async with bench.settings.borrowed(limits):
                    await bench.motion.go(to, path)
            else:
                await bench.motion.go(to, slow)
    with bench.aside():  # the ends only serve to compare the count
        shifts = {axis: await home_axis(bench, axis) for axis in axes}
    lost, held = lost_steps(bench, {axis: mm for axis, mm in shifts.items() if mm is not None})
    held = held and None not in shifts.values()
    if further:
        amps = float(next((v for v in further.values() if isinstance(v, float)), 0.0))
    else:
        motors = [f"axes.{axis}.motors.{name}" for axis in going for name in axis_of(machine, axis).motors]
        amps = max(number_of(bench, f"{motor}.run_a") for motor in motors)
    number = float(DIRECTIONS.index(_direction(pattern, machine)))
    row = (number, pattern.feeds[first], pattern.accelerations[first], amps, lost, float(held))
    bench.record.row("tries", row)
    return held


def pattern_s(machine: MachineFile, axes: tuple[str, ...], pattern: LossPattern, times: TrialTimes) -> float:
    """About how long a pattern takes with the homing after it, s."""
    going = pattern.directions
    length = min(_length(machine, axis, pattern) for axis in going)
    slow_mm_s = min(min(axis_of(machine, axis).homing.fast_mm_s, pattern.feeds[axis]) for axis in going)
    ways = len(FAST_OUT) * (length / min(pattern.feeds[axis] for axis in going) + length / slow_mm_s)
    return ways + START_MM / slow_mm_s + sum(times.axis_s(machine, axis) for axis in axes)


def _length(machine: MachineFile, axis: str, pattern: LossPattern) -> float:
    declared = axis_of(machine, axis)
    room = declared.maximum_mm - declared.minimum_mm - 2 * START_MM
    return min(room, SHORTEST_MM + 1.2 * pattern.feeds[axis] ** 2 / pattern.accelerations[axis])


def lost_steps(bench: Bench, shifts: Mapping[str, float]) -> tuple[float, bool]:
    """By how much the motor that is off the most is off, mm; and whether that is less than a lost step.

    Where axes share motors a motor's own count shows more than an axis's: one that slipped shifts both by half.
    """
    built, worst, held = kinematics(bench.machine), 0.0, True
    travel = built.of_axes(shifts)
    for motor in built.motors:
        carried = [axis for axis in built.axes_of(motor) if axis in shifts]
        if not carried:
            continue
        step = max(full_step_mm(bench.machine, axis) for axis in carried)
        spread = math.hypot(*(homing_spread(bench, axis) for axis in carried))
        off = travel.get(motor, 0.0)
        worst = off if abs(off) > abs(worst) else worst
        held = held and abs(off) <= tolerance_mm(step, spread)
    return worst, held


def _direction(pattern: LossPattern, machine: MachineFile) -> str:
    """A word of DIRECTIONS, by the signs on the machine."""
    if len(pattern.directions) == 1:
        return next(iter(pattern.directions))
    signs = [direction * inward(machine, axis) for axis, direction in pattern.directions.items()]
    return "x+y" if math.prod(signs) > 0 else "x-y"


def _words(pattern: LossPattern, machine: MachineFile) -> str:
    word = _direction(pattern, machine)
    return f"axis {word.upper()}" if len(word) == 1 else f"diagonal {word.upper()}"


def _pattern_words(pattern: LossPattern, further: Mapping[str, Value]) -> str:
    first = next(iter(pattern.directions))
    speed = f"{show(pattern.feeds[first], 'mm/s', 3)}, {show(pattern.accelerations[first], 'mm/s²', 3)}"
    return speed + "".join(f", {show(number_or(amps, 0.0), 'A', 3)}" for amps in list(further.values())[:1])


def homing_spread(bench: Bench, name: str) -> float:
    """How well an axis finds its end again, mm: as it was measured, else as is usual."""
    earlier = bench.record.earlier("homing")
    finding = earlier.finding("spread", axis=name) if earlier is not None else None
    return finding.value if finding is not None else TYPICAL_SPREAD_MM


def full_step_mm(machine: MachineFile, name: str) -> float:
    """What one full step of an axis's motor moves, mm."""
    axis = axis_of(machine, name)
    motor = next(iter(axis.motors.values()))
    return motor.microsteps / axis_steps_per_mm(axis, motor)


TRIES = Stream(
    "tries",
    ("axis", "feed_mm_s", "acceleration_mm_s2", "current_a", "off_mm", "held"),
    ("", "mm/s", "mm/s²", "A", "mm", ""),
)
