"""The trial of the station *test piece*: a plain square from its first move to its last, changed live while it runs."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.bench import Bench, Running
from ublet.core.extrude.melting import hotend_of, material_of, melt, melt_needs
from ublet.core.heat.demands import beds
from ublet.core.heat.start import reach
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.counting import lost_steps
from ublet.core.motion.homing_moves import home_axis, home_unhomed, moving, preheat_words
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.patterns import in_the_air, square
from ublet.core.motion.program import Program
from ublet.core.motion.running import WAY, followed
from ublet.core.observations import WatchProgram
from ublet.core.questions import Live
from ublet.core.remedies import LINK
from ublet.core.remedy import ChangeParameter, ChangeSetting, GoTo, Remedy, StartAgain
from ublet.core.run import Finding, Outcome, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.trial_times import TrialTimes, program_s
from ublet.core.units import duration

ABOVE_MM = 20.0
"""Without filament it runs so far above the bed, mm."""

NUDGE_MM, FEED_STEP = 0.02, 0.1
LOWEST_FEED, HIGHEST_FEED, LOWEST_FLOW, HIGHEST_FLOW = 0.2, 2.0, 0.5, 1.5
LATE_FRACTION, LATE_S = 0.03, 0.5
"""What it takes may differ by so much from what was predicted: a share, and the time in which an end is noticed, s."""

CLOSER, AWAY, HOLD, ON, SLOWER, FASTER, STOP = "closer", "away", "hold", "go on", "slower", "faster", "stop"
THICKER, THINNER, FLOW_STEP = "thicker", "thinner", 0.05
"""Where it is printed: so much more or less filament."""


class PieceParameters(Part):
    """How large, and whether it is printed."""

    side_mm: float = setting("Side of the square.", unit="mm", low=15, high=200, default=40.0)
    rounds: int = setting("Squares inside each other.", low=1, high=10, default=3)
    printed: bool = setting("With heat and filament, on the bed; otherwise dry, well above it.", default=False)
    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )


def piece(machine: MachineFile, aim: PieceParameters) -> Program:
    """The program that is run.

    Raises:
        ValueError: it does not fit on the bed, or there is no extruder.
    """
    made = square(machine, aim.side_mm, aim.rounds)
    return made if aim.printed else in_the_air(made, ABOVE_MM)


async def run_piece(bench: Bench, aim: PieceParameters) -> TrialResult:
    """A program from end to end: it takes as long as predicted, and afterwards the axes are where they count.

    While it runs it is nudged, slowed, held and sent on; what was changed is reported, and a changed time is not
    judged.
    """
    machine = bench.machine
    try:
        program = piece(machine, aim)
    except ValueError as error:
        raise TrialFailed(
            f"{str(error)[0].upper()}{str(error)[1:]}.", ChangeParameter("side_mm", "a square that fits on the bed")
        ) from error
    await home_unhomed(bench, ("x", "y", "z"))
    if aim.printed:
        await _warm(bench, aim)
    table = bench.motion.timetable(program)
    asked = Live(
        "The square runs. Nearer to the bed or further from it, slower or faster: by the numbers. F8 halts everything.",
        (STOP,),
        WatchProgram(),
        {
            CLOSER: f"{NUDGE_MM:g} mm",
            AWAY: f"{NUDGE_MM:g} mm",
            HOLD: "",
            ON: "",
            SLOWER: "10 %",
            FASTER: "10 %",
            **({THICKER: "5 %", THINNER: "5 %"} if aim.printed else {}),
        },
    )
    changed = False
    async with bench.motion.run(table) as run, bench.builder.live(asked) as controls:
        changed = await followed(bench, table, run, controls, change_program, "square", asked=asked)
    if run.ended is None or run.ended[0] != "done":
        how = run.ended[0] if run.ended is not None else "stopped"
        raise TrialFailed(
            f"The square was not finished ({how}) after “{run.going.place}”.",
            StartAgain("once what stopped the square is seen to"),
        )
    shifts = {axis: await home_axis(bench, axis) for axis in ("x", "y")}
    known = {axis: mm for axis, mm in shifts.items() if mm is not None}
    lost, held = lost_steps(bench, known)
    held = held and len(known) == len(shifts)
    taken = run.ended[1] - (run.begun_s or 0.0)
    findings = [Finding("lost", abs(lost), None, "mm", words="steps lost on the way, at the motor that lost most")]
    words = [
        "No step was lost on the way." if held else f"A motor was off by {lost:+.2f} mm afterwards: steps were lost."
    ]
    late = 0.0
    if not changed:
        late = taken - table.seconds
        findings.append(Finding("taken", taken, LATE_S / 2, "s", words="time that it took"))
        findings.append(Finding("predicted", table.seconds, None, "s", words="time that was predicted"))
        words.append(f"It took {duration(taken)}, {abs(late):.1f} s {'more' if late > 0 else 'less'} than predicted.")
    if run.going.height_mm:
        findings.append(Finding("nudged", run.going.height_mm, NUDGE_MM / 2, "mm", words="nudged while it ran"))
        words.append(f"It was nudged by {run.going.height_mm:+.2f} mm in all; nothing of that is kept.")
    if run.going.starved:
        words.append(f"The queue ran dry {run.going.starved} times: the line is too slow for it.")
    good = held and abs(late) <= LATE_FRACTION * table.seconds + LATE_S and not run.going.starved
    ways_out: tuple[Remedy, ...] = ()
    if not held:
        ways_out = (GoTo("speed limits", "a speed and a current that lose no steps", "speed-limits"),)
    elif run.going.starved or not good:
        ways_out = (LINK, ChangeSetting("board.baud", "a faster line"))
    outcome: Outcome = "proven" if good else "failed"
    return TrialResult(outcome, " ".join(words), {"printed": aim.printed}, tuple(findings), remedies=ways_out)


async def _warm(bench: Bench, aim: PieceParameters) -> None:
    """Bed first, then the nozzle, which drools while it waits."""
    machine = bench.machine
    _, material = material_of(machine, aim.material)
    for bed in beds(machine):
        await reach(bench, bed, material.bed_c, 0.02)
    await melt(bench, hotend_of(machine), material.nozzle_c, 0.05)


async def change_program(run: Running, used: str) -> bool:
    """What a control does; whether it changes the time that the square takes."""
    match used:
        case "closer" | "away":
            await run.nudge(-NUDGE_MM if used == CLOSER else NUDGE_MM)
        case "hold" | "go on":
            await run.hold(used == HOLD)
        case "slower" | "faster":
            feed = run.going.feed + (FEED_STEP if used == FASTER else -FEED_STEP)
            await run.set_feed(round(min(HIGHEST_FEED, max(LOWEST_FEED, feed)), 2))
        case "thicker" | "thinner":
            flow = run.going.flow + (FLOW_STEP if used == THICKER else -FLOW_STEP)
            await run.set_flow(round(min(HIGHEST_FLOW, max(LOWEST_FLOW, flow)), 2))
    return used in (HOLD, ON, SLOWER, FASTER)


def _needs(machine: MachineFile, aim: PieceParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (*motion_needs(machine, aim, read), *(melt_needs(machine, aim.material, read) if aim.printed else ()))


def _announce(machine: MachineFile, aim: PieceParameters) -> str:
    warm = preheat_words(machine, ("z",))
    if not aim.printed:
        return (
            f"Homes axes not yet homed, then traces a square of {aim.side_mm:g} mm in the middle, {ABOVE_MM:g} mm "
            f"above the bed, without filament; homes X and Y again. {warm}"
        )
    try:
        name, material = material_of(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    return (
        f"Homes axes not yet homed, heats for {name} (nozzle {material.nozzle_c:g}, bed {material.bed_c:g} °C), then "
        f"prints a purge line and a square of {aim.side_mm:g} mm ({aim.rounds} rounds), and homes X and Y again. {warm}"
    )


HOMED_AGAIN_S = 14.0
"""Homing X and Y once more at the end, s."""


def _lasts(machine: MachineFile, aim: PieceParameters, times: TrialTimes) -> float:
    try:
        program = piece(machine, aim)
        _, material = material_of(machine, aim.material)
    except (ValueError, TrialFailed):
        return 0.0
    heated = [*((bed, material.bed_c) for bed in beds(machine)), (hotend_of(machine), material.nozzle_c)]
    heat_s = sum(times.heat_s(heater, celsius) for heater, celsius in heated) if aim.printed else 0.0
    return times.home_s(machine) + heat_s + program_s(machine, program) + HOMED_AGAIN_S


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "test-piece",
        "test piece",
        "A plain square from end to end, dry or printed, changed while it runs: is its time right, is a step lost?",
        PieceParameters,
        run_piece,
        (WAY,),
        _announce,
        _needs,
        figure=lambda result: "steps kept",
        asks=lambda aim: False,
        lasts=_lasts,
        uses=moving("programs", "lines", "filament"),
    ),
)
