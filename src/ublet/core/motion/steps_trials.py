"""The trial that measures steps per millimetre: each axis is moved, the builder reads how far it went."""

from __future__ import annotations

from functools import partial
from typing import Literal

from ublet.core.acts import MarkPlace
from ublet.core.bench import Bench
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import (
    axis_of,
    go_to,
    home_unhomed,
    moving,
    number_of,
    preheat_words,
    with_those_before,
)
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.measuring import INSTRUMENTS, REACH_MM, Length, length_of
from ublet.core.motion.motor_trials import motor_words
from ublet.core.motion.steps import AxisDrive, StepsAssessment, differing, judge_steps
from ublet.core.observations import ReadTravel
from ublet.core.questions import Confirm, Measure
from ublet.core.remedy import ByHand, GoTo, StartAgain
from ublet.core.run import Checkpoint, Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import Part, setting
from ublet.core.trial import TrialSpec
from ublet.core.trial_times import TrialTimes
from ublet.core.units import parse, with_uncertainty
from ublet.core.words import several

TAKE_UP_MM = 5.0
"""Before each measured move the axis goes so far the same way, to take up backlash, mm."""

MOST_TIMES = 20.0
"""No fault makes an axis go so many times as far as commanded."""

SPEED_MM_S = 50.0
"""Fast enough to be done, slow enough to lose no step."""

ROOM_MM = 4.0
"""Kept free at both ends of an axis, mm."""


LengthReadings = dict[str, dict[str, list[float]]]
"""What was read, mm, by axis and by place."""


class StepsParameters(Part):
    """Which axes, how far, how often, and what they are measured with."""

    axis: Literal["all", "x", "y", "z"] = setting("Axis to measure, or all.", default="all")
    length_mm: float = setting("Travel that is measured.", unit="mm", low=5, high=500, default=100.0)
    repeats: int = setting("Readings of each.", low=2, high=20, default=3)
    instrument: Literal["rule", "callipers", "dial-gauge"] = setting("What it is measured with.", default="callipers")


CURRENT = GoTo("speed limits", "the current of its driver", "driver-current")


async def steps_per_mm(bench: Bench, aim: StepsParameters) -> TrialResult:
    """Each axis moves a known length, again and again; what is read gives its steps per millimetre."""
    wanted = axes_of(aim)
    await home_unhomed(bench, wanted)
    findings: list[Finding] = []
    with bench.aside():  # what there is room for
        commanded_mm = {name: measured_length(bench.machine, name, aim) for name in wanted}
    measured: dict[str, dict[str, Length]] = {}
    read = LengthReadings() if bench.record.going_on is None else dict(bench.record.going_on.state["readings"])
    for number, name in enumerate(wanted):
        if name in read:
            _record(bench, name, commanded_mm[name], read[name])  # measured before it was cut off
        else:
            read[name] = await _measure(bench, name, commanded_mm[name], aim, number / len(wanted), 1 / len(wanted))
            bench.record.checkpoint(Checkpoint(f"{', '.join(read).upper()} measured", {"readings": read}))
        measured[name] = {
            place: length_of(place_readings, aim.instrument) for place, place_readings in read[name].items()
        }
        findings += (axis_findings := _findings(bench, name, _mean(measured[name]), commanded_mm[name]))
        bench.record.found(*axis_findings)
    proposals: list[Proposal] = []
    good: list[str] = []
    bad: list[str] = []
    for axes in driven_together(bench.machine, wanted):
        seen = [name for name in axes if name in measured]
        named = several([name.upper() for name in seen])
        lengths = {place: length for name in seen for place, length in measured[name].items()}
        length_mm = sum(commanded_mm[name] for name in seen) / len(seen)
        now, geometry = number_of(bench, f"axes.{seen[0]}.steps_per_mm"), _geometry(bench.machine, seen[0])
        judged = judge_steps(now, geometry, length_mm, _mean(lengths), declared_drive(bench.machine, seen[0]))
        wrong = differing(lengths) if len(seen) == 1 else ()
        if wrong:
            bad.append(_differ_words(seen[0], lengths, wrong))
        elif judged.good:
            good.append(f"{named}: {judged.words}.")
        else:
            bad.append(f"{named}: {judged.words}.")
            proposals += [_proposal(bench, name, judged) for name in axes if judged.proposed is not None]
    if not bad:
        return TrialResult("proven", " ".join(good), {}, tuple(findings))
    option = Option("mend", "then measure again", tuple(proposals), {})
    kept = (option,) if proposals else ()
    loose = () if kept else (ByHand("tighten the pulley; look for play in the belt or the screw"), CURRENT)
    why = " ".join(bad + good)
    return TrialResult("failed", why, {}, tuple(findings), kept, "mend" if kept else "", loose)


def driven_together(machine: MachineFile, wanted: tuple[str, ...]) -> tuple[tuple[str, ...], ...]:
    """Axes whose steps belong to the same motors: two belts that carry both must stay the same."""
    return machine.machine.layout.groups(wanted)


def axes_of(aim: StepsParameters) -> tuple[str, ...]:
    """The axes that are measured."""
    return ("x", "y", "z") if aim.axis == "all" else (aim.axis,)


def measured_length(machine: MachineFile, name: str, aim: StepsParameters) -> float:
    """The length that fits into the instrument, and twice between an axis's ends: a wrong part often doubles it, mm."""
    together = next(axes for axes in driven_together(machine, (name,)) if name in axes)
    axes = [axis_of(machine, axis) for axis in together]
    room = min(axis.maximum_mm - axis.minimum_mm for axis in axes) - 2 * (2 * ROOM_MM + TAKE_UP_MM)
    return min(aim.length_mm, REACH_MM[aim.instrument], float(int(room / 2)))


async def _measure(
    bench: Bench, name: str, length_mm: float, aim: StepsParameters, done: float, whole: float
) -> dict[str, list[float]]:
    """Readings of one axis, mm; where several motors carry it side by side, at each of them."""
    axis = axis_of(bench.machine, name)
    places = _places(bench.machine, name)
    readings: dict[str, list[float]] = {place: [] for place in places}
    with bench.aside():
        speed = min(SPEED_MM_S, axis.maximum_feed_mm_s)
        direction = (
            -1 if axis.homing.end == "high" else 1
        )  # away from the homed end, where there is room for a wrong scale
        start = axis.maximum_mm if direction < 0 else max(axis.minimum_mm, 0.0 if name == "z" else axis.minimum_mm)
        start += direction * (ROOM_MM + TAKE_UP_MM)
    total, former = aim.repeats * len(places), None

    def put(place: str, answer: str) -> None:
        """A reading that was typed wrong is another one."""
        readings[place][-1] = abs(parse(answer, "mm"))
        row = (float("xyz".index(name)), float(places.index(place)), length_mm, readings[place][-1])
        bench.record.row("readings", row)

    for repeat in range(aim.repeats):
        await go_to(bench, name, start - direction * TAKE_UP_MM, speed)
        await go_to(bench, name, start, speed)
        words = f"{length_mm:g} mm, {repeat + 1} of {aim.repeats}"
        fraction = done + whole * repeat / aim.repeats
        bench.progress(Progress(f"axis {name.upper()}", fraction, None, words, name))
        where = "at each lift" if len(places) > 1 else f"where {name.upper()} stands"
        marked = Confirm(
            f"{name.upper()} moves {length_mm:g} mm at {speed:g} mm/s next. Mark {where} with the {aim.instrument}.",
            ("marked", "stop here"),
            MarkPlace(name),
        )
        if await bench.builder.ask(marked) != "marked":
            raise TrialFailed("Stopped at the mark: nothing was concluded.", StartAgain())
        await go_to(bench, name, start + direction * length_mm, speed)
        for place in places:
            text = f"How far did {place_words(name, place)} go from the mark?"
            most = MOST_TIMES * length_mm
            asked = Measure(text, (), ReadTravel(place, aim.instrument), unit="mm", lowest=-most, highest=most)
            read = abs(parse(await read_or_back(bench, asked, former), "mm"))
            readings[place].append(read)
            former = FormerReading(asked, partial(put, place))
            bench.record.row("readings", (float("xyz".index(name)), float(places.index(place)), length_mm, read))
            count = sum(len(reading) for reading in readings.values())
            bench.progress(Progress(f"axis {name.upper()}", done + whole * count / total, None, words, name))
    return readings


def _record(bench: Bench, name: str, length_mm: float, readings: dict[str, list[float]]) -> None:
    """The readings of an axis that was measured before."""
    for place, reading in enumerate(readings.values()):
        bench.record.rows("readings", [(float("xyz".index(name)), float(place), length_mm, read) for read in reading])


def place_words(axis: str, place: str) -> str:
    """Where a length is read, in words: the axis, or one of its lifts."""
    motor = place.partition(".")[2]
    return f"the motor {motor_words(f'axes.{axis}.motors.{motor}')}" if motor else axis.upper()


def _places(machine: MachineFile, name: str) -> tuple[str, ...]:
    """The axis itself, or each of several motors that carry it side by side (belts of a CoreXY do not)."""
    motors = axis_of(machine, name).motors
    return tuple(f"{name}.{motor}" for motor in motors) if len(motors) > 1 else (name,)


def _mean(lengths: dict[str, Length]) -> Length:
    """An axis, or axes of the same motors, as a whole: the middle of what was read at each place."""
    mean_lengths = list(lengths.values())
    count = len(mean_lengths)
    placing = sum(one.placing_u_mm**2 for one in mean_lengths) ** 0.5 / count
    worst = max(mean_lengths, key=lambda one: one.deviation_mm)
    mean = sum(one.mean_mm for one in mean_lengths) / count
    return Length(sum(one.count for one in mean_lengths), mean, worst.deviation_mm, placing, worst.errors)


def _findings(bench: Bench, name: str, whole: Length, length_mm: float) -> tuple[Finding, ...]:
    findings = [Finding("measured", whole.mean_mm, whole.uncertainty_mm, "mm")]
    findings.append(Finding("error", whole.mean_mm - length_mm, whole.uncertainty_mm, "mm"))
    if abs(whole.mean_mm) > 2 * whole.uncertainty_mm:
        steps = number_of(bench, f"axes.{name}.steps_per_mm") * length_mm / whole.mean_mm
        uncertainty = steps * whole.uncertainty_mm / whole.mean_mm
        findings.insert(0, Finding("steps_per_mm", steps, uncertainty, "steps/mm"))
    return about({"axis": name}, findings)


def _proposal(bench: Bench, name: str, judged: StepsAssessment) -> Proposal:
    assert judged.proposed is not None
    now, after = number_of(bench, f"axes.{name}.steps_per_mm"), float(f"{judged.proposed:.7g}")
    error = 100 * (now / after - 1)
    effect = f"removes a length error of {error:+.2f} %" if abs(error) < 10 else "the axis is as long as it says"
    return Proposal(f"axes.{name}.steps_per_mm", now, after, "steps/mm", effect)


def _differ_words(name: str, lengths: dict[str, Length], wrong: tuple[str, ...]) -> str:
    measured = ", ".join(f"{place.partition('.')[2]} {length.mean_mm:.2f} mm" for place, length in lengths.items())
    names = several([place.partition(".")[2] for place in wrong])
    first = next(iter(lengths)).partition(".")[2]
    return (
        f"{name.upper()}'s motors do not move it equally far ({measured}): {names} differs from {first}. "
        "Look at its screw or pulley, and at its driver's microsteps; no setting mends this."
    )


def declared_drive(machine: MachineFile, name: str) -> AxisDrive:
    """What is declared of an axis's drive."""
    axis = axis_of(machine, name)
    motor = next(iter(axis.motors.values()))
    return AxisDrive(axis.drive, motor.microsteps, motor.step_angle_deg, axis.pulley_teeth, axis.screw_lead_mm)


def _geometry(machine: MachineFile, name: str) -> float:
    axis = axis_of(machine, name)
    return axis_steps_per_mm(axis, next(iter(axis.motors.values())))


def _announce(machine: MachineFile, aim: StepsParameters) -> str:
    wanted = axes_of(aim)
    moves = ", ".join(
        f"{name.upper()} {measured_length(machine, name, aim):g} mm at "
        f"{min(SPEED_MM_S, axis_of(machine, name).maximum_feed_mm_s):g} mm/s"
        for name in wanted
    )
    largest = INSTRUMENTS[aim.instrument].largest_mm
    warm = preheat_words(machine, with_those_before(machine, wanted))
    return (
        f"Homes axes not yet homed, then moves {moves}, {aim.repeats} times; you read each with the {aim.instrument} "
        f"(within {largest:g} mm). {warm}"
    )


def _first_axis(result: TrialResult) -> str:
    finding = result.finding("steps_per_mm")
    return with_uncertainty(finding.value, finding.uncertainty or 0.0) if finding else ""


A_READING_S = 0.7
"""Motion around one reading besides the travel itself, s."""


def _lasts(machine: MachineFile, aim: StepsParameters, times: TrialTimes) -> float:
    seconds = 0.0
    for name in axes_of(aim):
        speed_mm_s = min(SPEED_MM_S, axis_of(machine, name).maximum_feed_mm_s)
        seconds += aim.repeats * (2 * measured_length(machine, name, aim) / speed_mm_s + A_READING_S)
    return times.home_s(machine) + seconds


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "steps-per-mm",
        "steps per mm",
        "Each axis moves a known length and is measured; geometry beside measurement, and when to leave it.",
        StepsParameters,
        steps_per_mm,
        (Stream("readings", ("axis", "place", "commanded_mm", "measured_mm"), ("", "", "mm", "mm")),),
        _announce,
        motion_needs,
        figure=_first_axis,
        verify="steps-per-mm",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving(),
    ),
)
