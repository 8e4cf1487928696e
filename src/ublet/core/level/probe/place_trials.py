"""The trial of the station *probe place*: nozzle and probe over the same dot; the probe's offset, how sure it is."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from ublet.core.acts import MarkDot
from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.probe.probing import probe_of, probing_uses
from ublet.core.level.reach import NO_PROBE, margin_follows, senses
from ublet.core.level.scatter import deviation_of, scatter_beyond
from ublet.core.machine.level_parts import ProbeSettings
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_unhomed, number_of, preheat_words
from ublet.core.observations import AimAtDot
from ublet.core.questions import Confirm, Jog
from ublet.core.remedy import StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes

EYE_MM, EYE_COMMON_MM = 0.2, 0.08
"""A tip is put over a dot within this each time, and looked at tilted by this every time; half-widths, mm."""

PLACINGS = 2
"""The nozzle is placed and the probe is."""


@dataclass(frozen=True)
class Sits:
    """Where the probe sits, to the right of and behind the nozzle, mm, with standard uncertainties."""

    x_mm: float
    y_mm: float
    x_u_mm: float
    y_u_mm: float


def sits(nozzle: Sequence[Point], probe: Sequence[Point]) -> Sits:
    """``offset = nozzle position - probe position`` over the same dot (handbook, section 5), the mean of n pairs.

    ``u^2 = common^2/3 + s^2/n`` with s the larger of what the eye explains, ``eye sqrt(2/3)``, and of scatter that is
    clearly beyond it.

    Raises:
        ValueError: no pairs, or not as many of one as of the other.
    """
    if not nozzle or len(nozzle) != len(probe):
        raise ValueError("as many placings of the probe as of the nozzle are needed, at least one")
    means, errors = [], []
    for axis in (0, 1):
        differences = [n[axis] - p[axis] for n, p in zip(nozzle, probe, strict=True)]
        count = len(differences)
        mean = sum(differences) / count
        new = scatter_beyond(EYE_MM * math.sqrt(PLACINGS / 3), deviation_of(differences), count) / math.sqrt(count)
        means.append(mean)
        errors.append(math.hypot(new, EYE_COMMON_MM / math.sqrt(3)))
    return Sits(means[0], means[1], errors[0], errors[1])


def place_words(x_mm: float, y_mm: float, digits: int = 1) -> str:
    """``38.0 mm left of and 6.5 mm in front of the nozzle``.

    >>> place_words(-38, -6.5), place_words(20, 0)
    ('38.0 mm left of and 6.5 mm in front of the nozzle', '20.0 mm right of the nozzle')
    """
    said = []
    for mm, low, high in ((x_mm, "left of", "right of"), (y_mm, "in front of", "behind")):
        if abs(mm) >= 0.5 * 10**-digits:
            said.append(f"{abs(mm):.{digits}f} mm {low if mm < 0 else high}")
    return f"{' and '.join(said)} the nozzle" if said else "at the nozzle itself"


STEPS_MM = (5.0, 1.0, 0.2, 0.1)
CLEAR_MM, TRAVEL_MM_S, LIFT_MM_S = 5.0, 60.0, 8.0
AIM_MM = 1.0
"""Nozzle or pin stands so high over the bed while it is put over the dot, mm."""

FAR_MM = 4.0
"""A probe that sits so far from where its mount's part says is another part, or a mistake, mm."""

AIMED = Stream("aimed", ("number", "probe", "x_mm", "y_mm"), ("", "", "mm", "mm"))
"""Where the nozzle stood when it (0) or the probe (1) was over the dot."""


class PlaceParameters(Part):
    """How often both are put over the dot."""

    repeats: int = setting("How often both are put over the dot.", low=1, high=10, default=4)
    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=1, high=50, default=20.0)


async def probe_place(bench: Bench, aim: PlaceParameters) -> TrialResult:
    """A dot on the bed: the nozzle over it, then the probe over it; how far the nozzle went is where the probe sits."""
    machine = bench.machine
    probe = probe_of(machine)
    declared = (number_of(bench, "probe.offset_x_mm"), number_of(bench, "probe.offset_y_mm"))
    bench.motion.clear_at_the_end(CLEAR_MM)
    await home_unhomed(bench, ("x", "y", "z"))
    start = (machine.bed.width_mm / 2, machine.bed.depth_mm / 2)
    with bench.aside():  # it only says how high to hold the probe: where it sits does not depend on it
        trigger = max(0.0, -number_of(bench, "probe.offset_z_mm"))
    await _above(bench, start, AIM_MM)
    asked = Confirm(
        "Stick tape on the bed below the nozzle and put a fine dot on it with a pen, where the nozzle points.",
        ("dotted", "stop here"),
        MarkDot(),
    )
    if await bench.builder.ask(asked) != "dotted":
        raise TrialFailed("Stopped before anything was measured.", StartAgain())
    nozzle: list[Point] = []
    pin: list[Point] = []
    dot = start
    for number in range(aim.repeats):
        bench.progress(Progress(f"placing {number + 1}", number / aim.repeats, None, "the nozzle over the dot"))
        await _above(bench, dot, AIM_MM)
        nozzle.append(dot := await _aimed(bench, "the nozzle’s tip", "nozzle", aim.speed_mm_s))
        bench.record.row(AIMED.name, (number, 0, *nozzle[-1]))
        bench.progress(Progress(f"placing {number + 1}", (number + 0.5) / aim.repeats, None, "the probe over the dot"))
        guess = sits(nozzle[:number], pin) if pin else Sits(*declared, 0.0, 0.0)
        await _above(bench, (dot[0] - guess.x_mm, dot[1] - guess.y_mm), CLEAR_MM)
        if probe.kind == "pin":
            await bench.probe.pin(True)
            await bench.clock.rest(number_of(bench, "probe.deploy_s"))
        await bench.motion.go({"z": trigger + AIM_MM}, LIFT_MM_S)
        words = "the probe’s pin" if probe.kind == "pin" else "the probe’s middle"
        pin.append(await _aimed(bench, words, "probe", aim.speed_mm_s))
        bench.record.row(AIMED.name, (number, 1, *pin[-1]))
        if probe.kind == "pin":
            await bench.motion.go({"z": CLEAR_MM + trigger}, LIFT_MM_S)
            await bench.probe.pin(False)
    await bench.motion.go({"z": CLEAR_MM + trigger}, LIFT_MM_S)
    return _concluded(bench, sits(nozzle, pin), declared)


async def _above(bench: Bench, place: Point, z_mm: float) -> None:
    """Up, over a place, and down to a height."""
    here = bench.motion.position("z")
    if here is not None and here < CLEAR_MM:
        await bench.motion.go({"z": CLEAR_MM}, LIFT_MM_S)
    await bench.motion.go({"x": place[0], "y": place[1]}, TRAVEL_MM_S)
    await bench.motion.go({"z": z_mm}, LIFT_MM_S)


async def _aimed(bench: Bench, words: str, what: Literal["nozzle", "probe"], mm_s: float) -> Point:
    """The builder jogs until something is over the dot; where the nozzle stands then."""
    asked = Jog(
        f"Jog X and Y until {words} stands over the dot, looking from the front and from the side.",
        ("over the dot", "stop here"),
        AimAtDot(what),
        axes=("x", "y"),
        steps=STEPS_MM,
    )
    jogged = await bench.builder.jog(asked, mm_s)
    if jogged.answer != "over the dot":
        raise TrialFailed("Stopped before both stood over the dot: the offsets stay as they were.", StartAgain())
    return jogged.position["x"], jogged.position["y"]


def _concluded(bench: Bench, place: Sits, declared: Point) -> TrialResult:
    findings = [
        Finding("probe_x", place.x_mm, place.x_u_mm, "mm", words="probe to the right of the nozzle"),
        Finding("probe_y", place.y_mm, place.y_u_mm, "mm", words="probe behind the nozzle"),
    ]
    why = f"The probe sits {place_words(place.x_mm, place.y_mm)}, within {2 * max(place.x_u_mm, place.y_u_mm):.2f} mm."
    part = bench.machine.probe.part if bench.machine.probe is not None else None
    if part is not None:
        off = max(abs(place.x_mm - part.offset_x_mm), abs(place.y_mm - part.offset_y_mm))
        fits = off <= 2 * max(place.x_u_mm, place.y_u_mm)
        findings.append(Finding("off_part", off, max(place.x_u_mm, place.y_u_mm), "mm", words="off its part’s numbers"))
        said = place_words(part.offset_x_mm, part.offset_y_mm)
        why += f" Its part {part.name} says {said}: {'that fits' if fits else f'{off:.1f} mm off'}."
        if off > FAR_MM:
            why += " That is another part, or one that is mounted the other way round: look before you keep it."
    proposals = []
    for key, value, u, before in (
        ("offset_x_mm", place.x_mm, place.x_u_mm, declared[0]),
        ("offset_y_mm", place.y_mm, place.y_u_mm, declared[1]),
    ):
        if abs(value - before) > 2 * u:
            after = round(value, 2)
            effect = "mesh and lifts are touched where they should be"
            proposals.append(Proposal(f"probe.{key}", before, after, "mm", effect))
            proposals += _home_over(bench, key[7], after - before)
    proposals += margin_follows(bench.machine, proposals)
    if bench.machine.probe is not None and bench.machine.probe.offset_from == "part":
        why += " It was declared by its part's numbers alone; it is measured now."
        effect = "no longer by the part alone"
        proposals.append(Proposal("probe.offset_from", "part", "measured", "", effect))
    if not proposals:
        why += " What is declared agrees with that: leave it."
        return TrialResult("proven", why, {}, tuple(findings))
    option = Option("as measured", "the reach and the place where Z homes follow", tuple(proposals), {})
    return TrialResult("proven", why, {}, tuple(findings), (option,), "as measured")


def _home_over(bench: Bench, axis: str, moved_mm: float) -> list[Proposal]:
    """Z homes with the probe over the same place of the bed as before."""
    path = f"axes.z.homing.over_{axis}_mm"
    now = bench.settings.shown(path)
    if bench.machine.axes.z.homing.end != "probe" or not isinstance(now, (int, float)):
        return []
    return [Proposal(path, now, round(now - moved_mm, 2), "mm", "Z homes with the probe over the same place")]


def _needs(machine: MachineFile, aim: PlaceParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    try:
        probe = probe_of(machine)
    except TrialFailed:
        return (Need("no probe that sits beside the nozzle: nothing to measure", False),)
    return (Need(f"probe: {probe.kind}, declared {place_words(probe.offset_x_mm, probe.offset_y_mm)}", True),)


def _announce(machine: MachineFile, aim: PlaceParameters) -> str:
    pin = isinstance(machine.probe, ProbeSettings) and machine.probe.kind == "pin"
    return (
        f"Homes axes not yet homed, then puts the nozzle {AIM_MM:g} mm over the middle of the bed; you make a dot "
        f"there and put {'nozzle and pin' if pin else 'nozzle and probe'} over it {aim.repeats} times each, by "
        f"jogging. {preheat_words(machine, ('x', 'y', 'z'))}"
    )


def _figure(result: TrialResult) -> str:
    x, y = result.finding("probe_x"), result.finding("probe_y")
    return f"{x.value:+.1f}, {y.value:+.1f}" if x is not None and y is not None else ""


A_PLACING_S = 9.3
"""Motion of putting nozzle and probe over the dot once, s."""


def _lasts(machine: MachineFile, aim: PlaceParameters, times: TrialTimes) -> float:
    return times.home_s(machine) + aim.repeats * A_PLACING_S


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "probe-place",
        "probe place",
        "Nozzle and probe over the same dot: where the probe sits, in words and from above.",
        PlaceParameters,
        probe_place,
        (AIMED,),
        _announce,
        _needs,
        figure=_figure,
        idle=lambda machine: "" if senses(machine) else NO_PROBE,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=probing_uses,
        facts=facts("probe", "nozzle"),
    ),
)
