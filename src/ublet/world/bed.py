"""The bed as it really is: lifts under it, screws and springs, its own shape, what warmth does to it."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Point
from ublet.core.machine.schema import MachineFile
from ublet.world.bed_parts import BedTruth, Knock, LiftTruth, ScrewTruth, WavePart

SLACK_MM = 0.6
"""A spring that is pressed together less than this no longer holds its corner."""

WANDERS = 0.05
"""Standard deviation of such a corner, for each mm that is missing."""

EYE_MM = 0.25
"""Springs look equally long to the eye within this, either way."""


class Carried:
    """Heights of a stiff body on supports: a line, a plane, or a twisted plane through what each support does.

    Two supports carry a line and the guides keep the rest straight; from four on the body gives way to a twist only by
    a share of it.
    """

    def __init__(self, supports: Sequence[Point], twist: float = 1.0) -> None:
        self._count = len(supports)
        if not supports:
            return
        places = np.array(supports, dtype=np.float64)
        middle = places.mean(axis=0)
        scale = float(np.abs(places - middle).max()) or 1.0
        self._middle, self._scale = (float(middle[0]), float(middle[1])), scale
        plane = np.column_stack([np.ones(len(places)), (places - middle) / scale])
        self._inverse = np.linalg.pinv(plane)
        self._twist = None
        if self._count >= 4:
            product = plane[:, 1] * plane[:, 2]
            apart = product - plane @ (self._inverse @ product)
            size = float(apart @ apart)
            if size > 1e-9:
                self._twist = (apart / size * twist, self._inverse @ product)

    def terms(self, heights: Sequence[float]) -> tuple[float, float, float, float]:
        """Height at the middle, slopes and twist, for :meth:`at`."""
        if not self._count:
            return 0.0, 0.0, 0.0, 0.0
        heights_mm = np.asarray(heights, dtype=np.float64)
        flat, twist = self._inverse @ heights_mm, 0.0
        if self._twist is not None:
            row, behind = self._twist
            twist = float(row @ heights_mm)
            flat = flat - twist * behind
        return float(flat[0]), float(flat[1]), float(flat[2]), twist

    def at(self, terms: tuple[float, float, float, float], x: float, y: float) -> float:
        """The body's height at a place."""
        if not self._count:
            return 0.0
        u, v = (x - self._middle[0]) / self._scale, (y - self._middle[1]) / self._scale
        return terms[0] + terms[1] * u + terms[2] * v + terms[3] * u * v


def waves(parts: Sequence[WavePart], width: float, depth: float) -> Callable[[float, float], float]:
    """The sum of waves at a place."""
    rows = [
        (p.mm, math.pi * p.along_x / width, p.phase_x, math.pi * p.along_y / depth, p.phase_y) for p in parts if p.mm
    ]

    def at(x: float, y: float) -> float:
        return sum(mm * math.cos(kx * x + px) * math.cos(ky * y + py) for mm, kx, px, ky, py in rows)

    return at


@dataclass
class _Screw:
    """A screw: how it is declared to raise the bed in a turn clockwise, mm; how high the bed stands by it."""

    place: Point
    clockwise_mm: float
    off_mm: float
    spring_mm: float
    solid_mm: float
    wanders_mm: float = 0.0


class TrueBed:
    """Height of the bed's surface over the plane in which the nozzle's carriage has Z = 0, mm.

    spun: how far the motors of Z carried since power-on, by their roles (``z.left``).
    """

    def __init__(
        self, truth: BedTruth, machine: MachineFile, knocks: Sequence[Knock], random: np.random.Generator
    ) -> None:
        self._truth, self._random, self._knocks = truth, random, list(knocks)
        self.width, self.depth = machine.bed.width_mm, machine.bed.depth_mm
        self.screws: dict[str, _Screw] = {}
        for name, screw in machine.bed.screws.items():
            screw_truth = truth.screws.get(name) or ScrewTruth()
            direction = screw.pitch_mm if screw.clockwise == "raises" else -screw.pitch_mm
            place = (
                screw.x_mm if screw_truth.x_mm is None else screw_truth.x_mm,
                screw.y_mm if screw_truth.y_mm is None else screw_truth.y_mm,
            )
            self.screws[name] = _Screw(
                place, direction, screw_truth.off_mm, screw_truth.spring_mm, screw_truth.solid_mm
            )
        lifts = machine.axes.z.motors if len(machine.axes.z.motors) > 1 else {}
        self._lifts = {f"z.{name}": truth.lifts.get(name) or LiftTruth() for name in lifts}
        self.lifts_mm = {role: lift.off_mm for role, lift in self._lifts.items()}
        self._spun = dict.fromkeys(self._lifts, 0.0)
        self._trailing = dict.fromkeys(self._lifts, 0.0)  # behind its screw by the play, at most half of it either way
        pivots = [_pivot(self._lifts[f"z.{name}"], lift) for name, lift in lifts.items()]
        self._platform = Carried(pivots, truth.follows_twist)
        self._plate = Carried([screw.place for screw in self.screws.values()])
        self._fraction = _neighbours([screw.place for screw in self.screws.values()], truth.neighbours)
        self._waves = waves(truth.waves, self.width, self.depth)
        self._bow, self._rise = truth.bow_mm, 0.0
        self._frame_k = 0.0
        self._lifted = self._screwed = (0.0, 0.0, 0.0, 0.0)
        self._knocked: list[Knock] = []
        self.settle()

    def height(self, x: float, y: float) -> float:
        """At a place of the bed, mm from its front left corner."""
        u, v = 2 * x / self.width - 1, 2 * y / self.depth - 1
        bow = self._bow * (1 - (u * u + v * v) / 2)
        stands = self._plate.at(self._screwed, x, y) - self._platform.at(self._lifted, x, y)
        return (
            stands + bow + self._waves(x, y) + self._rise + sum(self._knock(corner, u, v) for corner in self._knocked)
        )

    def follow(self, spun: Mapping[str, float]) -> None:
        """The motors of Z have carried so far: what they did apart from one another tilts the bed."""
        if not self._lifts:
            return
        now = {role: spun.get(role, 0.0) for role in self._lifts}
        if now == self._spun:
            return
        mean = sum(now.values()) / len(now)
        for role, lift in self._lifts.items():
            slack = lift.play_mm / 2
            if slack:
                behind = self._trailing[role] - (now[role] - self._spun[role])
                self._trailing[role] = max(-slack, min(slack, behind))
            self.lifts_mm[role] = lift.off_mm + now[role] - mean + self._trailing[role]
        self._spun = now
        self._lifted = self._platform.terms(list(self.lifts_mm.values()))

    def come_down(self) -> None:
        """As it stands after Z came down: every lift has taken up its play that way, as it does before whatever
        counts.
        """
        mean = sum(self._spun.values()) / len(self._spun) if self._spun else 0.0
        for role, lift in self._lifts.items():
            self._trailing[role] = lift.play_mm / 2
            self.lifts_mm[role] = lift.off_mm + self._spun[role] - mean + self._trailing[role]
        if self._lifts:
            self._lifted = self._platform.terms(list(self.lifts_mm.values()))

    def turn_lift(self, name: str, mm: float) -> None:
        """A hand turns a lead screw: the gap there opens by so much."""
        role = f"z.{name}"
        if role in self._lifts:
            self._lifts[role] = self._lifts[role].model_copy(update={"off_mm": self._lifts[role].off_mm + mm})
            self.lifts_mm[role] += mm
            self._lifted = self._platform.terms(list(self.lifts_mm.values()))

    def sag(self) -> None:
        """The motors lost their power: what does not hold by itself sinks."""
        for role, lift in self._lifts.items():
            if lift.sags_mm:
                self._lifts[role] = lift.model_copy(update={"off_mm": lift.off_mm + lift.sags_mm})
                self.lifts_mm[role] += lift.sags_mm
        if self._lifts:
            self._lifted = self._platform.terms(list(self.lifts_mm.values()))

    @property
    def turned_by_hand_mm(self) -> dict[str, float]:
        """How much wider the gap is at each lift than where its motor puts it, mm."""
        return {role.removeprefix("z."): lift.off_mm for role, lift in self._lifts.items()}

    @property
    def springs(self) -> dict[str, tuple[float, float]]:
        """How far each screw's spring is pressed together, and how far it can be, mm."""
        return {name: (screw.spring_mm, screw.solid_mm) for name, screw in self.screws.items()}

    def turn_screw(self, name: str, clockwise_turns: float) -> None:
        """A hand turns a screw. A spring that is pressed together as far as it goes stops it."""
        screw = self.screws.get(name)
        if screw is None:
            return
        raised = max(screw.clockwise_mm * clockwise_turns, screw.spring_mm - screw.solid_mm)
        screw.off_mm += raised
        screw.spring_mm -= raised
        self.settle()

    def half_springs(self) -> None:
        """Hands set all screws so that their springs are half pressed together, as well as the eye can judge."""
        for screw in self.screws.values():
            half = screw.solid_mm / 2 + float(self._random.uniform(-EYE_MM, EYE_MM))
            screw.off_mm += screw.spring_mm - half
            screw.spring_mm = half
        if self.screws:  # what all do alike is no tilt: the whole bed is higher or lower
            mean = sum(screw.off_mm for screw in self.screws.values()) / len(self.screws)
            for screw in self.screws.values():
                screw.off_mm -= mean
        self.settle()

    def settle(self) -> None:
        """Slack corners come to lie somewhere else."""
        for screw in self.screws.values():
            missing = SLACK_MM - screw.spring_mm
            screw.wanders_mm = float(self._random.normal(0.0, WANDERS * missing)) if missing > 0 else 0.0
        offsets = np.array([screw.off_mm + screw.wanders_mm for screw in self.screws.values()])
        self._screwed = self._plate.terms((self._fraction @ offsets).tolist()) if len(offsets) else (0.0, 0.0, 0.0, 0.0)
        if self._lifts:
            self._lifted = self._platform.terms(list(self.lifts_mm.values()))

    @property
    def wanders(self) -> bool:
        """Whether a corner lies on a slack spring."""
        return any(screw.spring_mm < SLACK_MM for screw in self.screws.values())

    def knock(self, knock: Knock) -> None:
        """The bed is knocked, or another sheet is laid on it."""
        self._knocked.append(knock)

    def touched(self, count: int) -> None:
        """Count the touches since power-on: a knock may be due."""
        for knock in [knock for knock in self._knocks if count >= knock.after_touches]:
            self._knocks.remove(knock)
            self._knocked.append(knock)

    def pass_time(self, seconds: float, warmer_k: float) -> None:
        """The bed is so much warmer than the room; its frame follows."""
        self._frame_k += (warmer_k - self._frame_k) * -math.expm1(-seconds / self._truth.frame_s)
        self._bow = self._truth.bow_mm + self._truth.bow_mm_k * warmer_k
        self._rise = self._truth.rise_mm_k * self._frame_k

    def _knock(self, knock: Knock, u: float, v: float) -> float:
        if knock.at == "middle":
            return knock.mm * (1 - (u * u + v * v) / 2)
        side = {"left": (1 - u) / 2, "right": (1 + u) / 2, "front": (1 - v) / 2, "back": (1 + v) / 2}.get(knock.at, 1.0)
        return knock.mm * side


def _pivot(truth: LiftTruth, declared: object) -> Point:
    """Where a lift really carries."""
    own = (truth.pivot_x_mm, truth.pivot_y_mm)
    pivot = (getattr(declared, "pivot_x_mm", None), getattr(declared, "pivot_y_mm", None))
    x, y = (mine if mine is not None else its for mine, its in zip(own, pivot, strict=True))
    return (float(x or 0.0), float(y or 0.0))


def _neighbours(places: Sequence[Point], fraction: float) -> np.ndarray:
    """How each support's turn shows at all of them: fully at its own, by a share at the two beside it around the
    bed.
    """
    count = len(places)
    matrix = np.eye(count)
    if count < 3:
        return matrix
    middle = (sum(x for x, _ in places) / count, sum(y for _, y in places) / count)
    around = sorted(range(count), key=lambda n: math.atan2(places[n][1] - middle[1], places[n][0] - middle[0]))
    for at, number in enumerate(around):
        for other in {around[at - 1], around[(at + 1) % count]} - {number}:
            matrix[other, number] += fraction
    return matrix
