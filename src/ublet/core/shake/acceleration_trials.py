"""The trial of the station *acceleration*: the limit that shaping, motors and the time of a print ask for."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.limits import tidy
from ublet.core.motion.patterns import Stroke, square
from ublet.core.motion.program import Program, To, timetable
from ublet.core.remedy import ChangeParameter, GoTo
from ublet.core.run import Finding, Option, Proposal, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import Part, Value, setting
from ublet.core.shake.mount import TAKE_OFF
from ublet.core.shake.shapers import live_impulses
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import duration

AXES = ("x", "y")
PRINT_PATH = "motion.print_acceleration_mm_s2"
SMALLEST_MM_S2, STEPS = 300.0, 14
"""Accelerations are tried from here on, in so many steps."""

TIMES = Stream("times", ("acceleration_mm_s2", "seconds", "rounding_mm"), ("mm/s²", "s", "mm"))
"""What the reference print takes at each acceleration, and by how much the worse axis rounds its corners."""


class AccelerationParameters(Part):
    """What limits it."""

    rounding_mm: float = setting("Largest corner rounding.", unit="mm", low=0.01, high=2, default=0.15)
    margin: float = setting("Share of what the motors were found to carry.", low=0.2, high=1, default=0.8)
    worth: float = setting("More acceleration must save this share of the print's time.", low=0, high=0.2, default=0.01)
    speed_mm_s: float = setting("Speed of the reference print.", unit="mm/s", low=20, high=400, default=100.0)
    side_mm: float = setting("Side of its square.", unit="mm", low=15, high=150, default=40.0)


@dataclass(frozen=True)
class Bounds:
    """What bounds one axis, mm/s²: its shaper's rounding (None: not shaped), its motors (None: not measured), and what
    is declared.
    """

    rounding: float | None
    motors: float | None
    declared: float

    @property
    def most(self) -> float:
        """The acceleration at most."""
        return min(bound for bound in (self.rounding, self.motors, self.declared) if bound is not None)

    @property
    def by(self) -> str:
        """What bounds it most."""
        if self.most == self.rounding:
            return "corners would be rounded more"
        return "the motors carry no more" if self.most == self.motors else "its declared limit"


async def acceleration(bench: Bench, aim: AccelerationParameters) -> TrialResult:
    """Weigh rounding, torque and time: how hard axes may be driven, and how hard it is worth to print.

    Raises:
        TrialFailed: no axis is shaped, and what the motors carry was not measured.
    """
    carried = bench.record.earlier("speed-limits")
    bounds = {axis: bounds_of(bench, axis, carried, aim) for axis in AXES}
    if all(bound.rounding is None and bound.motors is None for bound in bounds.values()):
        raise TrialFailed(
            "Nothing bounds it yet: choose a shaper (station input shaper), or find out what the motors carry (station "
            "speed limits).",
            GoTo("input shaper", "choose a shaper"),
            GoTo("speed limits", "what the motors carry"),
        )
    most = min(bound.most for bound in bounds.values())
    times = times_of(bench, aim, most)
    for mm_s2, seconds in times.items():
        bench.record.row(TIMES.name, (mm_s2, seconds, rounding_at(bench, mm_s2)))
    best = tidy(worth_it(times, aim.worth), down=True)
    takes = float(np.interp(best, list(times), list(times.values())))
    findings: list[Finding] = []
    for axis, bound in bounds.items():
        limits = [Finding("limit", bound.most, None, "mm/s²", words="may accelerate by")]
        for what, value in (("by_rounding", bound.rounding), ("by_motors", bound.motors)):
            limits += [Finding(what, value, None, "mm/s²")] if value is not None else []
        findings += about({"axis": axis}, limits)
    findings += [
        Finding("printing", best, None, "mm/s²", words="worth printing at"),
        Finding("time", takes, None, "s", words="the reference print then takes"),
        Finding("time_at_most", min(times.values()), None, "s", words="at the limit"),
    ]
    words = [f"{axis.upper()}: up to {bound.most:.0f} mm/s², since {bound.by}." for axis, bound in bounds.items()]
    saved = takes - min(times.values())
    words.append(
        f"The reference print ({aim.side_mm:g} mm square at {aim.speed_mm_s:g} mm/s) takes {takes:.1f} s at "
        f"{best:.0f} mm/s²; going to {max(times):.0f} would save {saved:.1f} s ({100 * saved / takes:.0f} %)."
    )
    proposals = _proposals(bench, bounds, best)
    words.append(TAKE_OFF)
    if not proposals:
        return TrialResult("proven", f"{' '.join(words)} Nothing is to be changed.", {}, tuple(findings))
    option = Option("as bounded", f"the reference print takes {duration(takes)}", proposals, {"printing": best})
    return TrialResult("proven", " ".join(words), {}, tuple(findings), (option,), option.name)


def bounds_of(bench: Bench, axis: str, carried: TrialResult | None, aim: AccelerationParameters) -> Bounds:
    """What bounds an axis."""
    impulses = live_impulses(bench.settings.live, axis)
    finding = carried.finding("acceleration_limit", axis=axis) if carried is not None else None
    rounding = impulses.highest_mm_s2(aim.rounding_mm) if impulses is not None else None
    motors = aim.margin * finding.value if finding is not None else None
    declared = bench.settings.shown(f"axes.{axis}.acceleration_mm_s2")
    return Bounds(rounding, motors, float(declared) if isinstance(declared, (int, float)) else math.inf)


def rounding_at(bench: Bench, mm_s2: float) -> float:
    """By how much the worse axis rounds a corner at an acceleration, mm; 0 where none is shaped."""
    sequences = [live_impulses(bench.settings.live, axis) for axis in AXES]
    return max((impulses.rounding_mm(mm_s2) for impulses in sequences if impulses is not None), default=0.0)


def times_of(bench: Bench, aim: AccelerationParameters, most: float) -> dict[float, float]:
    """What the reference print takes, s, at accelerations up to the most, planned as the board plans."""
    machine = bench.machine
    stroke = Stroke(mm_s=aim.speed_mm_s)
    try:
        program = square(machine, aim.side_mm, 3, stroke)
    except ValueError as error:
        raise TrialFailed(
            f"The reference print: {error}.", ChangeParameter("side_mm", "a smaller reference print")
        ) from error
    moves = Program(program.name, tuple(segment for segment in program.segments if isinstance(segment, To)))
    start = {axis: max(0.0, getattr(machine.axes, axis).minimum_mm) for axis in ("x", "y", "z")}
    with bench.aside():
        values = effective(machine)
    low = min(SMALLEST_MM_S2, most)
    times = {}
    for number in range(STEPS):
        mm_s2 = low * (most / low) ** (number / (STEPS - 1))
        own: Mapping[str, Value] = {**values, **{f"axes.{axis}.acceleration_mm_s2": mm_s2 for axis in AXES}}
        times[mm_s2] = timetable(moves, start, Caps({**own, PRINT_PATH: 0.0})).seconds
    return times


def worth_it(times: Mapping[float, float], worth: float) -> float:
    """The smallest acceleration from which the most would save less than a share of the time."""
    least = min(times.values())
    return min(mm_s2 for mm_s2, seconds in times.items() if seconds - least <= worth * seconds)


def _proposals(bench: Bench, bounds: Mapping[str, Bounds], best: float) -> tuple[Proposal, ...]:
    """Declared maxima that the motors do not carry are lowered; printing gets a limit of its own."""
    proposals = []
    for axis, bound in bounds.items():
        if bound.motors is not None and bound.motors < bound.declared:
            after = tidy(bound.motors, down=True)
            path = f"axes.{axis}.acceleration_mm_s2"
            proposals.append(Proposal(path, bound.declared, after, "mm/s²", "what its motors carry, with a margin"))
    before = bench.settings.shown(PRINT_PATH)
    if before is not None and before != best:
        effect = "corners keep their shape; more saves hardly any time"
        proposals.append(Proposal(PRINT_PATH, before, best, "mm/s²", effect))
    return tuple(proposals)


def _needs(machine: MachineFile, aim: AccelerationParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (Need("calculation only: nothing moves or heats", True),)


def _announce(machine: MachineFile, aim: AccelerationParameters) -> str:
    return "Computes the limit from live shapers, what the motors carry, and a print's time. Nothing moves or heats."


def _figure(result: TrialResult) -> str:
    finding = result.finding("printing")
    return f"{finding.value:.0f} mm/s²" if finding is not None else "bounded"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "acceleration-limit",
        "acceleration",
        "How hard may each axis be driven, and how hard is it worth to print: rounding, motors, time.",
        AccelerationParameters,
        acceleration,
        (TIMES,),
        _announce,
        _needs,
        figure=_figure,
        uses=always("motion"),
    ),
)
