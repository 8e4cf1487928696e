"""The trial *piece-measured*: a cube or a flat frame that is printed, measured by callipers and looked at."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial

from ublet.core.bench import Bench
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.extrude.advance_lines import grams_of, is_tube
from ublet.core.extrude.cube import (
    LAYER_MM,
    SIDES,
    USUAL_MM,
    WIDTH_MM,
    CubeJudged,
    PieceShape,
    cube_program,
    judge_cube,
    sides_of,
)
from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.extrude.pattern_print import pattern_lasts, pattern_needs, pattern_words, print_pattern
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, moving
from ublet.core.motion.running import WAY
from ublet.core.observations import (
    BULGES,
    CORNER_GAPS,
    DIAGONALS,
    GHOSTS,
    HOLES,
    OVERFULL,
    RAGGED,
    SHIFTS,
    LookAtPiece,
    ReadPiece,
)
from ublet.core.questions import Judge, Measure
from ublet.core.remedy import ByHand, ChangeSetting, GoTo, Remedy
from ublet.core.run import Finding, Option, Outcome, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes, program_s
from ublet.core.units import duration, parse

LENGTHS = Stream("lengths", ("what", "measured_mm"), ("", "mm"))
"""Every reading: 0 to 2 the sides, 3 and 4 the diagonals."""

NO, YES = "no", "yes"
LOOKS: dict[str, tuple[Remedy, ...]] = {
    GHOSTS: (GoTo("input shaper", "edges ring: tune the shaper", "input-shaper"),),
    BULGES: (GoTo("advance", "corners bulge: the pressure follows late, the value is too low", "advance-lines"),),
    CORNER_GAPS: (GoTo("advance", "corners starve: the value is too high", "advance-lines"),),
    SHIFTS: (
        GoTo("speed limits", "steps were lost", "speed-limits"),
        ByHand("the set screws of the pulleys: a loose one slips on its shaft"),
    ),
    HOLES: (
        GoTo("extruder steps", "how much of what is commanded goes in", "extruder-steps"),
        GoTo("flow limit", "too little melts at this speed", "flow-limit"),
    ),
    OVERFULL: (GoTo("extruder steps", "more goes in than is commanded", "extruder-steps"),),
    RAGGED: (GoTo("first layer", "the first layer’s height", "first-layer"),),
}
"""What a piece may look like, and where each look sends one back to."""

SQUARE_BY_HAND_DEG = 1.0
"""A frame that is more skewed than this is squared by hand: motion is no mend for it."""

LEAST_SHRINKS = 0.0005
SKEW = "motion.skew_deg"


class CubeParameters(Part):
    """How large, how often each length is read, and whether it is printed first."""

    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )
    shape: PieceShape = setting(
        "A cube shows every axis and its looks; a flat frame of longer sides shows skew three times as sharply.",
        default="cube",
    )
    size_mm: float = setting(
        "Side of the piece; 0: 30 mm for a cube, 100 mm for a frame.",
        zero="by the shape",
        unit="mm",
        low=0,
        high=200,
        default=0.0,
    )
    repeats: int = setting("Readings of each length.", low=1, high=6, default=3)
    printed: bool = setting("Whether it is printed first; no: it lies there already.", default=True)
    looks: bool = setting("Whether its looks are asked for, too.", default=True)

    @property
    def side_mm(self) -> float:
        """How long its sides are."""
        return self.size_mm or USUAL_MM[self.shape]


async def piece_measured(bench: Bench, aim: CubeParameters) -> TrialResult:
    """Print a piece, let sides and diagonals be measured, and say what each difference means: an axis, the material,
    the frame, or nothing.
    """
    machine = bench.machine
    name, declared = material_of(machine, aim.material)
    timed: tuple[Finding, ...] = ()
    if aim.printed:
        with bench.aside():
            program = cube_program(machine, aim.side_mm, aim.shape)
        places = [place for place in program.places if place.startswith("layer ")]
        printed = await print_pattern(bench, program, aim.material, places, f"A hollow {aim.shape}, layer by layer.")
        timed = printed.findings
        if len(printed.done) < len(places):
            raise TrialFailed(
                f"The {aim.shape} ended ({printed.ended}) in layer {len(printed.done) + 1}: it cannot be measured.",
                GoTo("test piece", "print it once more", "piece-measured"),
            )
    readings = await _readings(bench, aim)
    judged = judge_cube(aim.side_mm, readings)
    looks = await _looks(bench, aim.side_mm) if aim.looks else ()
    held: dict[str, float | str] = {"material": name, "nozzle_c": declared.nozzle_c, "size_mm": aim.side_mm}
    corrected = machine.motion.skew_deg
    with bench.aside():
        before = declared.shrinks_percent
    return _concluded(machine, PieceBefore(name, before, corrected), judged, looks, held, timed)


async def _readings(bench: Bench, aim: CubeParameters) -> dict[str, list[float]]:
    """Every length, again and again; each reading has a way back to the one before."""
    readings: dict[str, list[float]] = {}
    former: FormerReading | None = None
    for what in (*sides_of(aim.shape), *DIAGONALS):
        mine = readings.setdefault(what, [])
        usual = aim.side_mm * (2**0.5 if what in DIAGONALS else 1.0)
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
                ReadPiece(what, aim.side_mm),
                unit="mm",
                lowest=0.4 * usual,
                highest=2.2 * usual,
            )
            mine.append(parse(await read_or_back(bench, asked, former), "mm"))
            former = FormerReading(asked, partial(_put, mine, number))
            bench.record.row(LENGTHS.name, (float((*SIDES, *DIAGONALS).index(what)), mine[-1]))
    return readings


def _put(readings: list[float], at: int, answer: str) -> None:
    readings[at] = parse(answer, "mm")


async def _looks(bench: Bench, side_mm: float) -> tuple[str, ...]:
    """What is seen on it."""
    question = Judge(
        "Hold it against the light and turn it: what do you see?",
        (),
        LookAtPiece(side_mm, WIDTH_MM, LAYER_MM),
        columns=len(LOOKS),
        rows=1,
        verdicts=(NO, YES),
        names=tuple(LOOKS),
    )
    (verdicts,) = await bench.builder.judge(question)
    return tuple(look for look, verdict in zip(LOOKS, verdicts, strict=True) if verdict == YES)


@dataclass(frozen=True)
class PieceBefore:
    """What stands before: the material, its shrinkage in per cent, the skew that motion corrects, degrees."""

    material: str
    shrinks_percent: float | None
    skew_deg: float


FIRST_LAYER_FRACTION = 0.015
"""By no larger share of a cube's height can its first layer be off: some 0.4 mm of 30."""


@dataclass
class LengthsShown:
    """What lengths show, in words; what mends it; the settings that it proposes."""

    words: list[str] = field(default_factory=list)
    remedies: list[Remedy] = field(default_factory=list)
    proposals: list[Proposal] = field(default_factory=list)


def lengths_shown(machine: MachineFile, kept: PieceBefore, judged: CubeJudged, ragged: bool) -> LengthsShown:
    """What each difference of the lengths means. ragged: the first layer is at fault, and all of Z stands on it."""
    shown = LengthsShown()
    if judged.odd:
        off = judged.odd_by
        shown.words.append(
            f"{judged.odd.upper()} is {100 * abs(off.value):.2f} ±{200 * off.uncertainty:.2f} % "
            f"{'longer' if off.value > 0 else 'shorter'} than the other axes."
        )
        axis = axis_of(machine, judged.odd)
        if axis.drive == "belt":
            shown.words.append("A belt and its pulley do not wear by that: count the teeth, look for a loose pulley.")
            shown.remedies.append(ByHand(f"the pulley of {judged.odd.upper()}: its teeth, its set screw"))
        if judged.odd == "z" and ragged and abs(off.value) <= FIRST_LAYER_FRACTION:
            shown.words.append("The height of its first layer does that alone: put that right first.")
        else:
            shown.remedies.append(
                GoTo("steps per mm", f"measure {judged.odd.upper()} over a longer way", "steps-per-mm")
            )
    if judged.skewed:
        angle = judged.skew_deg
        corner = "left front" if angle.value > 0 else "right front"
        shown.words.append(
            f"X and Y are skewed by {abs(angle.value):.2f} ±{2 * angle.uncertainty:.2f}°: the diagonal from the "
            f"{corner} corner is the longer one."
        )
        whole = round(kept.skew_deg + angle.value, 3)
        shown.remedies.append(ByHand("square the frame: gantry and rails, until both diagonals are alike"))
        if abs(whole) <= SQUARE_BY_HAND_DEG:
            shown.words.append("Square the frame if it can be; else motion corrects it.")
            effect = "motion leans against it; a frame that is squared later needs 0 again"
            shown.proposals.append(Proposal(SKEW, kept.skew_deg, whole, "°", effect))
            shown.remedies.append(ChangeSetting(SKEW, f"{whole:g}°, proposed here: corrected in motion"))
    if judged.shrunk:
        shrinkage = judged.shrinks
        shown.words.append(
            f"All sides are {100 * abs(shrinkage.value):.2f} ±{200 * shrinkage.uncertainty:.2f} % "
            f"{'short' if shrinkage.value > 0 else 'long'} alike: that is the material’s shrinkage, no steps error."
        )
        if shrinkage.value > LEAST_SHRINKS:
            after = round(100 * shrinkage.value, 2)
            effect = "for the program that makes prints"
            path = f"materials.{kept.material}.shrinks_percent"
            shown.proposals.append(Proposal(path, kept.shrinks_percent, after, "%", effect))
    return shown


def _concluded(
    machine: MachineFile,
    kept: PieceBefore,
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
    if SHIFTS in looks:
        shown = LengthsShown(["Rows shift: its lengths say nothing until that is mended."])
    else:
        shown = lengths_shown(machine, kept, judged, RAGGED in looks)
    words, remedies, proposals = shown.words, shown.remedies, shown.proposals
    options = []
    if proposals:
        figures = {"skew": judged.skew_deg.value, "shrinks": judged.shrinks.value}
        options.append(Option("as measured", "what this piece shows", tuple(proposals), figures))
        if len(proposals) > 1:
            options.append(Option("shrinkage alone", "the frame is squared by hand", tuple(proposals[1:]), figures))
    for look in looks:
        words.append(f"It has {look}.")
        remedies.extend(LOOKS[look])
    if BULGES in looks and is_tube(machine):
        words.append("Filament shifts in its tube, so that some of the bulge stays at any pressure advance.")
        remedies.append(ByHand("print outer walls slower, or shorten the tube"))
        remedies.append(GoTo("extruder steps", "a direct drive has no such bulge", "drive-change"))
    bad = bool(judged.odd or judged.skewed or looks)
    if not words:
        words.append("Leave it: every length agrees within the error of callipers.")
    outcome: Outcome = "failed" if bad else "proven"
    chosen = options[0].name if options else ""
    return TrialResult(outcome, " ".join(words), held, tuple(findings), tuple(options), chosen, tuple(remedies))


def _announce(machine: MachineFile, aim: CubeParameters) -> str:
    lengths = f"you measure {len(sides_of(aim.shape)) + len(DIAGONALS)} lengths by callipers, {aim.repeats} times each"
    if not aim.printed:
        return f"Nothing moves or heats: {lengths} of a {aim.shape} of {aim.side_mm:g} mm."
    try:
        program = cube_program(machine, aim.side_mm, aim.shape)
        before = pattern_words(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    grams = grams_of(program, extruder_of(machine).filament_mm)
    return (
        f"{before} then prints a hollow {aim.shape} of {aim.side_mm:g} mm in {duration(program_s(machine, program))}, "
        f"{grams:.1f} g; {lengths}."
    )


def _needs(machine: MachineFile, aim: CubeParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if not aim.printed:
        return (Need(f"a {aim.shape} of {aim.side_mm:g} mm that was printed", True),)

    def shown() -> str:
        cube_program(machine, aim.side_mm, aim.shape)
        return f"a {aim.shape} of {aim.side_mm:g} mm"

    return pattern_needs(machine, aim.material, read, shown)


def _lasts(machine: MachineFile, aim: CubeParameters, times: TrialTimes) -> float:
    if not aim.printed:
        return 0.0
    try:
        return pattern_lasts(machine, aim.material, cube_program(machine, aim.side_mm, aim.shape), times)
    except TrialFailed:
        return 0.0


def _figure(result: TrialResult) -> str:
    finding = result.finding("skew")
    return f"{abs(finding.value):.2f}°" if finding is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "piece-measured",
        "test piece",
        "A cube or frame that you measure: scale of each axis, shrinkage, skew, and what its looks lead to.",
        CubeParameters,
        piece_measured,
        (WAY, LENGTHS),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs", "lines", "filament", "heat"),
        facts=facts("belt"),
        idle=lambda machine: "it is there for whoever wants to measure",
        after="first layer",
    ),
)
