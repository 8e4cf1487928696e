"""What a question asks of the builder: something to do (an act), a class each. What is looked at, felt, read or judged
stands in ``observations.py``.

A question carries the object. The simulated world performs or observes it, the scripted builder adds a person's error
to it, the demonstration sends it over its socket, and the screen shows what it notices. A new one is a class here and a
branch of ``Hands.perform`` or ``Hands.observe`` (``world/hands.py``), which the type checker asks for.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import ClassVar, Literal

from ublet.core.motion.measuring import Instrument

FaultKind = Literal[
    "sensor-out",
    "sensor-short",
    "sensor-back",
    "cartridge-out",
    "cartridge-back",
    "stuck",
    "power-off",
    "chill",
    "warm-up",
]


@dataclass(frozen=True)
class Seen:
    """What a person would notice at the machine now. A world that does not answer shows nothing.

    turning: fans. warm: blocks, the one that got warm last first. turned: motors by their roles. pressed, switches:
    those that are held, and all. from_mark_mm: how far carriages, motors and the filament went from the mark.
    nozzle_mm: where it is from the bed's front left corner. room_mm: what is left to the hard stops, low and high.
    spool_mm: filament left. gap_mm: below the nozzle. lifts_mm: between bed and gantry at each. springs_mm: how far
    each screw's is pressed together, and can be. screws_mm: where each screw stands. probe_mm: where over the bed it
    is. stowed_gap_mm: between its stowed end and the bed. felt_mm: what an observation asks about: by how much lines
    are too high, how long ripples or how wide lines are; None: there are none.
    """

    turning: tuple[str, ...] = ()
    warm: tuple[str, ...] = ()
    pin_down: bool = False
    moved: str = "nothing"
    turned: tuple[str, ...] = ()
    lift_moves_mm: Mapping[str, float] = field(default_factory=dict)
    pressed: tuple[str, ...] = ()
    switches: tuple[str, ...] = ()
    from_mark_mm: Mapping[str, float] = field(default_factory=dict)
    nozzle_mm: Mapping[str, float] = field(default_factory=dict)
    room_mm: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    mode: str = ""
    baths_c: Mapping[str, float] = field(default_factory=dict)
    spool_mm: float = 0.0
    gap_mm: float = 0.0
    lifts_mm: Mapping[str, float] = field(default_factory=dict)
    springs_mm: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    probe_mm: tuple[float, float] | None = None
    dot_mm: tuple[float, float] = (0.0, 0.0)
    screws_mm: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    stowed_gap_mm: float = 0.0
    felt_mm: tuple[float | None, ...] = ()

    @property
    def answers(self) -> bool:
        """Whether there is a world that answers: its board is always in some mode."""
        return bool(self.mode)


@dataclass(frozen=True)
class Cue:
    """What a question is about. by_hand: a hand comes near the machine for it. alone: what it notices is all that there
    is to notice, fans and switches are left out.
    """

    by_hand: ClassVar[bool] = True
    alone: ClassVar[bool] = False

    def notices(self, seen: Seen) -> list[str]:
        """What is noticed of it at the machine, in words."""
        return []


@dataclass(frozen=True)
class PressSwitch(Cue):
    """Press a switch and hold it."""

    name: str


@dataclass(frozen=True)
class ReleaseSwitch(Cue):
    """Let a switch go."""

    name: str


@dataclass(frozen=True)
class MarkPlace(Cue):
    """Put a mark where a carriage stands; lengths are read from there."""

    axis: str


@dataclass(frozen=True)
class MarkFilament(Cue):
    """Mark the filament so far from where it goes in, each mark from the one before it, mm."""

    marks_mm: tuple[float, ...]
    instrument: Instrument

    def notices(self, seen: Seen) -> list[str]:
        """Whether there is enough of it."""
        short = seen.spool_mm < max(self.marks_mm)
        return ["there is not enough filament left for both marks"] if short else []


@dataclass(frozen=True)
class TurnLift(Cue):
    """Turn a lead screw by hand: the gap there opens by so much, mm."""

    lift: str
    mm: float


@dataclass(frozen=True)
class TurnScrew(Cue):
    """Turn a screw below the bed; clockwise is positive."""

    screw: str
    turns: float


@dataclass(frozen=True)
class AdjustScrew(Cue):
    """Turn a screw back and forth until the gap below the nozzle is so wide, mm."""

    screw: str
    gap_mm: float


@dataclass(frozen=True)
class SetHalfSprings(Cue):
    """Turn every screw until its spring is half pressed together."""


@dataclass(frozen=True)
class MarkDot(Cue):
    """Put a dot on the bed below the nozzle."""


@dataclass(frozen=True)
class LowerProbeToTrigger(Cue):
    """Lower the probe in its mount until it just triggers, and a little further, mm."""

    beyond_mm: float = 0.0


@dataclass(frozen=True)
class RaiseProbe(Cue):
    """Raise the probe in its mount, mm."""

    mm: float


@dataclass(frozen=True)
class CleanSheet(Cue):
    """Take everything off the sheet."""


@dataclass(frozen=True)
class LoadSpool(Cue):
    """Put a new spool on, and push its filament in until the hob grips it."""


@dataclass(frozen=True)
class ClearWay(Cue):
    """Take away what an axis touches on its way to an end."""

    axis: str
    end: Literal["low", "high"]


@dataclass(frozen=True)
class MountSensor(Cue):
    """Put the accelerometer on a part of the machine."""

    part: Literal["head", "bed"]

    def notices(self, seen: Seen) -> list[str]:
        """Where it goes."""
        return [f"the sensor goes on the {self.part}"]


@dataclass(frozen=True)
class TightenBelt(Cue):
    """Tighten the belt of an axis to so many times its tension."""

    axis: str
    ratio: float


@dataclass(frozen=True)
class LoadBed(Cue):
    """Lay a load on the bed, kg; 0 takes it off."""

    kg: float

    def notices(self, seen: Seen) -> list[str]:
        """What goes on it."""
        return [f"{self.kg:g} kg go on the bed" if self.kg else "the bed is empty again"]


@dataclass(frozen=True)
class MakeFault(Cue):
    """Make a fault at a heater, or put it right again."""

    kind: FaultKind
    heater: str


@dataclass(frozen=True)
class BatheSensor(Cue):
    """Put a temperature sensor into a bath; without one take it out and put it back in its place."""

    sensor: str
    bath: str = ""


Act = (
    PressSwitch
    | ReleaseSwitch
    | MarkPlace
    | MarkFilament
    | TurnLift
    | TurnScrew
    | AdjustScrew
    | SetHalfSprings
    | MarkDot
    | LowerProbeToTrigger
    | RaiseProbe
    | CleanSheet
    | LoadSpool
    | ClearWay
    | MountSensor
    | TightenBelt
    | LoadBed
    | MakeFault
    | BatheSensor
)
