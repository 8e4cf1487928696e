"""The trial *piece-measured*: a cube that is printed, measured by callipers and looked at."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from ublet.core.bench import Bench
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.extrude.advance_lines import grams_of
from ublet.core.extrude.cube import SIDES, CubeJudged, cube_program, judge_cube
from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.extrude.pattern_print import pattern_lasts, pattern_needs, pattern_words, print_pattern
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, moving
from ublet.core.motion.running import WAY
from ublet.core.observations import DIAGONALS, LookAtPiece, ReadPiece
from ublet.core.questions import Judge, Measure
from ublet.core.remedy import ByHand, GoTo, Remedy
from ublet.core.run import Finding, Option, Outcome, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes, program_s
from ublet.core.units import duration, parse

LENGTHS = Stream("lengths", ("what", "measured_mm"), ("", "mm"))
"""Every reading: 0 to 2 the sides, 3 and 4 the diagonals."""

NO, YES = "no", "yes"
LOOKS: dict[str, Remedy] = {
    "ghosts beside edges": GoTo("input shaper", "edges ring: tune the shaper", "input-shaper"),
    "bulges at corners": GoTo("advance", "corners bulge: the pressure follows late", "advance-lines"),
    "rows that shift": GoTo("speed limits", "steps were lost", "speed-limits"),
    "holes in the walls": GoTo("flow limit", "too little melts, or comes", "flow-limit"),
    "a ragged first line": GoTo("first layer", "the first layer’s height", "first-layer"),
}
"""What a piece may look like, and the station that each sends one back to."""

LEAST_SHRINKS = 0.0005


class CubeParameters(Part):
    """How large, how often each length is read, and whether it is printed first."""

    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )
    size_mm: float = setting("Side of the cube.", unit="mm", low=10, high=120, default=30.0)
    repeats: int = setting("Readings of each length.", low=1, high=6, default=3)
    printed: bool = setting("Whether it is printed first; no: it lies there already.", default=True)
    looks: bool = setting("Whether its looks are asked for, too.", default=True)


async def piece_measured(bench: Bench, aim: CubeParameters) -> TrialResult:
    """Print a cube, let sides and diagonals be measured, and say what each difference means: an axis, the material, the
    frame, or nothing.
    """
    machine = bench.machine
    name, declared = material_of(machine, aim.material)
    timed: tuple[Finding, ...] = ()
    if aim.printed:
        with bench.aside():
            program = cube_program(machine, aim.size_mm)
        places = [place for place in program.places if place.startswith("layer ")]
        printed = await print_pattern(bench, program, aim.material, places, "A hollow cube, layer by layer.")
        timed = printed.findings
        if len(printed.done) < len(places):
            raise TrialFailed(
                f"The cube ended ({printed.ended}) in layer {len(printed.done) + 1}: its height cannot be measured.",
                GoTo("test piece", "print it once more", "piece-measured"),
            )
    readings = await _readings(bench, aim)
    judged = judge_cube(aim.size_mm, readings)
    looks = await _looks(bench) if aim.looks else ()
    held: dict[str, float | str] = {"material": name, "nozzle_c": declared.nozzle_c, "size_mm": aim.size_mm}
    with bench.aside():
        before = declared.shrinks_percent
    return _concluded(machine, name, before, judged, looks, held, timed)


async def _readings(bench: Bench, aim: CubeParameters) -> dict[str, list[float]]:
    """Every length, again and again; each reading has a way back to the one before."""
    readings: dict[str, list[float]] = {}
    former: FormerReading | None = None
    for at, what in enumerate((*SIDES, *DIAGONALS)):
        mine = readings.setdefault(what, [])
        usual = aim.size_mm * (2**0.5 if what in DIAGONALS else 1.0)
        for number in range(aim.repeats):
            how = {
                "x": "its width, left to right, above the first layers",
                "y": "its depth, front to back, above the first layers",
                "z": "its height",
                DIAGONALS[0]: "the diagonal of its top from the left front corner",
                DIAGONALS[1]: "the diagonal of its top from the right front corner",
            }[what]
            asked = Measure(
                f"Let it cool. Measure {how}, reading {number + 1} of {aim.repeats}, by callipers closed gently.",
                (),
                ReadPiece(what, aim.size_mm),
                unit="mm",
                lowest=0.8 * usual,
                highest=1.2 * usual,
            )
            mine.append(parse(await read_or_back(bench, asked, former), "mm"))
            former = FormerReading(asked, partial(_put, mine, number))
            bench.record.row(LENGTHS.name, (float(at), mine[-1]))
    return readings


def _put(readings: list[float], at: int, answer: str) -> None:
    readings[at] = parse(answer, "mm")


async def _looks(bench: Bench) -> tuple[str, ...]:
    """What is seen on it."""
    question = Judge(
        "Hold it against the light and turn it: what do you see?",
        (),
        LookAtPiece(),
        columns=len(LOOKS),
        rows=1,
        verdicts=(NO, YES),
        names=tuple(LOOKS),
    )
    (verdicts,) = await bench.builder.judge(question)
    return tuple(look for look, verdict in zip(LOOKS, verdicts, strict=True) if verdict == YES)


def _concluded(
    machine: MachineFile,
    material: str,
    shrinks_before: float | None,
    judged: CubeJudged,
    looks: tuple[str, ...],
    held: dict[str, float | str],
    timed: tuple[Finding, ...],
) -> TrialResult:
    findings = [
        Finding("scale", ratio.value, ratio.uncertainty, subject={"axis": axis}, words="measured / commanded")
        for axis, ratio in judged.scales.items()
    ]
    findings += [
        Finding("shrinks", judged.shrinks.value, judged.shrinks.uncertainty, words="share that a print shrinks by"),
        Finding("skew", judged.skew_deg.value, judged.skew_deg.uncertainty, "°", words="skew of X and Y"),
        *timed,
    ]
    words: list[str] = []
    remedies: list[Remedy] = []
    options: list[Option] = []
    if judged.odd:
        off = judged.odd_by
        words.append(
            f"{judged.odd.upper()} is {100 * abs(off.value):.2f} ±{200 * off.uncertainty:.2f} % "
            f"{'longer' if off.value > 0 else 'shorter'} than the other axes."
        )
        axis = axis_of(machine, judged.odd)
        if axis.drive == "belt":
            words.append("A belt and its pulley do not wear by that: count the teeth, look for a loose pulley.")
            remedies.append(ByHand(f"the pulley of {judged.odd.upper()}: its teeth, its set screw"))
        remedies.append(GoTo("steps per mm", f"measure {judged.odd.upper()} over a longer way", "steps-per-mm"))
    if judged.skewed:
        angle = judged.skew_deg
        longer = "left front" if angle.value > 0 else "right front"
        words.append(
            f"X and Y are skewed by {abs(angle.value):.2f} ±{2 * angle.uncertainty:.2f}°: the diagonal from the "
            f"{longer} corner is the longer one."
        )
        remedies.append(ByHand("square the frame: gantry and rails, until both diagonals are alike"))
    if judged.shrunk:
        shrinkage = judged.shrinks
        words.append(
            f"All sides are {100 * abs(shrinkage.value):.2f} ±{200 * shrinkage.uncertainty:.2f} % "
            f"{'short' if shrinkage.value > 0 else 'long'} alike: that is the material’s shrinkage, no steps error."
        )
        if shrinkage.value > LEAST_SHRINKS:
            after = round(100 * shrinkage.value, 2)
            effect = "for the program that makes prints"
            proposal = Proposal(f"materials.{material}.shrinks_percent", shrinks_before, after, "%", effect)
            options.append(Option("as measured", "scale prints by it", (proposal,), {"shrinks": shrinkage.value}))
    for look in looks:
        words.append(f"It has {look}.")
        remedies.append(LOOKS[look])
    bad = bool(judged.odd or judged.skewed or looks)
    if not words:
        words.append("Leave it: every length agrees within the error of callipers.")
    outcome: Outcome = "failed" if bad else "proven"
    chosen = options[0].name if options else ""
    return TrialResult(outcome, " ".join(words), held, tuple(findings), tuple(options), chosen, tuple(remedies))


def _announce(machine: MachineFile, aim: CubeParameters) -> str:
    lengths = f"you measure {len(SIDES) + len(DIAGONALS)} lengths by callipers, {aim.repeats} times each"
    if not aim.printed:
        return f"Nothing moves or heats: {lengths} of a cube of {aim.size_mm:g} mm."
    try:
        program = cube_program(machine, aim.size_mm)
        before = pattern_words(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    grams = grams_of(program, extruder_of(machine).filament_mm)
    return (
        f"{before} then prints a hollow cube of {aim.size_mm:g} mm in {duration(program_s(machine, program))}, "
        f"{grams:.1f} g; {lengths}."
    )


def _needs(machine: MachineFile, aim: CubeParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if not aim.printed:
        return (Need(f"a cube of {aim.size_mm:g} mm that was printed", True),)

    def shown() -> str:
        cube_program(machine, aim.size_mm)
        return f"a cube of {aim.size_mm:g} mm"

    return pattern_needs(machine, aim.material, read, shown)


def _lasts(machine: MachineFile, aim: CubeParameters, times: TrialTimes) -> float:
    if not aim.printed:
        return 0.0
    try:
        return pattern_lasts(machine, aim.material, cube_program(machine, aim.size_mm), times)
    except TrialFailed:
        return 0.0


def _figure(result: TrialResult) -> str:
    finding = result.finding("skew")
    return f"{abs(finding.value):.2f}°" if finding is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "piece-measured",
        "test piece",
        "A cube that you measure: scale of each axis, shrinkage, skew, and what its looks lead to.",
        CubeParameters,
        piece_measured,
        (WAY, LENGTHS),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs", "heat"),
        facts=facts("belt"),
        idle=lambda machine: "it is there for whoever wants to measure",
        after="first layer",
    ),
)
