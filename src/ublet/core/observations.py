"""What a question asks to look at, feel, read or judge: an observation, one class each (see ``acts.py``)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar, Literal, NamedTuple

from ublet.core.acts import Act, AdjustScrew, Cue, Seen
from ublet.core.motion.measuring import INSTRUMENTS, Instrument

DRAGS_MM = 0.012
"""A gauge drags where the gap is as wide as it is within this, mm."""

CLOSED_MM = 0.03
"""Lines look closed and flat while their height is off by less, mm."""

TOUCHES_MM = 0.05
"""A part that is nearer than this touches, mm."""

LEAST_SEEN_MM = 0.3
"""A smaller move of a lift nobody sees, mm."""

SIDES = {"x": ("left of", "right of"), "y": ("in front of", "behind")}


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
class AimAtScrew(Cue):
    """Jog until the nozzle stands over a screw of the bed."""

    screw: str

    def notices(self, seen: Seen) -> list[str]:
        """Where it stands beside it."""
        off = beside_screw_mm(seen, self.screw)
        words = [f"{abs(mm):.1f} mm {SIDES[axis][mm < 0]}" for axis, mm in off.items() if abs(mm) >= 0.5]
        return [f"the nozzle stands {' and '.join(words) if words else 'over'} the screw {self.screw}"]


@dataclass(frozen=True)
class ReadBesideScrew(Cue):
    """Read how far a screw stands from the nozzle along an axis: to the right or behind it positive."""

    screw: str
    axis: Literal["x", "y"]
    instrument: Instrument

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        return [reading_words(beside_screw_mm(seen, self.screw)[self.axis], self.instrument)]


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
class WatchClearance(Cue):
    """Watch an axis on its slow way to an end: does anything on it touch?"""

    axis: str
    end: Literal["low", "high"]
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """Whether it does."""
        return [
            "it touches, and is pushed on" if room_mm(seen, self.axis, self.end) <= TOUCHES_MM else "it moves freely"
        ]


@dataclass(frozen=True)
class FreeAgain(Cue):
    """Jog an axis back until what touched is free again."""

    axis: str
    end: Literal["low", "high"]
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """Whether it is."""
        left = room_mm(seen, self.axis, self.end)
        return ["it still touches" if left <= TOUCHES_MM else f"it is free by {left:.1f} mm"]


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


@dataclass(frozen=True)
class LineArea:
    """A printed line along X: its name, its y, and where it begins, gets fast, gets slow and ends, mm."""

    name: str
    y: float
    x: tuple[float, float, float, float]


@dataclass(frozen=True)
class ReadLines(Cue):
    """Which of these lines are even? look_mm: so far behind each change of speed one looks."""

    lines: tuple[LineArea, ...]
    look_mm: float
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """Which bulge where they slow down, which look even, which are thin there."""
        looks = [evenness_words(mm) for mm in seen.felt_mm]
        return [f"{_numbers(looks, words)} {words}" for words in dict.fromkeys(looks)]


@dataclass(frozen=True)
class BandArea:
    """A band of a printed tower: its name, from and to which height above the first layer, mm."""

    name: str
    low_mm: float
    high_mm: float


@dataclass(frozen=True)
class ReadTower(Cue):
    """At which heights are the corners of a tower even? x: ends of its slow sides, y: ends of its fast ones, mm; the
    front side was laid to the right. look_mm: length behind each corner that is judged.
    """

    x: tuple[float, float]
    y: tuple[float, float]
    bands: tuple[BandArea, ...]
    look_mm: float
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """Which bands bulge where they slow down, which look even, which are thin there."""
        looks = [evenness_words(mm) for mm in seen.felt_mm]
        return [f"{_numbers(looks, words)} {words}" for words in dict.fromkeys(looks)]


@dataclass(frozen=True)
class SettleOnPick(Cue):
    """Is that pick good enough? looks: how often one has looked."""

    looks: int


@dataclass(frozen=True)
class WidthPlace:
    """A place of a line at which its width is read: mm behind a stroke, negative before it; stroke 1: where it speeds
    up, 2: where it slows down. counts_mm: the length of the line that its width stands for.
    """

    stroke: Literal[1, 2]
    mm: float
    counts_mm: float

    @property
    def words(self) -> str:
        """Where that is."""
        side = "behind" if self.mm > 0 else "before"
        return f"{abs(self.mm):g} mm {side} the {'first' if self.stroke == 1 else 'second'} stroke"

    def at_mm(self, line: LineArea) -> float:
        """Where that is on a line, along X."""
        return line.x[self.stroke] + self.mm


@dataclass(frozen=True)
class ReadLineWidth(Cue):
    """How wide is a line at one of its places?"""

    line: LineArea
    place: WidthPlace
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        mm = seen.felt_mm[0] if seen.felt_mm else None
        return [reading_words(mm, "callipers") if mm is not None else "no line there"]


@dataclass(frozen=True)
class ComparePair(Cue):
    """Which lines are more even: the first ones, or the others?"""

    first: tuple[LineArea, ...]
    others: tuple[LineArea, ...]
    look_mm: float
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """What each kind looks like."""
        return [
            f"the {which} ones: {evenness_words(mm)}" for which, mm in zip(("old", "new"), seen.felt_mm, strict=False)
        ]


@dataclass(frozen=True)
class PostArea:
    """A pair of posts: its name, its y, where the left one ends and the right one begins, how long each is, mm."""

    name: str
    y: float
    left_x: float
    right_x: float
    post_mm: float


@dataclass(frozen=True)
class JudgePosts(Cue):
    """Are there strings between the posts of each pair, and gaps where their lines begin? Felt are both in turns: mm of
    filament that oozed on each way, and the share that lines lack where they begin.
    """

    pairs: tuple[PostArea, ...]
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """What each pair looks like."""
        felt = [mm or 0.0 for mm in seen.felt_mm]
        looks = [post_words(oozed, lacks) for oozed, lacks in zip(felt[::2], felt[1::2], strict=False)]
        return [f"{_numbers(looks, words)} {words}" for words in dict.fromkeys(looks)]


STRING_MM, GAP_FRACTION = 0.004, 0.35
"""Filament on a travel of some centimetres that makes a visible string, mm; a line that lacks this much of itself
where it begins has a gap.
"""


def post_words(oozed_mm: float, lacks: float) -> str:
    """What a pair of posts looks like."""
    strings, gap = oozed_mm > STRING_MM, lacks > GAP_FRACTION
    return "strings and gap" if strings and gap else "strings" if strings else "gap after" if gap else "clean"


DIAGONALS = ("diagonal left front", "diagonal right front")
"""The diagonals of a cube’s top, by the corner in front at which they begin."""


@dataclass(frozen=True)
class ReadPiece(Cue):
    """Read a length of a cube of so many mm: ``x``, ``y``, ``z``, or one of the diagonals of its top."""

    what: str
    size_mm: float
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """The reading."""
        mm = seen.felt_mm[0] if seen.felt_mm else None
        return [reading_words(mm, "callipers") if mm is not None else "there is no piece"]


@dataclass(frozen=True)
class LookAtPiece(Cue):
    """What does a printed box of about a size look like, of lines so wide in layers so high, mm? Felt is all of
    :class:`PieceLooks`.
    """

    size_mm: float
    width_mm: float
    layer_mm: float
    alone: ClassVar[bool] = True

    def notices(self, seen: Seen) -> list[str]:
        """What there is to be seen."""
        if None in seen.felt_mm or len(seen.felt_mm) != len(PieceLooks._fields):
            return ["there is no piece"]
        return PieceLooks(*(mm or 0.0 for mm in seen.felt_mm)).words or ["clean walls"]


class PieceLooks(NamedTuple):
    """What a printed box looks like: how far edges ring on, how much wider corners are, by how much rows shift, mm; the
    share of its lines that lacks; how much too high its first layer is, mm.
    """

    ghost_mm: float
    bulge_mm: float
    shift_mm: float
    lacks: float
    first_mm: float

    @property
    def words(self) -> list[str]:
        """The looks that anybody sees."""
        seen = {
            GHOSTS: self.ghost_mm > GHOST_MM,
            BULGES: self.bulge_mm > BULGE_MM,
            CORNER_GAPS: self.bulge_mm < -BULGE_MM,
            SHIFTS: self.shift_mm > SHIFT_MM,
            HOLES: self.lacks > HOLE_FRACTION,
            OVERFULL: self.lacks < -HOLE_FRACTION,
            RAGGED: abs(self.first_mm) > RAGGED_MM,
        }
        return [look for look, is_seen in seen.items() if is_seen]


GHOSTS, BULGES, CORNER_GAPS = "ghosts beside edges", "bulges at corners", "gaps at corners"
SHIFTS, HOLES, OVERFULL, RAGGED = "rows that shift", "holes in the walls", "overfull walls", "a ragged first line"
GHOST_MM, BULGE_MM, SHIFT_MM, HOLE_FRACTION, RAGGED_MM = 0.02, 0.08, 0.12, 0.15, 0.07
"""From here on somebody sees it: ghosts in raking light, mm; corners, mm; rows, mm; a share of the line; the height of
a first layer, mm.
"""


EVEN_MM = 0.03
"""Widths that differ by less than this look alike, mm."""


def evenness_words(mm: float | None) -> str:
    """What a line looks like behind the place where it slows down, by how much wider it is there, mm."""
    if mm is None:
        return "missing"
    much = "a little" if abs(mm) < 2.5 * EVEN_MM else "clearly"
    return "even" if abs(mm) <= EVEN_MM else f"{much} bulged" if mm > 0 else f"{much} thin"


def _numbers(looks: list[str], words: str) -> str:
    """The numbers of the lines that look so, from 1."""
    at = [number for number, look in enumerate(looks, start=1) if look == words]
    runs: list[list[int]] = []
    for number in at:
        if runs and runs[-1][1] == number - 1:
            runs[-1][1] = number
        else:
            runs.append([number, number])
    return ", ".join(f"{low}" if low == high else f"{low}-{high}" for low, high in runs)


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
    | AimAtScrew
    | ReadBesideScrew
    | JogToCorner
    | JogToEdge
    | WatchClearance
    | FreeAgain
    | WatchSpeed
    | WatchProgram
    | WatchFirstLayer
    | ConfirmNearer
    | JudgePatches
    | ReadLines
    | ReadLineWidth
    | ReadTower
    | SettleOnPick
    | ComparePair
    | JudgePosts
    | ReadPiece
    | LookAtPiece
)


def noticed(cue: Act | Observation | None, seen: Seen) -> str:
    """What one would notice at the machine, in words: for the line below a question."""
    if not seen.answers:
        return "nothing can be seen just now: the demonstration's machine does not answer"
    notes = [f"the {name} fan turns" for name in seen.turning]
    notes += [f"the {name} is warm" for name in seen.warm]
    notes += ["the pin is down"] if seen.pin_down else []
    notes += [f"{name} is pressed" for name in seen.pressed]
    if cue is not None:
        notes = cue.notices(seen) if cue.alone else notes + cue.notices(seen)
    return ", ".join(notes) or "nothing to notice"


def room_mm(seen: Seen, axis: str, end: Literal["low", "high"]) -> float:
    """How much room an axis has to what stops it at an end, mm."""
    return seen.room_mm.get(axis, (math.inf, math.inf))[end == "high"]


def beside_screw_mm(seen: Seen, screw: str) -> dict[str, float]:
    """How far a screw stands to the right of (x) and behind (y) the nozzle, mm."""
    place = seen.screws_mm.get(screw, (0.0, 0.0))
    return {axis: mm - seen.nozzle_mm.get(axis, 0.0) for axis, mm in zip("xy", place, strict=True)}


def reading_words(mm: float, instrument: Instrument) -> str:
    """A length as it is read on an instrument."""
    return f"read on the {instrument}: {_read(mm, instrument)} mm"


def _read(mm: float, instrument: Instrument) -> str:
    """A length to the instrument's mark."""
    half = INSTRUMENTS[instrument].placing_mm
    read = round(mm / half) * half
    return f"{read:.2f}" if half < 0.1 else f"{read:.1f}"


def _lines(error_mm: float | None) -> str:
    """What lines look and feel like, by how much too high they were laid."""
    if error_mm is None:
        return "nothing stuck"
    much = "a little " if abs(error_mm) < 2 * CLOSED_MM else "clearly "
    return "closed, flat" if abs(error_mm) <= CLOSED_MM else f"{much}apart" if error_mm > 0 else f"{much}ridged"


def _gap_moved(mm: float) -> str:
    """What the gap did at a lead screw, by how far that went."""
    return "stayed as it was" if abs(mm) < LEAST_SEEN_MM else f"{'opened' if mm > 0 else 'closed'} by {abs(mm):.0f} mm"


def _gauge(gap_mm: float, gauge_mm: float) -> str:
    """How a gauge below the nozzle feels."""
    if gap_mm < gauge_mm - DRAGS_MM:
        return "the gauge does not go in"
    if gap_mm <= gauge_mm + DRAGS_MM:
        return "the gauge just drags"
    loose = gap_mm - gauge_mm
    return f"the gauge is loose, with about {round(loose, 1):g} mm of air" if loose > 0.1 else "it is loose"
