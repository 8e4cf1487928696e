"""What a question asks of the builder: something to do (an act), or something to look at, feel, read or judge (an
observation), one class each.

A question carries the object. The simulated world performs or observes it, the scripted builder adds a person's error
to it, the demonstration sends it over its socket, and the screen shows what it notices. A new one is a class here and a
branch of ``Hands.perform`` or ``Hands.observe`` (``world/hands.py``), which the type checker asks for.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import ClassVar, Literal

from ublet.core.motion.measuring import INSTRUMENTS, Instrument

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

DRAGS_MM = 0.012
"""A gauge drags where the gap is as wide as it is within this, mm."""

CLOSED_MM = 0.03
"""Lines look closed and flat while their height is off by less, mm."""

LEAST_SEEN_MM = 0.3
"""A smaller move of a lift nobody sees, mm."""

SIDES = {"x": ("left of", "right of"), "y": ("in front of", "behind")}


@dataclass(frozen=True)
class Seen:
    """What a person would notice at the machine now. A world that does not answer shows nothing.

    turning: fans. warm: blocks, the one that got warm last first. turned: motors by their roles. pressed, switches:
    those that are held, and all. from_mark_mm: how far carriages, motors and the filament went from the mark.
    nozzle_mm: where it is from the bed's front left corner. room_mm: what is left to the hard stops, low and high.
    spool_mm: filament left. gap_mm: below the nozzle. lifts_mm: between bed and gantry at each. springs_mm: how far
    each screw's is pressed together, and can be. probe_mm: where over the bed it is. stowed_gap_mm: between its stowed
    end and the bed. felt_mm: what an observation asks about, by how much lines are too high or how long ripples are;
    None: there are none.
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
    stowed_gap_mm: float = 0.0
    felt_mm: tuple[float | None, ...] = ()


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


# --- acts -----------------------------------------------------------------------------------------


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
    | MountSensor
    | TightenBelt
    | LoadBed
    | MakeFault
    | BatheSensor
)


# --- observations -----------------------------------------------------------------------------------


@dataclass(frozen=True)
class LookAround(Cue):
    """Look at the machine, at nothing in particular."""

    by_hand: ClassVar[bool] = False


@dataclass(frozen=True)
class LookAtPin(Cue):
    """Is the probe's pin down?"""

    by_hand: ClassVar[bool] = False


@dataclass(frozen=True)
class LookAtFans(Cue):
    """Which fan turns?"""

    by_hand: ClassVar[bool] = False


@dataclass(frozen=True)
class LookAtMotors(Cue):
    """Which motor turned?"""

    by_hand: ClassVar[bool] = False

    def notices(self, seen: Seen) -> list[str]:
        """Those that turned."""
        return [f"turned: {', '.join(seen.turned) or 'nothing'}"]


@dataclass(frozen=True)
class LookAtDirection(Cue):
    """Which way did the nozzle go?"""

    by_hand: ClassVar[bool] = False

    def notices(self, seen: Seen) -> list[str]:
        """That way."""
        return [f"the nozzle went: {seen.moved}"]


@dataclass(frozen=True)
class LookAtLifts(Cue):
    """What did each lead screw of Z do?"""

    by_hand: ClassVar[bool] = False

    def notices(self, seen: Seen) -> list[str]:
        """What the gap did at each."""
        return [f"at {name} the gap {_gap_moved(mm)}" for name, mm in seen.lift_moves_mm.items()]


@dataclass(frozen=True)
class FeelBlocks(Cue):
    """Which of these blocks gets warm?"""

    blocks: tuple[str, ...]
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """The one that got warm last."""
        return [f"you feel the {seen.warm[0]} getting warm"] if seen.warm else ["nothing gets warm"]


@dataclass(frozen=True)
class LookAtSprings(Cue):
    """How far are the springs of the screws pressed together?"""

    def notices(self, seen: Seen) -> list[str]:
        """How far each is, of how far it can be."""
        return [f"{name}: {now:.1f} of {most:g} mm" for name, (now, most) in seen.springs_mm.items()]


@dataclass(frozen=True)
class CheckFilament(Cue):
    """Is filament loaded, and held by the hob?"""


@dataclass(frozen=True)
class ReadTravel(Cue):
    """Read how far a place went from its mark."""

    place: str
    instrument: Instrument

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        return [reading_words(seen.from_mark_mm.get(self.place, 0.0), self.instrument)]


@dataclass(frozen=True)
class ReadFilament(Cue):
    """Read what is left from where the filament goes in to a mark on it."""

    mark_mm: float
    instrument: Instrument

    def notices(self, seen: Seen) -> list[str]:
        """What is left, or why there is nothing to read."""
        left = self.mark_mm - seen.from_mark_mm.get("filament", 0.0)
        if left > 0:
            return [f"left on the {self.instrument}: {_read(left, self.instrument)} mm"]
        return ["the filament has run out" if seen.spool_mm <= 0 else "the mark is gone"]


@dataclass(frozen=True)
class ReadGap(Cue):
    """Read the gap between bed and gantry at a lead screw."""

    lift: str
    instrument: Instrument

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        return [reading_words(seen.lifts_mm.get(self.lift, 0.0), self.instrument)]


@dataclass(frozen=True)
class ReadStowedGap(Cue):
    """Read how much air is between the stowed probe's end and the bed."""

    instrument: Instrument

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        return [reading_words(seen.stowed_gap_mm, self.instrument)]


@dataclass(frozen=True)
class ReadThermometer(Cue):
    """Read the reference thermometer beside a sensor."""

    sensor: str

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        return [f"the thermometer shows {seen.baths_c.get(self.sensor, 0.0):.1f} °C"]


@dataclass(frozen=True)
class ReadRipples(Cue):
    """Read over how far so many ripples go on a wall that was printed at a speed; axis: the one that shows there."""

    axis: str
    speed_mm_s: float
    count: int

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        mm = seen.felt_mm[0] if seen.felt_mm else None
        return [f"{self.count} ripples over {_read(mm, 'callipers')} mm" if mm is not None else "no ripples"]


@dataclass(frozen=True)
class LowerOntoGauge(Cue):
    """Lower the nozzle until a gauge below it drags."""

    gauge_mm: float

    def notices(self, seen: Seen) -> list[str]:
        """How it feels."""
        return [_gauge(seen.gap_mm, self.gauge_mm)]


@dataclass(frozen=True)
class MakeRoom(Cue):
    """Is there about so much air below the nozzle at a screw? Else its corner is lowered."""

    screw: str
    gap_mm: float

    @property
    def instead(self) -> AdjustScrew:
        """What was done when there was not."""
        return AdjustScrew(self.screw, self.gap_mm)

    def notices(self, seen: Seen) -> list[str]:
        """About how much."""
        return [f"gap below the nozzle: about {max(0.0, seen.gap_mm):.1f} mm"]


@dataclass(frozen=True)
class DragGauge(Cue):
    """Does a gauge drag below the nozzle at a screw? Else that is turned until it does."""

    screw: str
    gauge_mm: float

    @property
    def instead(self) -> AdjustScrew:
        """What was done when it did not."""
        return AdjustScrew(self.screw, self.gauge_mm)

    def notices(self, seen: Seen) -> list[str]:
        """How it feels."""
        return [_gauge(seen.gap_mm, self.gauge_mm)]


@dataclass(frozen=True)
class AimAtDot(Cue):
    """Jog until the nozzle or the probe stands over the dot."""

    part: Literal["nozzle", "probe"]

    def notices(self, seen: Seen) -> list[str]:
        """Where it stands beside the dot."""
        nozzle = (seen.nozzle_mm.get("x", 0.0), seen.nozzle_mm.get("y", 0.0))
        stands = nozzle if self.part == "nozzle" else seen.probe_mm or (0.0, 0.0)
        off = zip("xy", stands, seen.dot_mm, strict=True)
        words = [f"{abs(mm - dot):.1f} mm {SIDES[axis][mm > dot]}" for axis, mm, dot in off if abs(mm - dot) >= 0.05]
        return [f"the {self.part} stands {' and '.join(words) if words else 'over'} the dot"]


@dataclass(frozen=True)
class JogToCorner(Cue):
    """Jog axes until the nozzle stands over the bed's front left corner."""

    axes: tuple[str, ...]

    def notices(self, seen: Seen) -> list[str]:
        """Where it stands beside it."""
        away = {axis: seen.nozzle_mm.get(axis, 0.0) for axis in self.axes}
        words = [f"{abs(mm):.1f} mm {SIDES[axis][mm > 0]}" for axis, mm in away.items()]
        return [f"the nozzle stands {' and '.join(words)} the bed's front left corner"]


@dataclass(frozen=True)
class JogToEdge(Cue):
    """Jog an axis until it stands just before its hard stop."""

    axis: str
    end: Literal["low", "high"]

    def notices(self, seen: Seen) -> list[str]:
        """What is left to the stop."""
        low, high = seen.room_mm.get(self.axis, (0.0, 0.0))
        return [f"{high if self.end == 'high' else low:.1f} mm are left to the stop"]


@dataclass(frozen=True)
class WatchSpeed(Cue):
    """Watch moves that get faster; call when they are fast enough."""

    def notices(self, seen: Seen) -> list[str]:
        """Whether something moves."""
        return ["something moves" if seen.moved != "nothing" else "nothing moves"]


@dataclass(frozen=True)
class WatchProgram(Cue):
    """Watch a print."""


@dataclass(frozen=True)
class WatchFirstLayer(Cue):
    """Watch the lines of a first layer that are laid so far apart, mm."""

    width_mm: float
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """What the last ones look like."""
        return [_lines(mm) for mm in seen.felt_mm] if seen.felt_mm != (None,) else ["no lines yet"]


@dataclass(frozen=True)
class ConfirmNearer(Cue):
    """Is the nozzle really to go nearer than a bound?"""


@dataclass(frozen=True)
class PatchArea:
    """A patch of lines on the bed: its name, middle and size, mm."""

    name: str
    x: float
    y: float
    wide: float
    deep: float


@dataclass(frozen=True)
class JudgePatches(Cue):
    """Feel patches whose lines are so far apart, mm."""

    width_mm: float
    patches: tuple[PatchArea, ...]
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """What each feels like."""
        return [f"{patch.name}: {_lines(mm)}" for patch, mm in zip(self.patches, seen.felt_mm, strict=False)]


Observation = (
    LookAround
    | LookAtPin
    | LookAtFans
    | LookAtMotors
    | LookAtDirection
    | LookAtLifts
    | FeelBlocks
    | LookAtSprings
    | CheckFilament
    | ReadTravel
    | ReadFilament
    | ReadGap
    | ReadStowedGap
    | ReadThermometer
    | ReadRipples
    | LowerOntoGauge
    | MakeRoom
    | DragGauge
    | AimAtDot
    | JogToCorner
    | JogToEdge
    | WatchSpeed
    | WatchProgram
    | WatchFirstLayer
    | ConfirmNearer
    | JudgePatches
)


def noticed(cue: Act | Observation | None, seen: Seen) -> str:
    """What one would notice at the machine, in words: for the line below a question."""
    notes = [f"the {name} fan turns" for name in seen.turning]
    notes += [f"the {name} is warm" for name in seen.warm]
    notes += ["the pin is down"] if seen.pin_down else []
    notes += [f"{name} is pressed" for name in seen.pressed]
    if cue is not None:
        notes = cue.notices(seen) if cue.alone else notes + cue.notices(seen)
    return ", ".join(notes) or "nothing to notice"


def reading_words(mm: float, instrument: Instrument) -> str:
    """A length as it is read on an instrument."""
    return f"read on the {instrument}: {_read(mm, instrument)} mm"


def _read(mm: float, instrument: Instrument) -> str:
    """A length to the instrument's mark."""
    half = INSTRUMENTS[instrument].placing_mm
    read = round(mm / half) * half
    return f"{read:.2f}" if half < 0.1 else f"{read:.1f}"


def _lines(error_mm: float | None) -> str:
    """What lines look and feel like that are so much too high."""
    if error_mm is None:
        return "nothing stuck"
    much = "a little " if abs(error_mm) < 2 * CLOSED_MM else "clearly "
    return "closed, flat" if abs(error_mm) <= CLOSED_MM else f"{much}apart" if error_mm > 0 else f"{much}ridged"


def _gap_moved(mm: float) -> str:
    """What the gap did at a lead screw that went so far."""
    return "stayed as it was" if abs(mm) < LEAST_SEEN_MM else f"{'opened' if mm > 0 else 'closed'} by {abs(mm):.0f} mm"


def _gauge(gap_mm: float, gauge_mm: float) -> str:
    """How a gauge below the nozzle feels."""
    if gap_mm < gauge_mm - DRAGS_MM:
        return "the gauge does not go in"
    if gap_mm <= gauge_mm + DRAGS_MM:
        return "the gauge just drags"
    loose = gap_mm - gauge_mm
    return f"the gauge is loose, with about {round(loose, 1):g} mm of air" if loose > 0.1 else "it is loose"
