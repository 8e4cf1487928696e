"""The screws below the bed: turns from a plane, in words; their springs, and the history of each screw."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.acts import SetHalfSprings
from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.surface import FittedSurface, Shape, fit_surface
from ublet.core.machine.level_parts import Screw
from ublet.core.machine.schema import MachineFile
from ublet.core.observations import LookAtSprings
from ublet.core.questions import Question
from ublet.core.remedy import ChangeSetting, GoTo, StartAgain
from ublet.core.run import TrialFailed
from ublet.core.trial import Need
from ublet.core.words import several

FEWEST_SCREWS = 3
WEAK = 3
"""A screw that had to be turned in so many runs one after the other has a weak spring."""

GOOD, SLACK = "about half", "slack one"
NOTED_MM = 0.08
"""A screw that was turned by less than this over a run counts as not turned."""


def screws_of(machine: MachineFile) -> dict[str, Screw]:
    """The screws below the bed.

    Raises:
        TrialFailed: too few to level it by.
    """
    screws = dict(machine.bed.screws)
    if len(screws) < FEWEST_SCREWS:
        raise TrialFailed(
            "The bed declares fewer than three screws: nothing can be turned (add [bed.screws.NAME]).",
            ChangeSetting("bed.screws", "add the bed's screws"),
            GoTo("bed mesh", "what screws cannot level a mesh makes up for"),
        )
    return screws


def screws_need(machine: MachineFile) -> Need:
    """Whether there are enough of them."""
    count = len(machine.bed.screws)
    few = "" if count >= FEWEST_SCREWS else ": three are the fewest"
    return Need(f"{count} screws declared{few}", count >= FEWEST_SCREWS)


def weak_words(again: Mapping[str, int]) -> str:
    """Which springs are weak, as a sentence with a space before it; empty: none."""
    weak = [name for name, n in again.items() if n >= WEAK]
    warning = f" {several(weak)} had to be turned {WEAK} times in a row: a weak spring, or one that is hardly pressed."
    return warning if weak else ""


async def look_at_springs(bench: Bench, screws: Mapping[str, Screw]) -> bool:
    """Let the builder look at the springs: a slack one holds nothing, one that is pressed flat cannot give way. Returns
    whether all were set to their middle just now: a corner may then stand several millimetres off.

    Raises:
        TrialFailed: the builder stops, to set all screws to the middle first.
    """
    asked = Question(
        "Look below the bed: how far are the springs of the screws pressed together?",
        (GOOD, SLACK, "flat one", "no springs"),
        LookAtSprings(),
    )
    answer = await bench.builder.ask(asked)
    if answer in (GOOD, "no springs"):
        return False
    looks = answer.removesuffix(" one")
    state = "holds nothing and wanders" if answer == SLACK else "can go no lower"
    half = Question(
        f"A corner whose spring is {looks} {state}. Turn every screw until its spring is half "
        "pressed together, all alike, before anything is measured.",
        ("all half pressed", "stop here"),
        SetHalfSprings(),
    )
    if await bench.builder.ask(half) != "all half pressed":
        raise TrialFailed("Stopped before anything was measured: the springs come first.", StartAgain())
    for name in screws:
        bench.report_fact("screw", name)
    return True


def moved_again(bench: Bench, trial: str, turned: Mapping[str, float]) -> dict[str, int]:
    """In how many runs of a trial one after the other each screw had to be turned, this one included."""
    with bench.aside():
        before = bench.record.earlier(trial)
        repeated = {}
        for name, mm in turned.items():
            last = before.finding("moved_in_a_row", screw=name) if before is not None else None
            repeated[name] = (round(last.value) if last is not None else 0) + 1 if mm > NOTED_MM else 0
    return repeated


PLANE = 3
"""Number of screws that carry a plane, and nothing else."""

CLOCK = 12
SMALL_TURN = 1 / 48
"""A screw that is off by less than a quarter of an hour on the clock is left alone."""


@dataclass(frozen=True)
class Turn:
    """What a screw is to do: raise the bed there by so much, mm (negative: lower it), in so many turns."""

    raises_mm: float
    turns: float
    clockwise: bool

    @property
    def rests(self) -> bool:
        """Whether it is left as it is."""
        return self.turns < SMALL_TURN

    @property
    def degrees(self) -> float:
        """The same in degrees."""
        return 360 * self.turns

    @property
    def words(self) -> str:
        """``1/4 turn clockwise (3.0 h on the clock, 90° in all), raises 0.18 mm``."""
        if self.rests:
            return "stays"
        way = "clockwise" if self.clockwise else "counter-clockwise"
        does = "raises" if self.raises_mm > 0 else "lowers"
        round_it, rest = divmod(self.turns, 1.0)
        whole = f"{round_it:.0f} times round, then " if round_it > 1 else "once round, then " if round_it else ""
        clock = f"{whole}{CLOCK * rest:.1f} h on the clock, {self.degrees:.0f}° in all"
        return f"{turn_words(self.turns)} {way} ({clock}), {does} {abs(self.raises_mm):.2f} mm"


def turn_words(turns: float) -> str:
    """A number of turns as one says it, to the nearest eighth; less than one is its share of an hour's hand.

    >>> turn_words(0.25), turn_words(1.5), turn_words(2.0), turn_words(0.06)
    ('1/4 turn', '1 1/2 turns', '2 turns', '0.06 turn')
    """
    eighths = round(8 * turns)
    if eighths < 1:
        return f"{turns:.2f} turn"
    whole, rest = divmod(eighths, 8)
    divisor = math.gcd(rest, 8)
    fraction = f"{rest // divisor}/{8 // divisor}" if rest else ""
    return (
        f"{' '.join(word for word in (str(whole) if whole else '', fraction) if word)} turn{'s' if eighths > 8 else ''}"
    )


def turn_for(screw: Screw, raises_mm: float) -> Turn:
    """How a screw is turned to raise the bed there by so much: turns = height error / thread pitch (handbook, 6).

    ``clockwise`` of the declaration says what a turn clockwise seen from above does to the bed, for a right-handed
    thread and for a left-handed one alike.
    """
    clockwise = (raises_mm > 0) == (screw.clockwise == "raises")
    return Turn(raises_mm, abs(raises_mm) / screw.pitch_mm, clockwise)


def screw_heights(screws: Mapping[str, Screw], surface: FittedSurface) -> dict[str, float]:
    """The surface's height at each screw, mm."""
    return {name: surface.at((screw.x_mm, screw.y_mm)) for name, screw in screws.items()}


def staying(heights: Mapping[str, float], last: str = "") -> str:
    """The screw that stays: the one of before, else the lowest, so that the others go down and press their springs."""
    return last if last in heights else min(heights, key=lambda name: heights[name])


def turns_for(screws: Mapping[str, Screw], heights: Mapping[str, float], stays: str) -> dict[str, Turn]:
    """What every screw does so that the bed is as high at all of them as it is at the one that stays; heights, mm."""
    return {name: turn_for(screws[name], heights[stays] - height) for name, height in heights.items()}


def shape_for(screws: Mapping[str, Screw]) -> Shape:
    """What screws can do to a plate: from four on also a twist, as far as the plate gives way."""
    return "twisted" if len(screws) > PLANE else "plane"


def twist_of(screws: Mapping[str, Screw], heights: Mapping[str, float]) -> dict[str, float]:
    """The part of heights at screws that no plane has, mm: nothing with three screws."""
    if len(screws) <= PLANE:
        return dict.fromkeys(heights, 0.0)
    places = [(screws[name].x_mm, screws[name].y_mm) for name in heights]
    return dict(zip(heights, fit_surface(places, list(heights.values())).left.tolist(), strict=True))


def turns_to_level(screws: Mapping[str, Screw], surface: FittedSurface) -> dict[str, Turn]:
    """The same with the lowest one staying."""
    heights = screw_heights(screws, surface)
    return turns_for(screws, heights, staying(heights))


def tilt_over(surface: FittedSurface, width_mm: float, depth_mm: float) -> Point:
    """Rise of the plane over the bed's width and over its depth, mm."""
    along_x, along_y = surface.slope
    return along_x * width_mm, along_y * depth_mm
