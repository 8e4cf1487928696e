"""Motors and carriages as they really are: what is plugged in where, which way it turns, how far it carries."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

UNHOMED_MM, UNHOMED_MM_S = 20.0, 20.0
"""Before homing a move is at most this long and this fast."""

CATCHES_TURNS_S = 1.0
"""A motor that slipped catches its steps again below this speed, turns/s."""


@dataclass(frozen=True)
class MotorTruth:
    """A motor on a driver socket.

    role: the carriage that it moves, ``AXIS.NAME`` of the machine file, or ``extruder``. reversed: its coils are wired
    the other way round. turn_mm: travel in one turn. microsteps: what its driver really makes (0: as told). least_a:
    below this current it only hums. open: a wire is broken. torque_nm_a: torque for each ampere at rest, N·m; it falls
    to half at knee_turns_s. efficiency: share of it that reaches the carriage.
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

    def force_n(self, amps: float, speed_mm_s: float) -> float:
        """Largest force at the carriage: ``2 pi torque / travel in a turn``, falling with speed.

        A stepper's pull-out torque is about constant at low speed and falls as its coils' inductance and back voltage
        eat the supply; here as ``1 / (1 + (n / knee)^2)`` of the turns a second n.
        """
        turns_s = abs(speed_mm_s) / self.turn_mm
        torque = self.torque_nm_a * amps / (1 + (turns_s / self.knee_turns_s) ** 2)
        return 2 * math.pi * torque * self.efficiency / (self.turn_mm / 1000)


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
class Leg:
    """One motor's part in a move: socket, signed steps, what its driver is told."""

    socket: str
    steps: float
    microsteps: int
    amps: float


@dataclass(frozen=True)
class Effort:
    """How an axis (empty: a motor by itself) is moved at a moment: speed in mm/s, acceleration in mm/s²."""

    axis: str = ""
    speed_mm_s: float = 0.0
    acceleration_mm_s2: float = 0.0


@dataclass
class Mechanics:
    """Carriages driven by motors: cartesian, or CoreXY with ``x.a`` and ``y.b`` sharing X and Y.

    A carriage that runs into a hard stop stays there. where: true positions, mm; spun: what each motor carried in all.
    """

    corexy: bool
    motors: Mapping[str, MotorTruth]
    carriages: Mapping[str, Carriage]
    where: dict[str, float]
    travelled: dict[str, float] = field(default_factory=dict)
    turned: dict[str, float] = field(default_factory=dict)
    spun: dict[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._axis = {socket: motor.role.partition(".")[0] for socket, motor in self.motors.items()}
        counted = {axis: sum(1 for each in self._axis.values() if each == axis) for axis in self.carriages}
        if self.corexy:
            counted["x"] = counted["y"] = counted["x"] + counted["y"]  # both belts share the load of either
        self._sharing = {axis: max(1, count) for axis, count in counted.items()}
        self._pulled = dict(self.where)  # where the belts and screws are; a carriage with play trails behind
        self._slipping: set[str] = set()

    def begin(self) -> None:
        """Forget what the former move did."""
        self.travelled = dict.fromkeys(("x", "y", "z"), 0.0)
        self.turned = {}
        self._slipping = set()

    def turn(self, legs: Iterable[Leg], effort: Effort | None = None) -> None:
        """Turn motors together by their legs' steps: what two belts do at once is carried as one.

        A motor of which more force is asked than it has slips: its steps are lost until it is slow again.
        """
        carried = {"x": 0.0, "y": 0.0, "z": 0.0}
        for leg in legs:
            motor = self.motors.get(leg.socket)
            if motor is None or motor.open or leg.amps < motor.least_a:
                continue
            if effort is not None and self._slips(leg, motor, effort):
                continue
            micro = motor.microsteps or leg.microsteps
            mm = leg.steps / (motor.full_steps * micro) * motor.turn_mm * (-1 if motor.reversed else 1)
            self.turned[motor.role] = self.turned.get(motor.role, 0.0) + mm
            self.spun[motor.role] = self.spun.get(motor.role, 0.0) + mm
            axis = self._axis[leg.socket]
            if self.corexy and axis in ("x", "y"):
                carried["x"] += mm / 2
                carried["y"] += mm / 2 if axis == "x" else -mm / 2
            elif axis == "z":
                carried["z"] += mm / self._sharing["z"]
            elif axis in carried:
                carried[axis] += mm
        for axis, mm in carried.items():
            if mm:
                self._carry(axis, mm)

    def _slips(self, leg: Leg, motor: MotorTruth, effort: Effort) -> bool:
        own = self._axis[leg.socket]
        axis = effort.axis or own
        carriage = self.carriages.get(axis)
        if carriage is None or own not in self.carriages:
            return False
        asked = carriage.load_n(effort.acceleration_mm_s2) / self._sharing[axis]
        strong = motor.force_n(leg.amps, effort.speed_mm_s) >= asked
        if leg.socket in self._slipping:
            if strong and effort.speed_mm_s <= CATCHES_TURNS_S * motor.turn_mm:
                self._slipping.discard(leg.socket)
        elif not strong:
            self._slipping.add(leg.socket)
        return leg.socket in self._slipping

    def _carry(self, axis: str, mm: float) -> None:
        carriage, before = self.carriages[axis], self.where[axis]
        slack = carriage.play_mm / 2
        pulled = min(carriage.high_mm + slack, max(carriage.low_mm - slack, self._pulled[axis] + mm))
        self._pulled[axis] = pulled
        self.where[axis] = min(carriage.high_mm, max(carriage.low_mm, min(pulled + slack, max(pulled - slack, before))))
        self.travelled[axis] = self.travelled.get(axis, 0.0) + self.where[axis] - before


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
