"""Motors and carriages as they really are: what is plugged in where, which way it turns, how far it carries."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from ublet.core.machine.layouts import AXES
from ublet.core.motion.kinematics import Kinematics
from ublet.core.sockets import Pace, Steps

EXTRUDER = "extruder"
"""The role of the motor that pushes filament."""

NOTHING_MM = 1e5
"""Position beyond which nothing stops a carriage, mm."""

CATCHES_TURNS_S = 1.0
"""A motor that slipped catches its steps again below this speed, turns/s."""


@dataclass(frozen=True)
class MotorTruth:
    """A motor on a driver socket.

    role: the carriage that it moves, ``AXIS.NAME`` of the machine file, or ``extruder``. reversed: its coils are
    wired the other way round. turn_mm: travel in one turn. microsteps: what its driver really makes (0: as
    commanded). least_a: below this current it only hums. open: a wire is broken. torque_nm_a: torque for each ampere
    at rest, N·m; it falls to half at knee_turns_s. efficiency: share of it that reaches the carriage. quiet_fraction:
    share of its torque while its driver runs quietly.
    """

    role: str
    reversed: bool = False
    turn_mm: float = 40.0
    full_steps: int = 200
    microsteps: int = 0
    least_a: float = 0.2
    open: bool = False
    torque_nm_a: float = 0.115
    knee_turns_s: float = 4.5
    efficiency: float = 1.0
    quiet_fraction: float = 0.7

    def force_n(self, amps: float, speed_mm_s: float) -> float:
        """Largest force at the carriage: ``2 pi torque / travel in a turn``, falling with speed.

        A stepper's pull-out torque is about constant at low speed and falls as its coils' inductance and back voltage
        eat the supply; here as ``1 / (1 + (n / knee)^2)`` of the turns a second n.
        """
        turns_s = abs(speed_mm_s) / self.turn_mm
        torque = self.torque_nm_a * amps / (1 + (turns_s / self.knee_turns_s) ** 2)
        return 2 * math.pi * torque * self.efficiency / (self.turn_mm / 1000)

    def holds_to_mm_s(self, amps: float, force_n: float) -> float:
        """The speed at the carriage up to which it gives so much force: :meth:`force_n` inverted; below 0: never."""
        if force_n <= 0:
            return math.inf
        spare = self.force_n(amps, 0.0) / force_n - 1
        return self.knee_turns_s * math.sqrt(spare) * self.turn_mm if spare >= 0 else -1.0

    def holds_quietly_to_mm_s(self, amps: float, force_n: float, quiet_to_mm_s: float) -> float:
        """The same for a driver that runs quietly below a speed: where it holds up to there, it holds as far as when it
        runs strongly; else only as far as quietly.
        """
        strong = self.holds_to_mm_s(amps, force_n)
        if not quiet_to_mm_s:
            return strong  # it never runs quietly
        quiet = self.holds_to_mm_s(amps * self.quiet_fraction, force_n)
        return strong if quiet >= min(quiet_to_mm_s, strong) else quiet


@dataclass(frozen=True)
class Carriage:
    """What the motors of an axis move: mass in kg, friction and weight in N, play in mm, hard stops in mm."""

    low_mm: float
    high_mm: float
    mass_kg: float = 0.5
    friction_n: float = 3.5
    weight_n: float = 0.0
    play_mm: float = 0.0

    def load_n(self, acceleration_mm_s2: float) -> float:
        """Force that it asks for: inertia, friction (which helps to brake), and the weight both ways."""
        inertia = self.mass_kg * abs(acceleration_mm_s2) / 1000
        against = self.friction_n if acceleration_mm_s2 >= 0 else -self.friction_n
        return max(0.0, inertia + against) + self.weight_n


@dataclass(frozen=True)
class Stretch:
    """A part of a pace in which the same motors keep their steps: from and to a length of path, mm.

    axes and motors: what each carries for one mm of path, by axis, and by the role of a motor.
    """

    start_mm: float
    end_mm: float
    axes: Mapping[str, float]
    motors: Mapping[str, float]


@dataclass(frozen=True)
class _Driven:
    """A motor that turns: mm for each mm of path; the path's speeds that it holds to, and below which it catches."""

    role: str
    per_mm: float
    holds: float
    catches: float


class Mechanics:
    """Carriages driven by motors, solved pace by pace in closed form.

    A carriage that runs into a hard stop stays there. where: true positions, mm; spun: what each motor carried in all.
    """

    def __init__(
        self,
        kinematics: Kinematics,
        motors: Mapping[str, MotorTruth],
        carriages: Mapping[str, Carriage],
        where: Mapping[str, float],
    ) -> None:
        self.kinematics = kinematics
        self.motors = motors
        self.carriages = carriages
        self.where = dict(where)
        self.spun: dict[str, float] = {}
        self._pulled = dict(where)  # where the belts and screws are; a carriage with play trails behind
        self._slipping: set[str] = set()
        self._known: tuple[Sequence[Steps], float, list[_Driven]] = ((), 0.0, [])
        self.begin()

    def begin(self) -> None:
        """Everything stood still: forget what was done before."""
        self.look_anew()
        self._slipping.clear()

    def look_anew(self) -> None:
        """A motion begins from standstill: who looks on sees it as one of its own."""
        self.travelled = dict.fromkeys(AXES, 0.0)
        self.turned: dict[str, float] = {}

    def stretches(self, accelerations: Sequence[Steps], pace: Pace) -> Iterator[Stretch]:
        """The stretches of a pace, each to be carried by :meth:`carry` before the next is asked for.

        A motor of which more force is asked than it has slips: its steps are lost until it is slow again.
        """
        if self._known[0] is not accelerations or self._known[1] != pace.acceleration_mm_s2:
            self._known = (accelerations, pace.acceleration_mm_s2, self._driven(accelerations, pace))
        driven = self._known[2]
        cuts = {0.0, pace.seconds}
        for motor in driven:
            cuts.update(at for at in self._turning_points(motor, pace) if 0.0 < at < pace.seconds)
        times = sorted(cuts)
        for start, end in pairwise(times):
            middle = pace.speed((start + end) / 2)
            for motor in driven:
                self._slip_or_catch(motor, middle)
            going = {motor.role: motor.per_mm for motor in driven if motor.role not in self._slipping}
            known = {role: mm for role, mm in going.items() if role in self.kinematics.motors}
            yield Stretch(pace.gone(start), pace.gone(end), self.kinematics.of_motors(known), going)

    def spare_n(self, speeds: Mapping[str, float], accelerations: Mapping[str, float], amps: float) -> float:
        """The force, N, that the weakest motor has left while axes go at these speeds, mm/s, and speed up so, mm/s²."""
        loads = {a: math.copysign(self.carriages[a].load_n(accelerations[a]), speed) for a, speed in speeds.items()}
        turning, forces = self.kinematics.of_axes(speeds), self.kinematics.forces(loads)
        return min(
            motor.force_n(amps, turning.get(motor.role, 0.0)) - abs(forces[motor.role])
            for motor in self.motors.values()
            if motor.role in forces and abs(forces[motor.role]) > 0
        )

    def where_after(self, axis: str, mm: float) -> tuple[float, float]:
        """Where an axis's carriage and its belt would be after so much more pull, mm: hard stops, and play."""
        carriage = self.carriages[axis]
        slack = carriage.play_mm / 2
        pulled = min(carriage.high_mm + slack, max(carriage.low_mm - slack, self._pulled[axis] + mm))
        trailing = min(pulled + slack, max(pulled - slack, self.where[axis]))
        return min(carriage.high_mm, max(carriage.low_mm, trailing)), pulled

    def step_mm(self, steps: Steps) -> float:
        """How far a step of a motor carries what it moves, mm; 0 where it does not turn."""
        motor = self.motors.get(steps.socket)
        if motor is None or motor.open or steps.amps < motor.least_a:
            return 0.0
        micro = motor.microsteps or steps.microsteps
        return motor.turn_mm / (motor.full_steps * micro) * (-1 if motor.reversed else 1)

    def clear(self, axis: str, end: str) -> None:
        """Hands take away what a carriage touches at an end: it goes on as far as nothing stops it."""
        free = {"low": {"low_mm": -NOTHING_MM}, "high": {"high_mm": NOTHING_MM}}[end]
        self.carriages = {**self.carriages, axis: replace(self.carriages[axis], **free)}

    def jump(self, axis: str, mm: float) -> None:
        """A belt jumps: the carriage stands elsewhere, and no motor has turned."""
        self.where[axis], self._pulled[axis] = self.where_after(axis, mm)

    def carry(self, stretch: Stretch, mm: float) -> None:
        """Follow a stretch for so many mm of path."""
        for role, per_mm in stretch.motors.items():
            self.turned[role] = self.turned.get(role, 0.0) + per_mm * mm
            self.spun[role] = self.spun.get(role, 0.0) + per_mm * mm
        for axis, per_mm in stretch.axes.items():
            before = self.where[axis]
            self.where[axis], self._pulled[axis] = self.where_after(axis, per_mm * mm)
            self.travelled[axis] += self.where[axis] - before

    def _driven(self, axes: Sequence[Steps], pace: Pace) -> list[_Driven]:
        """The motors that turn, with the speeds that they can keep."""
        turning: dict[str, tuple[MotorTruth, float, float, float]] = {}
        for steps in axes:
            if not (mm := steps.per_mm * self.step_mm(steps)):
                continue
            motor = self.motors[steps.socket]
            turning[motor.role] = (motor, mm, steps.amps, steps.quiet_to_mm_s)
        known = {role: mm for role, (_, mm, *_) in turning.items() if role in self.kinematics.motors}
        asked = self.kinematics.forces(self._loads(self.kinematics.of_motors(known), pace))
        driven = []
        for role, (motor, mm, amps, quiet_to) in turning.items():
            holds = motor.holds_quietly_to_mm_s(amps, abs(asked.get(role, 0.0)), quiet_to)
            catches = min(holds, CATCHES_TURNS_S * motor.turn_mm)
            driven.append(_Driven(role, mm, holds / abs(mm), catches / abs(mm)))
        return driven

    def _loads(self, per_mm: Mapping[str, float], pace: Pace) -> dict[str, float]:
        """What the moving carriages ask for, N: against their way while they are driven, along it while they brake."""
        braking = pace.acceleration_mm_s2 < 0
        loads = {}
        for axis, fraction in per_mm.items():
            load = self.carriages[axis].load_n(pace.acceleration_mm_s2 * abs(fraction))
            loads[axis] = -load if (fraction > 0) == braking else load
        return loads

    def _turning_points(self, motor: _Driven, pace: Pace) -> Iterator[float]:
        """When the path passes the speeds at which a motor begins to slip or to catch, s."""
        if pace.acceleration_mm_s2:
            for speed in (motor.holds, motor.catches):
                if 0 <= speed < math.inf:
                    yield (speed - pace.speed_mm_s) / pace.acceleration_mm_s2

    def _slip_or_catch(self, motor: _Driven, speed: float) -> None:
        if speed > motor.holds:
            self._slipping.add(motor.role)
        elif speed <= motor.catches:
            self._slipping.discard(motor.role)


def seen(travelled: Mapping[str, float], least_mm: float = 0.3) -> str:
    """What a person would say a carriage did: right, left, back, front, up, down, diagonal, or nothing."""
    parts = {axis: value for axis, value in travelled.items() if abs(value) >= least_mm}
    if not parts:
        return "nothing"
    largest = max(parts, key=lambda axis: abs(parts[axis]))
    if any(axis != largest and abs(value) > 0.4 * abs(parts[largest]) for axis, value in parts.items()):
        return "diagonal"
    words = {"x": ("right", "left"), "y": ("back", "front"), "z": ("up", "down")}[largest]
    return words[0] if parts[largest] > 0 else words[1]
