"""Motors and carriages as they really are: what is plugged in where, which way it turns, how far it carries."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

UNHOMED_MM, UNHOMED_MM_S = 20.0, 20.0
"""Before homing a move is at most this long and this fast."""


@dataclass(frozen=True)
class MotorTruth:
    """A motor on a driver socket.

    role: the carriage that it moves, ``AXIS.NAME`` of the machine file, or ``extruder``. reversed: its coils are wired
    the other way round. turn_mm: travel in one turn. microsteps: what its driver really makes (0: as told). least_a:
    below this current it only hums. open: a wire is broken.
    """

    role: str
    reversed: bool = False
    turn_mm: float = 40.0
    full_steps: int = 200
    microsteps: int = 0
    least_a: float = 0.2
    open: bool = False


@dataclass(frozen=True)
class Leg:
    """One motor's part in a move: socket, signed steps, what its driver is told."""

    socket: str
    steps: float
    microsteps: int
    amps: float


@dataclass
class Mechanics:
    """Carriages driven by motors: cartesian, or CoreXY with ``x.a`` and ``y.b`` sharing X and Y.

    limits: for each axis the hard stops, mm; a carriage that runs into one stays there. where: true positions, mm.
    """

    corexy: bool
    motors: Mapping[str, MotorTruth]
    limits: Mapping[str, tuple[float, float]]
    where: dict[str, float]
    travelled: dict[str, float] = field(default_factory=dict)
    turned: dict[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._lifts = max(1, sum(1 for each in self.motors.values() if each.role.startswith("z.")))

    def begin(self) -> None:
        """Forget what the former move did."""
        self.travelled = dict.fromkeys(("x", "y", "z"), 0.0)
        self.turned = {}

    def turn(self, legs: Iterable[Leg]) -> None:
        """Turn motors together by their legs' steps: what two belts do at once is carried as one."""
        carried = {"x": 0.0, "y": 0.0, "z": 0.0}
        for leg in legs:
            motor = self.motors.get(leg.socket)
            if motor is None or motor.open or leg.amps < motor.least_a:
                continue
            micro = motor.microsteps or leg.microsteps
            mm = leg.steps / (motor.full_steps * micro) * motor.turn_mm * (-1 if motor.reversed else 1)
            self.turned[motor.role] = self.turned.get(motor.role, 0.0) + mm
            axis = motor.role.partition(".")[0]
            if self.corexy and axis in ("x", "y"):
                carried["x"] += mm / 2
                carried["y"] += mm / 2 if axis == "x" else -mm / 2
            elif axis == "z":
                carried["z"] += mm / self._lifts
            elif axis in carried:
                carried[axis] += mm
        for axis, mm in carried.items():
            if mm:
                self._carry(axis, mm)

    def _carry(self, axis: str, mm: float) -> None:
        low, high = self.limits[axis]
        before = self.where[axis]
        self.where[axis] = min(high, max(low, before + mm))
        self.travelled[axis] = self.travelled.get(axis, 0.0) + self.where[axis] - before


@dataclass
class Move:
    """A move with trapezoidal speed: legs, length in mm, top speed and acceleration; done: s since its start.

    axis and signed_mm: the axis that moves as a whole, and how far; empty for a motor by itself.
    """

    legs: tuple[Leg, ...]
    length_mm: float
    speed_mm_s: float
    acceleration_mm_s2: float
    done_s: float = 0.0
    axis: str = ""
    signed_mm: float = 0.0

    @property
    def ramp_s(self) -> float:
        """Time to reach the top speed, or the highest that the length allows, s."""
        return min(self.speed_mm_s / self.acceleration_mm_s2, math.sqrt(self.length_mm / self.acceleration_mm_s2))

    @property
    def seconds(self) -> float:
        """Duration of the whole move, s: two ramps and what lies between."""
        top = self.ramp_s * self.acceleration_mm_s2
        return 2 * self.ramp_s + max(0.0, self.length_mm - top * self.ramp_s) / top if top else 0.0

    def share(self, at_s: float) -> float:
        """Share of the length covered after a time: the integral of the trapezoid."""
        total, ramp, a = self.seconds, self.ramp_s, self.acceleration_mm_s2
        t = min(max(at_s, 0.0), total)
        if not total:
            return 1.0
        if t < ramp:
            covered = a * t * t / 2
        elif t <= total - ramp:
            covered = a * ramp * ramp / 2 + a * ramp * (t - ramp)
        else:
            covered = self.length_mm - a * (total - t) ** 2 / 2
        return min(1.0, covered / self.length_mm)

    def advance(self, seconds: float, mechanics: Mechanics) -> bool:
        """Let time pass: whole steps go to the motors; True when the move has ended."""
        before, self.done_s = self.share(self.done_s), self.done_s + seconds
        after = self.share(self.done_s)
        mechanics.turn(replace(leg, steps=round(leg.steps * after) - round(leg.steps * before)) for leg in self.legs)
        return self.done_s >= self.seconds


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
