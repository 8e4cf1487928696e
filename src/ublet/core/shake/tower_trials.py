"""The trial of the station *resonance* without an accelerometer: a ringing tower, printed and read with callipers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial

from ublet.core.bench import Bench, Running
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.extrude.melting import hotend_of, material_of, melt, melt_needs
from ublet.core.heat.demands import beds
from ublet.core.heat.start import reach
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_unhomed, moving
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.running import WAY, followed
from ublet.core.observations import ReadRipples, WatchProgram
from ublet.core.questions import Live, Measure
from ublet.core.remedy import ByHand, ChangeParameter, StartAgain
from ublet.core.run import Finding, Progress, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import setting
from ublet.core.shake.sweeping import unshaped
from ublet.core.shake.tower import (
    SHOWS,
    WALLS,
    Band,
    Rippled,
    TowerShape,
    bands_of,
    even_after_mm,
    frequency_of,
    ringing_tower,
    wall_of,
)
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes, program_s
from ublet.core.units import parse, with_uncertainty
from ublet.core.words import several

FEWEST = 2
"""Fewest ripples that still show a frequency, if not well."""

NONE_SEEN, FEWER = "none to be seen", "fewer to be seen"
STOP = "stop"

DAMPING, DAMPING_U = 0.08, 0.03
"""A print does not show how fast ringing dies away: frames have damping ratios of 0.02 to 0.14."""

READ = Stream("ripples", ("band", "wall", "ripples", "distance_mm", "speed_mm_s"), ("", "", "", "mm", "mm/s"))
"""What was read off the walls; walls by their number: front, right, back, left."""


class TowerParameters(TowerShape):
    """The tower, whether it is printed now, and how many of its bands are read."""

    printed: bool = setting("Print it now; otherwise it stands on the bench already, printed so.", default=True)
    read_bands: int = setting("Bands that are read, from the top, where it rings most.", low=1, high=8, default=2)
    ripples: int = setting("Ripples that are measured together.", low=2, high=30, default=5)
    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )


async def tower(bench: Bench, aim: TowerParameters) -> TrialResult:
    """Print the tower, unshaped, and have ripples measured on all four walls of its upper bands.

    Raises:
        TrialFailed: it does not fit, or nothing was to be seen on any wall.
    """
    machine = bench.machine
    bands = bands_of(machine, aim)
    if aim.printed:
        async with bench.settings.borrowed(unshaped(bench)):
            await _print(bench, aim)
    rows: dict[str, list[_Reading]] = {"x": [], "y": []}
    read = bands[-aim.read_bands :]
    asked = [(band, wall) for band in reversed(read) for wall in WALLS]
    former: FormerReading | None = None
    for number, (band, wall) in enumerate(asked):
        fraction = (0.6 if aim.printed else 0.0) + (0.4 if aim.printed else 1.0) * number / len(asked)
        bench.progress(Progress("reading", fraction, None, f"the {wall} wall, band {band.number}", wall_of(band, wall)))
        if (reading := await _read(bench, aim, band, wall, len(bands), (), former)) is not None:
            own_rows = rows[SHOWS[wall]]
            own_rows.append(reading)
            asked_again = replace(_question(aim, band, wall, len(bands), reading.ripples), answers=())
            former = FormerReading(asked_again, partial(_put, own_rows))
    for own in rows.values():  # what stands out is measured once more
        for at in _frequency(own).odd if own else ():
            again = await _read(bench, aim, own[at].band, own[at].wall, len(bands), _frequency(own).problems)
            own[at] = again or own[at]
    frequencies = {axis: _frequency(own) for axis, own in rows.items() if own}
    if not frequencies:
        raise TrialFailed(
            "No ripples on any wall: it rings too little to be seen, or it was printed too gently. Print it faster or "
            "harder, in a glossy dark material, and look along the walls against a lamp.",
            StartAgain("print it faster or harder, in a glossy dark material"),
            ByHand("look along the walls against a lamp"),
        )
    return _concluded(frequencies, rows)


@dataclass(frozen=True)
class _Reading:
    """What was read of one wall of one band: ripples over a distance, mm, printed at a speed, mm/s."""

    band: Band
    wall: str
    ripples: int
    mm: float
    mm_s: float


def _frequency(readings: Sequence[_Reading]) -> Rippled:
    """What readings of one axis say together."""
    rows = [(reading.ripples, reading.mm, reading.mm_s) for reading in readings]
    return frequency_of(rows, [f"the {reading.wall} wall of band {reading.band.number}" for reading in readings])


def _put(rows: list[_Reading], answer: str) -> None:
    """A distance that was typed wrong is another one."""
    rows[-1] = replace(rows[-1], mm=parse(answer, "mm"))


async def _read(
    bench: Bench,
    aim: TowerParameters,
    band: Band,
    wall: str,
    bands: int,
    odd: Sequence[str] = (),
    former: FormerReading | None = None,
) -> _Reading | None:
    """Have a wall measured; where fewer ripples are to be seen, over half as many. None: there are none.

    Raises:
        TrialFailed: stopped.
    """
    ripples = aim.ripples
    while True:
        answer = await read_or_back(bench, _question(aim, band, wall, bands, ripples, odd), former)
        if answer == STOP:
            raise TrialFailed("Stopped before all walls were read.", StartAgain())
        if answer == NONE_SEEN or (answer == FEWER and ripples == FEWEST):
            return None
        if answer == FEWER:
            ripples = max(FEWEST, ripples // 2)
            continue
        mm = parse(answer, "mm")
        bench.record.row(READ.name, (band.number, WALLS.index(wall), ripples, mm, aim.speed_mm_s))
        return _Reading(band, wall, ripples, mm, aim.speed_mm_s)


def _question(
    aim: TowerParameters, band: Band, wall: str, bands: int, ripples: int, odd: Sequence[str] = ()
) -> Measure:
    """What is to be measured on a wall; odd: why it is asked again."""
    axis, skip = SHOWS[wall].upper(), even_after_mm(aim, band.mm_s2)
    top = " (the top one)" if band.number == bands else ""
    again = f"Once more, for {several(list(odd))}. " if odd else ""
    return Measure(
        f"{again}On the {wall} wall, in band {band.number} from the bottom{top}, against a lamp: leave out the first "
        f"{skip:.1f} mm behind the corner where it begins, then measure over {ripples} ripples, from a crest to "
        f"number {ripples} after it, with callipers beside a lens. This wall shows how {axis} rings.",
        (FEWER, NONE_SEEN, STOP),
        ReadRipples(SHOWS[wall], aim.speed_mm_s, ripples),
        unit="mm",
        lowest=0.1,
        highest=500.0,
    )


async def _print(bench: Bench, aim: TowerParameters) -> None:
    """Warm up and print."""
    try:
        program = ringing_tower(bench.machine, aim)
    except ValueError as error:
        raise TrialFailed(
            f"{str(error)[0].upper()}{str(error)[1:]}.",
            ChangeParameter("speed_mm_s", "slower"),
            ChangeParameter("side_mm", "a tower that fits on the bed"),
        ) from error
    await home_unhomed(bench, ("x", "y", "z"))
    _, material = material_of(bench.machine, aim.material)
    for bed in beds(bench.machine):
        await reach(bench, bed, material.bed_c, 0.02)
    await melt(bench, hotend_of(bench.machine), material.nozzle_c, 0.05)
    table = bench.motion.timetable(program)
    asked = Live("The tower is printed. F8 halts everything.", (STOP,), WatchProgram(), {})
    async with bench.motion.run(table) as run, bench.builder.live(asked) as controls:
        await followed(bench, table, run, controls, _nothing, "printing", 0.1, asked=asked)
    if run.ended is None or run.ended[0] != "done":
        raise TrialFailed(
            f"The tower was not finished ({run.ended[0] if run.ended else 'stopped'}).",
            StartAgain("once what stopped the print is seen to"),
        )
    for heater in (*beds(bench.machine), hotend_of(bench.machine)):
        await bench.heat.off(heater)


async def _nothing(run: Running, used: str) -> bool:
    """No control changes it."""
    return False


def _concluded(frequencies: dict[str, Rippled], rows: dict[str, list[_Reading]]) -> TrialResult:
    """Findings in the shape in which a sweep shows them."""
    findings: list[Finding] = []
    words: list[str] = []
    for axis, own in frequencies.items():
        hz, u = own.frequency_hz, own.frequency_u
        shared: Sequence[Finding] = (
            Finding("frequency", hz, u, "Hz", tolerance=0.03 * hz),
            Finding("damping", DAMPING, DAMPING_U, words="damping that is taken"),
            Finding("share", 1.0),
        )
        findings += about({"axis": axis}, about({"mode": "main"}, shared))
        words.append(f"{axis.upper()} rings at {with_uncertainty(hz, u)} Hz, read off {len(rows[axis])} walls.")
        words += [f"{axis.upper()}: {problem}." for problem in own.problems]
    missing = [axis.upper() for axis in rows if axis not in frequencies]
    if missing:
        words.append(f"Nothing was to be seen of {several(missing)}.")
    low, high = DAMPING - 2 * DAMPING_U, DAMPING + 2 * DAMPING_U
    words.append(f"A print does not show the damping: {low:.2f} to {high:.2f} is taken.")
    bad = any(own.problems for own in frequencies.values())
    again = (StartAgain("read the walls that differ once more"),) if bad else ()
    return TrialResult("failed" if bad else "proven", " ".join(words), {}, tuple(findings), remedies=again)


def _needs(machine: MachineFile, aim: TowerParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if not aim.printed:
        return (Need("a ringing tower that was printed with these figures", True),)
    return (*motion_needs(machine, aim, read), *melt_needs(machine, aim.material, read))


def _announce(machine: MachineFile, aim: TowerParameters) -> str:
    if not aim.printed:
        return "Asks for the ripples on a tower that stands on the bench. Nothing moves, nothing heats."
    try:
        name, material = material_of(machine, aim.material)
        ringing_tower(machine, aim)
    except (TrialFailed, ValueError) as error:
        return str(error)
    accelerations = [f"{band.mm_s2:g}" for band in bands_of(machine, aim)]
    return (
        f"Homes axes not yet homed, heats for {name} (nozzle {material.nozzle_c:g}, bed {material.bed_c:g} °C), then "
        f"prints a tower of {aim.side_mm:g} mm in bands of {several(accelerations)} mm/s², unshaped."
    )


def _figure(result: TrialResult) -> str:
    findings = (result.finding("frequency", axis=axis) for axis in ("x", "y"))
    return f"{', '.join(f'{finding.value:.0f}' for finding in findings if finding is not None)} Hz"


def _lasts(machine: MachineFile, aim: TowerParameters, times: TrialTimes) -> float:
    if not aim.printed:
        return 0.0
    try:
        program = ringing_tower(machine, aim)
        _, material = material_of(machine, aim.material)
    except (ValueError, TrialFailed):
        return 0.0
    heated = [*((bed, material.bed_c) for bed in beds(machine)), (hotend_of(machine), material.nozzle_c)]
    heat_s = sum(times.heat_s(heater, celsius) for heater, celsius in heated)
    return times.home_s(machine) + heat_s + program_s(machine, program)


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "ringing-tower",
        "resonance",
        "A tower is printed and its ripples are measured: how each axis rings, without an accelerometer.",
        TowerParameters,
        tower,
        (WAY, READ),
        _announce,
        _needs,
        figure=_figure,
        lasts=_lasts,
        uses=lambda machine: ("heat", *moving("programs", "lines", "filament")(machine)),
        idle=lambda machine: "a sweep does it better, where there is an accelerometer",
        asks=lambda aim: True,
        facts=facts("moved", "load"),
    ),
)
