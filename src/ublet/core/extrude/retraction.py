"""Posts that show retraction: pairs with a way between them, the length or the speed rising from pair to pair."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from ublet.core.extrude.advance_lines import is_tube
from ublet.core.extrude.melting import extruder_of
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.patterns import RIM_MM, TRAVEL_MM_S, Laying, Stroke, filament_for
from ublet.core.motion.program import Program, Push, Segment, To
from ublet.core.remedy import ChangeParameter
from ublet.core.run import TrialFailed
from ublet.core.settings import Part, setting

POST_MM, PAIR_MM, WAY_MM, PURGED_MM = 6.0, 9.0, 40.0, 8.0
"""A post is so long, pairs lie so far apart, and the way between the two posts of a pair is so long, mm."""

LAYER_MM, WIDTH_MM, MM_S = 0.2, 0.45, 30.0
HOP_MM = 0.4

LONGEST_MM = {False: 4.0, True: 10.0}
"""Drawn back further than this, direct and through a tube, soft filament leaves the hot zone and sticks, mm."""

LEAST_PAIRS, MOST_PAIRS = 3, 14

CLEAN, STRINGS, GAPS, BOTH = "clean", "strings", "gap after", "strings and gap"
VERDICTS = (CLEAN, STRINGS, GAPS, BOTH)


class RetractionParameters(Part):
    """What rises from pair to pair, from where to where."""

    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )
    rises: Literal["length", "speed"] = setting("What rises from pair to pair.", default="length")
    first: float = setting(
        "Of the first pair, mm or mm/s; 0: by the drive.", zero="by the drive", low=0, high=150, default=0.0
    )
    last: float = setting("Of the last pair; 0: by the drive.", zero="by the drive", low=0, high=150, default=0.0)
    step: float = setting("From pair to pair; 0: by the drive.", zero="by the drive", low=0, high=50, default=0.0)
    layers: int = setting("Layers of each post.", low=3, high=7, default=6)


@dataclass(frozen=True)
class PostPair:
    """Two posts with a retraction of their own between them: number from 1, length in mm, speed in mm/s, the y of both,
    where the left one ends and the right one begins, mm.
    """

    number: int
    length_mm: float
    mm_s: float
    y: float
    left_x: float
    right_x: float

    @property
    def place(self) -> str:
        """Its name."""
        return f"pair {self.number}"


def usual_range(machine: MachineFile, rises: str) -> tuple[float, float, float]:
    """First, last and step that suit a drive."""
    if rises == "speed":
        return 15.0, 60.0, 7.5
    return (1.0, 8.0, 0.75) if is_tube(machine) else (0.2, 2.0, 0.2)


def pairs_of(machine: MachineFile, aim: RetractionParameters) -> tuple[PostPair, ...]:
    """The pairs on the bed, the first at the front.

    Raises:
        TrialFailed: reversed, too few or too many, too long for the hotend, or no room on the bed.
    """
    extruder = extruder_of(machine)
    first, last, step = usual_range(machine, aim.rises)
    first, last, step = aim.first or first, aim.last or last, aim.step or step
    if last <= first:
        raise TrialFailed(
            f"The last pair’s value, {last:g}, must be above the first one’s, {first:g}.",
            ChangeParameter("last", f"more than {first:g}"),
        )
    count = int((last - first) / step + 1.0001)
    if not LEAST_PAIRS <= count <= MOST_PAIRS:
        raise TrialFailed(
            f"From {first:g} to {last:g} in steps of {step:g} makes {count} pairs: {LEAST_PAIRS} to {MOST_PAIRS} can "
            "be compared.",
            ChangeParameter("step", "another step"),
        )
    longest = LONGEST_MM[is_tube(machine)]
    length = last if aim.rises == "length" else extruder.retract_mm
    if length > longest:
        how = "through a tube" if is_tube(machine) else "by a direct drive"
        raise TrialFailed(
            f"{length:g} mm of retraction is too long: {how} more than {longest:g} mm pulls soft filament out of the "
            "hot zone, where it sticks.",
            ChangeParameter("last", f"{longest:g} mm or less"),
        )
    bed, rim = machine.bed, machine.bed.margin_mm + RIM_MM
    deep, room = (count - 1) * PAIR_MM, bed.depth_mm - 2 * rim - PURGED_MM
    if deep > room or bed.width_mm - 2 * rim < WAY_MM + 2 * POST_MM:
        raise TrialFailed(
            f"{count} pairs take {deep:.0f} mm: this bed has room for {room:.0f} mm.",
            ChangeParameter("step", "larger, so that fewer pairs are printed"),
        )
    front, middle = rim + PURGED_MM + (room - deep) / 2, bed.width_mm / 2
    pairs = []
    for number in range(count):
        value = round(first + number * step, 4)
        length, speed = (value, extruder.retract_mm_s) if aim.rises == "length" else (extruder.retract_mm, value)
        pairs.append(
            PostPair(number + 1, length, speed, front + number * PAIR_MM, middle - WAY_MM / 2, middle + WAY_MM / 2)
        )
    return tuple(pairs)


def posts_program(machine: MachineFile, pairs: Sequence[PostPair], layers: int) -> Program:
    """The purge line, then the posts of every pair, layer by layer of one pair after the other."""
    extruder = extruder_of(machine)
    stroke = Stroke(WIDTH_MM, LAYER_MM, MM_S)
    laying = Laying(extruder, stroke)
    laying.purge(machine.bed.width_mm / 2, machine.bed.margin_mm + RIM_MM)
    made: list[Segment] = laying.made
    post = filament_for(POST_MM, stroke, extruder.filament_mm)
    for pair in pairs:
        place = pair.place
        for layer in range(layers):
            height = LAYER_MM * (layer + 1)
            for x, towards in ((pair.left_x - POST_MM, 1), (pair.right_x, 1)):
                made.append(Push(-pair.length_mm, pair.mm_s, place))
                place = ""
                made.append(To({"z": height + HOP_MM}, TRAVEL_MM_S))
                made.append(To({"x": x, "y": pair.y}, TRAVEL_MM_S))
                made.append(To({"z": height}, TRAVEL_MM_S))
                made.append(Push(pair.length_mm, pair.mm_s))
                made.append(To({"x": x + towards * POST_MM, "y": pair.y}, MM_S, post))
    laying.at = (pairs[-1].right_x + POST_MM, pairs[-1].y)
    note = f"{len(pairs)} pairs of posts, {layers} layers"
    return Program("retraction posts", laying.end(), note)


@dataclass(frozen=True)
class RetractionEstimate:
    """The shortest retraction (or slowest speed) that is clean, with its standard uncertainty; at_end: -1, 1 where it
    is that of the first pair, or none was clean to the last.
    """

    value: float
    uncertainty: float
    at_end: int = 0


def shortest_clean(values: Sequence[float], verdicts: Sequence[str]) -> RetractionEstimate | None:
    """The first of a run of clean pairs; one that strings between clean ones begins the run anew. None: none is clean.

    The true bound lies within the step below it, equally likely.
    """
    best, run = None, None
    for number, verdict in enumerate(verdicts):
        if verdict == CLEAN:
            run = number if run is None else run
            best = run
        elif verdict in (STRINGS, BOTH):
            run = None
    if best is None:
        return None
    step = values[1] - values[0]
    return RetractionEstimate(values[best], step / 12**0.5 + step / 4, -1 if best == 0 else 0)
