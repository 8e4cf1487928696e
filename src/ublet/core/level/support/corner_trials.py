"""The trial of the station *bed corners* with a probe: tilt, and a twist over four screws, taken out by them; warp left
to the mesh.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

from ublet.core.acts import TurnScrew
from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.probe.probing import TOUCHES, Probing, approach_of, probe_needs, probing, probing_uses
from ublet.core.level.reach import NO_PROBE, senses
from ublet.core.level.scatter import height_u_mm, pooled_u_mm, range_of_noisy
from ublet.core.level.support.screws import (
    Turn,
    look_at_springs,
    moved_again,
    screw_heights,
    screws_need,
    screws_of,
    shape_for,
    staying,
    tilt_over,
    turns_for,
    twist_of,
    weak_words,
)
from ublet.core.level.surface import FittedSurface, fit_surface
from ublet.core.level.warmth import BedWarmUp, conditions, warm_up, warm_words, warming_s
from ublet.core.machine.level_parts import Screw
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_axis
from ublet.core.questions import Confirm
from ublet.core.remedies import SOAK_FIRST, level_first
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import Finding, Progress, Stream, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.words import several

DEEPEST_MM = 4.0
"""A corner may stand so much lower than where Z was homed, mm."""

LEAST_FOLLOWED, TWIST_U = 0.35, 5.0
"""A plate that follows less of a twist than this fraction keeps it; one that is smaller than so many standard
uncertainties of a height is not taken from the touches' scatter.
"""

MOST_TURNS, MOST_TURNS_AFTER = 4.0, 12.0
"""A screw that would have to turn further than this has run out of thread, or the bed hangs; further where all springs
were set to their middle just now, since that moves a corner by millimetres.
"""

CORNERS = Stream("corners", ("round", "screw", "height_mm", "turns"), ("", "", "mm", ""))
"""For each screw in each round: how much too high the bed's plane stands there, and what it was to be turned
(clockwise is positive)."""


class CornerParameters(BedWarmUp):
    """How level is level, and how many places are touched."""

    tilt_mm: float = setting(
        "Largest range of the bed's plane over the screws.", unit="mm", low=0.005, high=0.5, default=0.03
    )
    columns: int = setting("Places along X.", low=2, high=7, default=3)
    rows: int = setting("Places along Y.", low=2, high=7, default=3)
    rounds: int = setting("Rounds at the most.", low=1, high=10, default=5)
    samples: int = setting("Touches at each place; 0: as declared.", zero="as declared", low=0, high=20, default=0)


async def bed_corners(bench: Bench, aim: CornerParameters) -> TrialResult:
    """Touch a grid, fit what the screws can do (a plane; with four a twist, too), say what each must be turned; again
    until the bed is level at all of them.

    What the fit leaves is warp: no screw takes that out, and none is asked to. A plate that is too stiff to follow a
    twist keeps it.
    """
    screws = screws_of(bench.machine)
    most_turns = MOST_TURNS_AFTER if await look_at_springs(bench, screws) else MOST_TURNS
    _, warm = await warm_up(bench, aim)
    turned: dict[str, float] = dict.fromkeys(screws, 0.0)
    rounds: list[tuple[FittedSurface, float]] = []
    asked: list[dict[str, tuple[int, bool]]] = []
    stays, stiff, twists = "", False, list[float]()
    async with probing(bench, approach_of(bench, aim.samples), DEEPEST_MM, warm) as probe:
        places = probe.reach.grid(aim.columns, aim.rows)
        for number in range(1, aim.rounds + 1):
            surface, u = await _touch_all(bench, probe, screws, places, number, aim)
            heights = screw_heights(screws, surface)
            twist = twist_of(screws, heights)
            twists.append(max(abs(mm) for mm in twist.values()))
            stiff = stiff or _does_not_follow(twists, u)
            if stiff:
                heights = {name: mm - twist[name] for name, mm in heights.items()}
            stays = staying(heights, stays)
            turns = turns_for(screws, heights, stays)
            rounds.append((surface, u))
            level = max(heights.values()) - min(heights.values()) <= aim.tilt_mm
            _record(bench, number, heights, {} if level else turns, stays)
            if level:
                break
            asked.append({name: (round(turn.turns * EIGHTHS), turn.clockwise) for name, turn in turns.items()})
            _must_have_an_effect(asked, turns)
            _must_be_possible(bench.machine, turns, most_turns)
            if number < aim.rounds:
                await _have_turned(bench, probe, screws, turns, stays, number, aim)
                for name, turn in turns.items():
                    turned[name] += abs(turn.raises_mm) if not turn.rests else 0.0
        else:
            raise TrialFailed(_not_level(rounds, screws, aim), *NOT_LEVEL)
    bench.progress(Progress("axis Z", 0.97, None, "homes again: the bed stands otherwise now"))
    await home_axis(bench, "z")
    return _concluded(bench, rounds, screws, turned, twists, stiff, aim)


def _does_not_follow(twists: Sequence[float], u: float) -> bool:
    """Whether a twist that was to be taken out in the last round is still there: the plate is too stiff for it."""
    if len(twists) < 2 or twists[-2] < TWIST_U * u:
        return False
    return twists[-1] > (1 - LEAST_FOLLOWED) * twists[-2]


async def _touch_all(
    bench: Bench,
    probe: Probing,
    screws: Mapping[str, Screw],
    places: Sequence[Point],
    number: int,
    aim: CornerParameters,
) -> tuple[FittedSurface, float]:
    """The surface through the grid that the screws can change, and the standard uncertainty of a height. The first
    place is touched again at the end.

    Raises:
        TrialFailed: that is no longer where it was.
    """
    heights, series = [], []
    for at, place in enumerate((*places, places[0])):
        fraction = (number - 1 + at / (len(places) + 1)) / aim.rounds
        bench.progress(Progress(f"round {number}", fraction, None, f"place {at + 1} of {len(places) + 1}"))
        touches = await probe.agreeing_at(place, probe.approach.samples)
        series.append(touches)
        heights.append(sum(touches) / len(touches))
    repeats = pooled_u_mm(series) / math.sqrt(probe.approach.samples)
    u = height_u_mm(series, probe.approach.samples, probe.kind)
    moved = heights.pop() - heights[0]
    if probe.moved(moved, repeats):
        raise TrialFailed(
            f"Touched again at the end of the round, {probe.reach.words(places[0])} stands {abs(moved):.3f} mm "
            f"{'higher' if moved > 0 else 'lower'} than at its beginning: the bed was knocked, a corner lies on a "
            "slack spring, or something still warms up. Mend that and start again.",
            ByHand("tighten slack springs; find what was knocked"),
            SOAK_FIRST,
        )
    return fit_surface(places, heights, shape_for(screws)), u


async def _have_turned(
    bench: Bench,
    probe: Probing,
    screws: Mapping[str, Screw],
    turns: Mapping[str, Turn],
    stays: str,
    number: int,
    aim: CornerParameters,
) -> None:
    """Nozzle out of the way, pin up; the builder turns every screw that must be."""
    await probe.park()
    for name, turn in turns.items():
        if name == stays or turn.rests:
            continue
        signed = turn.turns if turn.clockwise else -turn.turns
        bench.progress(Progress(f"round {number}", number / aim.rounds, None, f"screw {name}"))
        asked = Confirm(
            f"Turn the screw {name}: {turn.words}. Seen from above; {stays} stays as it is.",
            ("turned", "it does not turn", "stop here"),
            TurnScrew(name, signed),
        )
        answer = await bench.builder.ask(asked)
        if answer == "it does not turn":
            way = "loosen" if turn.raises_mm < 0 else "tighten"
            raise TrialFailed(
                f"The screw {name} is at its end: its spring is fully compressed, or the thread has run out. "
                f"{way.title()} the other screws by a whole turn or two each instead, so that {name} comes back to "
                "its middle, then start again.",
                ByHand(f"bring the screw {name} back to its middle: turn the other screws instead"),
            )
        if answer != "turned":
            raise TrialFailed("Stopped before the bed was level. What was turned stays turned.", StartAgain())
        bench.report_fact("screw", name)


NOT_LEVEL = (
    ChangeSetting("bed.screws", "thread_mm, and which direction clockwise goes, of each screw"),
    ByHand("look for a slack spring"),
)
"""Ways out after all rounds, when the bed is not level."""

EIGHTHS = 8
"""Turns are compared in eighths."""

SAME_ROUNDS = 3
"""As many rounds in a row that ask for the same turns: turning has no effect."""


def _must_have_an_effect(asked: Sequence[Mapping[str, tuple[int, bool]]], turns: Mapping[str, Turn]) -> None:
    """Several rounds that ask for the same turns again: what is turned does not move the bed.

    Raises:
        TrialFailed: the last ``SAME_ROUNDS`` asked for the same.
    """
    last = asked[-SAME_ROUNDS:]
    if len(last) < SAME_ROUNDS or any(turns_then != last[0] for turns_then in last):
        return
    if not any(eighths for eighths, _ in last[0].values()):
        return
    turning = [f"{name} {turn.words}" for name, turn in turns.items() if not turn.rests]
    raise TrialFailed(
        f"{SAME_ROUNDS} rounds in a row asked for the same ({several(turning)}): turning has no effect on the bed. A "
        "screw slips in its thread, its spring is slack, or the plate lies on something.",
        ByHand("turn that screw by a whole turn and look whether its corner moves"),
        ChangeParameter("tilt_mm", "a tilt that this bed can keep"),
    )


def _must_be_possible(machine: MachineFile, turns: Mapping[str, Turn], most: float) -> None:
    for name, turn in turns.items():
        if turn.turns > most:
            raise TrialFailed(
                f"The screw {name} would have to turn {turn.turns:.1f} times ({abs(turn.raises_mm):.2f} mm); more than "
                f"{most:g} turns are no corner that is a little off. Bring the lead screws square first (station lead "
                "screws), look whether the bed hangs, and set all screws to half their springs.",
                level_first(machine, but_screws=True),
                ByHand("set all screws to half their springs; look whether the bed hangs"),
            )


def _record(bench: Bench, number: int, heights: Mapping[str, float], turns: Mapping[str, Turn], stays: str) -> None:
    for at, (name, height) in enumerate(heights.items()):
        turn = turns.get(name)
        signed = 0.0 if turn is None or turn.rests else turn.turns if turn.clockwise else -turn.turns
        bench.record.row(CORNERS.name, (number, at, height - heights[stays], signed))


def _range(screws: Mapping[str, Screw], surface: FittedSurface) -> float:
    heights = screw_heights(screws, surface).values()
    return max(heights) - min(heights)


def _range_u(screws: Mapping[str, Screw], surface: FittedSurface, u: float) -> float:
    """Standard uncertainty of the range: of the difference of two of the plane's heights."""
    worst = max(surface.uncertainty_at((screw.x_mm, screw.y_mm), u) for screw in screws.values())
    return math.sqrt(2) * worst


def _range_without_twist(screws: Mapping[str, Screw], surface: FittedSurface) -> float:
    heights = screw_heights(screws, surface)
    twist = twist_of(screws, heights)
    flat = [mm - twist[name] for name, mm in heights.items()]
    return max(flat) - min(flat)


def _not_level(
    rounds: Sequence[tuple[FittedSurface, float]], screws: Mapping[str, Screw], aim: CornerParameters
) -> str:
    ranges = ", ".join(f"{_range(screws, surface):.3f}" for surface, _ in rounds)
    return (
        f"After {aim.rounds} rounds the bed is tilted by {_range(screws, rounds[-1][0]):.3f} mm over its screws, "
        f"{aim.tilt_mm:g} are allowed; it was {ranges}. If it hardly changes, a screw's clockwise is declared the "
        "wrong way (bed.screws.NAME.clockwise) or its spring is slack."
    )


def _concluded(
    bench: Bench,
    rounds: Sequence[tuple[FittedSurface, float]],
    screws: Mapping[str, Screw],
    turned: Mapping[str, float],
    twists: Sequence[float],
    stiff: bool,
    aim: CornerParameters,
) -> TrialResult:
    surface, u = rounds[-1]
    first = rounds[0][0]
    bed, tilt = bench.machine.bed, _range(screws, surface)
    over_x, over_y = tilt_over(surface, bed.width_mm, bed.depth_mm)
    again = moved_again(bench, "bed-corners", turned)
    warp, warp_u = range_of_noisy(surface.left, u, len(surface.left) - len(surface.terms))
    findings = [
        Finding("tilt", tilt, _range_u(screws, surface, u), "mm", aim.tilt_mm, words="tilt over the screws"),
        Finding("tilt_before", _range(screws, first), _range_u(screws, first, u), "mm", words="tilt before"),
        Finding("rise_x", over_x, surface.slope_u(u)[0] * bed.width_mm, "mm", words="rise to the right"),
        Finding("rise_y", over_y, surface.slope_u(u)[1] * bed.depth_mm, "mm", words="rise to the back"),
        Finding("twist", twists[-1], u, "mm", words="twist over the screws"),
        Finding("warp", warp, warp_u, "mm", words="warp that no screw takes out"),
        Finding("rounds", float(len(rounds))),
        *(Finding("turned", mm, unit="mm", subject={"screw": name}) for name, mm in turned.items()),
        *(Finding("moved_in_a_row", float(n), subject={"screw": name}) for name, n in again.items()),
    ]
    level = tilt if not stiff else _range_without_twist(screws, surface)
    why = (
        f"Level over its screws within {level:.3f} mm (it was {_range(screws, first):.3f}). What is left, "
        f"{warp:.3f} ±{2 * warp_u:.3f} mm, is the bed's own shape: the mesh is for that."
    )
    if stiff:
        why += (
            f" The plate is too stiff for its screws: a twist of {twists[-1]:.3f} mm up and down stays in it, the "
            "mesh takes it up. Do not turn against it."
        )
    elif twists[0] > max(aim.tilt_mm / 2, TWIST_U * u):
        why += (
            f" A twist of {twists[0]:.3f} mm up and down over the four screws was taken out, {twists[-1]:.3f} is left."
        )
    if any(turned.values()):
        why += " The Z offset is to be done again now, since the middle has moved with the corners."
    else:
        why += " No screw was turned: what rests on the bed still holds."
    return TrialResult("proven", why + weak_words(again), conditions(bench), tuple(findings))


def _needs(machine: MachineFile, aim: CornerParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (screws_need(machine), *probe_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: CornerParameters) -> str:
    count = aim.columns * aim.rows
    return (
        f"Homes axes not yet homed, then touches {count} places of the bed and says how far to turn "
        f"{several(list(machine.bed.screws))}; at most {aim.rounds} rounds, until the plane is within {aim.tilt_mm:g} "
        f"mm. {warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    finding = result.finding("tilt")
    return f"{finding.value:.3f} mm" if finding is not None else ""


USUAL_ROUNDS = 3
"""Rounds that it usually takes."""


def _lasts(machine: MachineFile, aim: CornerParameters, times: TrialTimes) -> float:
    samples = aim.samples or (machine.probe.samples if machine.probe else 1)
    rounds_s = USUAL_ROUNDS * times.touches_s(machine, aim.columns * aim.rows + 1, samples, 120.0)
    homes_s = times.cooled().axis_s(machine, "z")  # the nozzle has cooled while the screws were turned
    return times.home_s(machine) + warming_s(machine, aim, times) + rounds_s + homes_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "bed-corners",
        "bed corners",
        "The bed level by its screws: how far, which way, on the clock; warp is separated from tilt.",
        CornerParameters,
        bed_corners,
        (TOUCHES, CORNERS),
        _announce,
        _needs,
        figure=_figure,
        idle=lambda machine: "" if senses(machine) else NO_PROBE,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=probing_uses,
        facts=facts("moved", "screw"),
    ),
)
