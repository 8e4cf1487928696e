"""The trial of the station *bed corners* that finds where the screws stand: the nozzle is jogged over each of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.level.support.screws import screws_need, screws_of
from ublet.core.machine.level_parts import Screw
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, home_unhomed, moving, preheat_words
from ublet.core.motion.measuring import INSTRUMENTS, Instrument
from ublet.core.observations import AimAtScrew, ReadBesideScrew
from ublet.core.questions import Jog, Measure
from ublet.core.remedy import GoTo, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import parse
from ublet.core.words import several

EYE_MM, SLANT_MM = 0.3, 0.5
"""A nozzle is seen over a screw within this, and looked at from aslant by this; half-widths, mm."""

CLEAR_MM, TRAVEL_MM_S, LIFT_MM_S = 8.0, 60.0, 8.0
"""The nozzle stands so high over the bed: it must pass the screw's head, mm."""

WORTH_MM = 1.0
"""A screw whose place is off by less turns nearly as far as it should: the declared place stays, mm."""

OVER, LEAVE, STOP = "over the screw", "leave it as it is", "stop here"
RULE: Instrument = "rule"
PLACES = Stream("places", ("screw", "x_mm", "y_mm"), ("", "mm", "mm"))
"""Where each screw was found, mm from the bed's front left corner."""


class ScrewPlaces(Part):
    """How it is jogged."""

    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=1, high=50, default=20.0)


@dataclass(frozen=True)
class PlacedScrew:
    """Where a screw was found, mm, with the standard uncertainty of each coordinate."""

    x_mm: float
    y_mm: float
    u_mm: float


async def screw_places(bench: Bench, aim: ScrewPlaces) -> TrialResult:
    """Over each screw the nozzle, by jogging; one that the head does not reach is read with a rule from where it gets.

    Raises:
        TrialFailed: too few screws, or the builder stops.
    """
    machine = bench.machine
    screws = screws_of(machine)
    bench.motion.clear_at_the_end(CLEAR_MM)
    await home_unhomed(bench, ("x", "y", "z"))
    if (bench.motion.position("z") or 0.0) < CLEAR_MM:
        await bench.motion.go({"z": CLEAR_MM}, LIFT_MM_S)
    placed: dict[str, PlacedScrew] = {}
    for at, (name, screw) in enumerate(screws.items()):
        bench.progress(Progress(f"screw {name}", at / len(screws), None, f"{at + 1} of {len(screws)}"))
        near = _nearest(machine, screw)
        await bench.motion.go({"x": near[0], "y": near[1]}, TRAVEL_MM_S)
        reached = math.dist(near, (screw.x_mm, screw.y_mm)) < 1e-6
        place = await _jogged(bench, name, aim.speed_mm_s) if reached else await _read(bench, name, near)
        if place is not None:
            placed[name] = place
            bench.record.row(PLACES.name, (at, place.x_mm, place.y_mm))
    return _concluded(bench, screws, placed)


def _nearest(machine: MachineFile, screw: Screw) -> Point:
    """Where the nozzle gets nearest to a screw."""
    ends = [(axis_of(machine, name).minimum_mm, axis_of(machine, name).maximum_mm) for name in ("x", "y")]
    x, y = (min(max(mm, low), high) for mm, (low, high) in zip((screw.x_mm, screw.y_mm), ends, strict=True))
    return x, y


async def _jogged(bench: Bench, name: str, mm_s: float) -> PlacedScrew | None:
    asked = Jog(
        f"Jog X and Y until the nozzle stands over the middle of the screw {name}, looking from the front and from "
        "the side.",
        (OVER, LEAVE, STOP),
        AimAtScrew(name),
        axes=("x", "y"),
        steps=(10.0, 5.0, 1.0, 0.5),
    )
    jogged = await bench.builder.jog(asked, mm_s)
    _must_go_on(jogged.answer)
    if jogged.answer == LEAVE:
        return None
    return PlacedScrew(jogged.position["x"], jogged.position["y"], math.hypot(EYE_MM, SLANT_MM) / math.sqrt(3))


def _put(read: dict[str, float], axis: str, answer: str) -> None:
    """What was typed wrong is another one."""
    read[axis] = parse(answer, "mm")


async def _read(bench: Bench, name: str, near: Point) -> PlacedScrew | None:
    """The head does not get there: how far is left, with a rule."""
    read: dict[str, float] = {}
    former: FormerReading | None = None
    for axis, way in (("x", "to the right of the nozzle (negative: left)"), ("y", "behind it (negative: in front)")):
        asked = Measure(
            f"The head does not reach the screw {name} and stands as near as it gets. With a rule: how far does the "
            f"middle of the screw stand {way}?",
            (LEAVE, STOP),
            ReadBesideScrew(name, "x" if axis == "x" else "y", RULE),
            unit="mm",
            lowest=-500.0,
            highest=500.0,
        )
        answer = await read_or_back(bench, asked, former)
        _must_go_on(answer)
        if answer == LEAVE:
            return None
        read[axis] = parse(answer, "mm")
        former = FormerReading(replace(asked, answers=()), partial(_put, read, axis))
    u = math.hypot(INSTRUMENTS[RULE].placing_mm, INSTRUMENTS[RULE].common_mm, SLANT_MM) / math.sqrt(3)
    return PlacedScrew(near[0] + read["x"], near[1] + read["y"], u)


def _must_go_on(answer: str) -> None:
    if answer == STOP:
        raise TrialFailed("Stopped before every screw was found: their places stay as they were.", StartAgain())


def _concluded(bench: Bench, screws: Mapping[str, Screw], placed: Mapping[str, PlacedScrew]) -> TrialResult:
    findings: list[Finding] = []
    proposals: list[Proposal] = []
    words: list[str] = []
    for name, place in placed.items():
        screw, about = screws[name], {"screw": name}
        findings += [
            Finding("screw_x", place.x_mm, place.u_mm, "mm", subject=about, words="screw, from the left"),
            Finding("screw_y", place.y_mm, place.u_mm, "mm", subject=about, words="screw, from the front"),
        ]
        off = math.dist((place.x_mm, place.y_mm), (screw.x_mm, screw.y_mm))
        if off <= max(WORTH_MM, 2 * math.sqrt(2) * place.u_mm):
            words.append(f"{name} is where it is declared")
            continue
        words.append(f"{name} stands {off:.1f} mm from where it is declared")
        for axis, new in (("x", place.x_mm), ("y", place.y_mm)):
            path = f"bed.screws.{name}.{axis}_mm"
            before, after = bench.settings.shown(path), round(2 * new) / 2
            before = before if before is not None else getattr(screw, f"{axis}_mm")
            if before != after:
                proposals.append(Proposal(path, before, after, "mm", "turns are computed for where it stands"))
    left = [name for name in screws if name not in placed]
    sentence = "; ".join(words)
    why = f"{sentence[:1].upper()}{sentence[1:]}." if words else "No screw was looked at."
    why += f" Left as declared: {several(left)}." if left else ""
    if not proposals:
        return TrialResult("proven", why, {}, tuple(findings))
    option = Option("as found", "then the corners again", tuple(proposals), {})
    again = GoTo("bed corners", "turns are computed from the places")
    return TrialResult("proven", why, {}, tuple(findings), (option,), option.name, (again,))


def _needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (screws_need(machine),)


def _announce(machine: MachineFile, aim: ScrewPlaces) -> str:
    screws = machine.bed.screws
    far = [name for name, s in screws.items() if math.dist(_nearest(machine, s), (s.x_mm, s.y_mm)) > 1e-6]
    beyond = f" {several(far)} lie beyond its reach: there you read the rest with a rule." if far else ""
    return (
        f"Homes axes not yet homed, then takes the nozzle to {several(list(screws))}, {CLEAR_MM:g} mm over the bed; "
        f"you jog it over the middle of each.{beyond} {preheat_words(machine, ('x', 'y', 'z'))}"
    )


def _figure(result: TrialResult) -> str:
    return f"{len(result.all_of('screw_x'))} found"


A_SCREW_S = 4.2


def _lasts(machine: MachineFile, aim: ScrewPlaces, times: TrialTimes) -> float:
    return times.home_s(machine) + A_SCREW_S * len(machine.bed.screws)


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "screw-places",
        "bed corners",
        "Where the bed's screws stand: the nozzle is jogged over each of them.",
        ScrewPlaces,
        screw_places,
        (PLACES,),
        _announce,
        _needs,
        figure=_figure,
        prepares=True,
        idle=lambda machine: "declared places may stay",
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs"),
        facts=facts("screw"),
    ),
)
