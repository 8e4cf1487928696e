"""The trials of the station *advance*: lines whose pressure advance rises, picked or measured; and their check."""

from __future__ import annotations

import math
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

from ublet.core.bench import Bench
from ublet.core.corrections import FormerReading, read_or_back
from ublet.core.extrude.advance import (
    MODEL_FRACTION,
    AdvanceEstimate,
    NoZero,
    evenest,
    finer_range,
    from_pick,
    together,
    uneven_mm,
)
from ublet.core.extrude.advance_lines import (
    DIRECT_PLACES,
    AdvanceLine,
    LineKind,
    LinesLayout,
    LinesParameters,
    followed_mm_s2,
    grams_of,
    layout_of,
    lines_program,
)
from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.extrude.pattern_print import pattern_lasts, pattern_needs, pattern_words, print_pattern
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.homing_moves import moving, number_of
from ublet.core.motion.measuring import INSTRUMENTS
from ublet.core.motion.program import Program
from ublet.core.motion.running import WAY
from ublet.core.observations import (
    ComparePair,
    LineArea,
    ReadLines,
    ReadLineWidth,
    ReadTower,
    SettleOnPick,
)
from ublet.core.questions import Confirm, Measure, Pick
from ublet.core.remedy import ByHand, ChangeParameter, GoTo, Remedy, StartAgain
from ublet.core.run import Finding, Option, Outcome, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import number_or, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import duration, parse, with_uncertainty

BELOW, BEYOND, WIDTHS = "below the first", "beyond the last", "type widths"
THAT, AGAIN, ALSO = "that is it", "look again", "type widths too"
NEW, OLD, ALIKE = "the new one", "the old one", "no difference"

MEASURED, COARSE, CLOSE = 5, 5, 4
"""Number of lines measured around a pick, or over the whole range without one, and then next to the evenest."""

FITTED = 4
"""Number of the measured lines that are fitted at the least: those next to the evenest."""

WIDEST_MM, LEAST_READ = 4.0, 3

LEAST_APART_S = 0.001
"""Two values nearer than this are printed alike."""

LINES = Stream("lines", ("line", "advance_s", "y_mm"), ("", "s", "mm"))
"""The lines that were printed."""

PICKS = Stream("picks", ("first_s", "last_s", "advance_s", "uncertainty_s"), ("s", "s", "s", "s"))
"""Every look: the values between which the lines are even, and what it makes."""

WIDTH_PLACES = len(DIRECT_PLACES)
WIDTH_ROWS = Stream(
    "widths",
    ("line", "advance_s", *(f"place_{number}_mm" for number in range(1, WIDTH_PLACES + 1))),
    ("", "s", *("mm" for _ in range(WIDTH_PLACES))),
)
"""Every line that was measured: its width at each place, in their order along the line."""

SUBJECT_WORDS = "pressure advance"


class AdvanceParameters(LinesParameters):
    """What is printed, and how it is read."""

    by_widths: bool = setting("Widths are typed at once, without a pick by eye.", default=False)


@dataclass
class LinesRead:
    """What was read of printed lines of a kind: looks, and widths by the line's number from 0."""

    kind: LineKind
    picks: list[AdvanceEstimate] = field(default_factory=list)
    widths: dict[int, list[float]] = field(default_factory=dict)

    def evenest(self) -> int:
        """The line whose widths differ least, of those that were measured."""
        return min(sorted(self.widths), key=lambda at: uneven_mm(self.widths[at], self.kind.places))

    def measured(self, values_s: Sequence[float]) -> AdvanceEstimate:
        """What the widths of the lines next to the evenest show. values_s: of every line.

        Raises:
            NoZero: they show nothing.
        """
        middle = self.evenest()
        nearest = sorted(self.widths, key=lambda at: abs(at - middle))
        reach_s = self.kind.straight_fraction * values_s[middle]
        lines = sorted({*nearest[:FITTED], *(at for at in nearest if abs(values_s[at] - values_s[middle]) <= reach_s)})
        estimate = evenest(
            [values_s[at] for at in lines],
            [self.widths[at] for at in lines],
            self.kind.places,
            INSTRUMENTS["callipers"].placing_mm / math.sqrt(3),
        )
        within = values_s[0] < estimate.advance_s < values_s[-1]  # perhaps beyond what was measured: it was printed
        return replace(estimate, at_end=0) if within else estimate

    @property
    def seen(self) -> AdvanceEstimate | None:
        """What the looks make together."""
        return together(self.picks) if self.picks else None


async def advance_lines(bench: Bench, aim: AdvanceParameters) -> TrialResult:
    """Print lines whose value rises, let the evenest be picked or widths be typed, look again under another lamp; what
    the eye chose and what widths show are both offered.
    """
    machine = bench.machine
    name, declared = material_of(machine, aim.material)
    before = number_or(bench.settings.shown("extruder.advance_s"), 0.0)
    layout = layout_of(machine, aim)
    with bench.aside():  # how far the filament is drawn back between lines does not matter to them
        program = lines_program(machine, layout)
    values = [line.value_s for line in layout.lines]
    places = [line.place for line in layout.lines]
    bench.record.rows(LINES.name, [(float(line.number), line.value_s, line.y) for line in layout.lines])
    printed = await print_pattern(
        bench,
        program,
        aim.material,
        places,
        f"Lines of {values[0]:g} to {values[-1]:g} s, the lowest at the front; the speed changes at the strokes.",
    )
    lines = layout.lines[: len(printed.done)]
    if len(lines) < LEAST_READ:
        raise TrialFailed(
            f"Only {len(lines)} lines were printed: {LEAST_READ} can be compared at the least.", StartAgain()
        )
    read = LinesRead(layout.kind)

    async def widths(into: LinesRead) -> None:
        await _measured(bench, layout, lines, into)

    offered = ToPick(
        f"Which line is even? Look {layout.kind.look_mm:g} mm behind each stroke{{lamp}}: too low a value leaves a "
        "bulge where it slows down and a thin piece where it speeds up, too high a value the reverse. Lift it off "
        "in one piece and hold it against the light. One line, or the first and the last that look even.",
        ReadLines(tuple(area_of(layout, line) for line in lines), layout.kind.look_mm),
        tuple(f"{line.value_s:.3f} s" for line in lines),
        tuple(line.value_s for line in lines),
        widths,
    )
    outside = "" if aim.by_widths else await picked(bench, offered, read)
    if aim.by_widths or outside == WIDTHS:
        outside = ""
        await _measured(bench, layout, lines, read)
    conditions: dict[str, float | str] = {"material": name, "nozzle_c": declared.nozzle_c}
    timed = printed.findings
    if outside:
        return outside_range(outside, values, conditions, timed)
    return concluded(name, before, values[: len(lines)], read, conditions, timed)


@dataclass(frozen=True)
class ToPick:
    """What an eye picks from: the question, to which the lamp is added; what is picked from; the value of each, s.

    widths: lets widths be typed, where they can be. model_fraction: as in ``from_pick``.
    """

    words: str
    cue: ReadLines | ReadTower
    labels: tuple[str, ...]
    values: tuple[float, ...]
    widths: Callable[[LinesRead], Awaitable[None]] | None = None
    model_fraction: float = MODEL_FRACTION


async def picked(bench: Bench, offered: ToPick, read: LinesRead) -> str:
    """Let values be picked, again and again; returns another answer than a pick, where that ends it."""
    lamp, typed = "", (WIDTHS,) if offered.widths is not None else ()
    while True:
        pick = Pick(offered.words.format(lamp=lamp), (BELOW, BEYOND, *typed), offered.cue, labels=offered.labels)
        answer = await bench.builder.ask(pick)
        if answer in pick.answers:
            return answer if answer == WIDTHS or not read.picks else ""
        first, last = pick.picked(answer)
        read.picks.append(estimate := from_pick(offered.values, first, last, offered.model_fraction))
        row = (offered.values[first], offered.values[last], estimate.advance_s, estimate.uncertainty_s)
        bench.record.row(PICKS.name, row)
        seen = read.seen or estimate
        looks = f"{len(read.picks)} looks together make " if len(read.picks) > 1 else "That makes "
        words = f"{looks}{with_uncertainty(seen.advance_s, seen.uncertainty_s)} s."
        answers = (THAT, AGAIN, *((ALSO,) if offered.widths is not None else ()))
        after = await bench.builder.ask(
            Confirm(f"{words} Another lamp often shows more.", answers, SettleOnPick(len(read.picks)))
        )
        if after == ALSO and offered.widths is not None:
            await offered.widths(read)
        if after != AGAIN:
            return ""
        lamp = ", under another lamp,"


async def _measured(bench: Bench, layout: LinesLayout, lines: Sequence[AdvanceLine], read: LinesRead) -> None:
    """Type the widths of lines: around what was picked, else over the whole range and then where they change over."""
    if read.seen is None:
        last = len(lines) - 1
        coarse = sorted({round(number * last / (COARSE - 1)) for number in range(COARSE)})
        await _read_widths(bench, layout, lines, read, coarse)
        middle = read.evenest()
        low = max((at for at in coarse if at < middle), default=middle)
        high = min((at for at in coarse if at > middle), default=middle)
        near = {round(low + (high - low) * part / (CLOSE + 1)) for part in range(1, CLOSE + 1)}
        await _read_widths(bench, layout, lines, read, sorted(near - set(coarse)))
    else:
        await _read_widths(bench, layout, lines, read, _around(lines, read.seen))
    for at, widths in sorted(read.widths.items()):
        bench.record.row(WIDTH_ROWS.name, (float(lines[at].number), lines[at].value_s, *widths))


async def _read_widths(
    bench: Bench, layout: LinesLayout, lines: Sequence[AdvanceLine], read: LinesRead, places: Sequence[int]
) -> None:
    former: FormerReading | None = None
    for at in places:
        line, mine = lines[at], list[float]()
        read.widths[at] = mine
        for place in layout.kind.places:
            asked = Measure(
                f"{line.place}: how wide is it {place.words}? Callipers, closed gently.",
                (),
                ReadLineWidth(area_of(layout, line), place),
                unit="mm",
                lowest=0.0,
                highest=WIDEST_MM,
            )
            mine.append(parse(await read_or_back(bench, asked, former), "mm"))
            former = FormerReading(asked, partial(_put, mine, len(mine) - 1))


def _put(widths: list[float], at: int, answer: str) -> None:
    widths[at] = parse(answer, "mm")


def _around(lines: Sequence[AdvanceLine], seen: AdvanceEstimate) -> list[int]:
    """Which lines are measured around what was picked, by their places."""
    last = len(lines) - 1
    count = min(MEASURED, len(lines))
    middle = min(range(len(lines)), key=lambda at: abs(lines[at].value_s - seen.advance_s))
    apart = max(1, min(last // (count - 1), round(2 * seen.uncertainty_s / (lines[1].value_s - lines[0].value_s))))
    low = max(0, min(middle - apart * (count // 2), last - apart * (count - 1)))
    return sorted({min(last, low + number * apart) for number in range(count)})


def area_of(layout: LinesLayout, line: AdvanceLine) -> LineArea:
    """Where a line lies, for whoever looks at it."""
    return LineArea(line.place, line.y, line.x)


def concluded(
    material: str,
    before: float,
    values: Sequence[float],
    read: LinesRead,
    conditions: dict[str, float | str],
    timed: Sequence[Finding],
    part: str = "line",
) -> TrialResult:
    """The value that picks and widths make. part: what a pattern's values are shown by, in words."""
    subject = {"material": material}
    findings, options, notes = list(timed), [], []
    measured: AdvanceEstimate | None = None
    if read.widths:
        try:
            measured = read.measured(values)
        except NoZero as error:
            notes.append(f"The widths show no value: {error}.")
    seen = read.seen
    best = measured if measured is not None and (seen is None or measured.uncertainty_s <= seen.uncertainty_s) else seen
    if best is None:
        again = StartAgain("measure more lines, or pick by eye")
        return TrialResult("failed", " ".join(notes), conditions, tuple(findings), remedies=(again,))
    findings.insert(0, _finding("advance", best, subject, SUBJECT_WORDS))
    for what, estimate, words in (("seen", seen, "by eye"), ("measured", measured, "by widths")):
        if estimate is not None:
            findings.append(_finding(what, estimate, subject, f"{SUBJECT_WORDS} {words}"))
            options.append(_option(f"as {what}", estimate, before, material, conditions))
    if len(options) == 2 and measured is not None and seen is not None:
        apart = abs(measured.advance_s - seen.advance_s)
        if apart > 2 * math.hypot(measured.uncertainty_s, seen.uncertainty_s):
            notes.append("What the eye chose and what the widths show differ by more than both can be off: look again.")
    words = f"{SUBJECT_WORDS.capitalize()} of {material}: {with_uncertainty(best.advance_s, best.uncertainty_s)} s."
    if best.spans:
        notes.append(
            f"From the first {part} to the last, {values[0]:g} to {values[-1]:g} s, all look even: the value lies "
            "somewhere among them."
        )
    elif best.at_end:
        end = "first" if best.at_end < 0 else "last"
        notes.append(f"That is at the {end} {part}: the right value may lie beyond it.")
    elif best.worth_finer:
        first, last, step = finer_range(best)
        notes.append(f"A finer bracket is worth it: {first:g} to {last:g} s in steps of {step:g} (f).")
    else:
        notes.append("A finer bracket would not narrow it.")
    chosen = "as measured" if best is measured else "as seen"
    remedies: tuple[Remedy, ...] = (_beyond(best.at_end, values),) if best.at_end else ()
    if best.spans:
        better = StartAgain("look under a better lamp, or type widths")
        remedies = (ChangeParameter("last_s", f"beyond {values[-1]:g} s"), better)
    outcome: Outcome = "failed" if remedies else "proven"
    return TrialResult(
        outcome, " ".join([words, *notes]), conditions, tuple(findings), tuple(options), chosen, remedies
    )


def _beyond(at_end: int, values: Sequence[float]) -> ChangeParameter:
    if at_end > 0:
        return ChangeParameter("last_s", f"beyond {values[-1]:g} s")
    return ChangeParameter("step_s", f"finer: the right value lies near {values[0]:g} s")


def outside_range(
    outside: str,
    values: Sequence[float],
    conditions: dict[str, float | str],
    timed: Sequence[Finding],
    part: str = "line",
) -> TrialResult:
    """The right value lies outside of what was printed, as whoever looked at it says."""
    if outside == BEYOND:
        why = f"The last {part}, {values[-1]:g} s, still bulges where it slows down: go on beyond it."
        return TrialResult("failed", why, conditions, tuple(timed), remedies=(_beyond(1, values),))
    why = f"The first {part}, {values[0]:g} s, is already thin where it slows down: the right value lies below it."
    low = ChangeParameter("first_s", f"below {values[0]:g} s") if values[0] > 0 else ByHand("clean the nozzle")
    return TrialResult(
        "failed", why, conditions, tuple(timed), remedies=(low, GoTo("extruder steps", "the feed first"))
    )


def _finding(what: str, estimate: AdvanceEstimate, subject: dict[str, str], words: str) -> Finding:
    return Finding(what, estimate.advance_s, estimate.uncertainty_s, "s", subject=subject, words=words)


def _option(
    name: str, estimate: AdvanceEstimate, before: float, material: str, conditions: dict[str, float | str]
) -> Option:
    after = round(max(0.0, estimate.advance_s), 4)
    effect = "even width through changes of speed"
    proposals = (
        Proposal("extruder.advance_s", before, after, "s", effect),
        Proposal(f"materials.{material}.advance_s", None, after, "s", f"for {material} at {conditions['nozzle_c']} °C"),
    )
    return Option(name, "then compare it with the old one (v)", proposals, {"advance": after})


class VerifyParameters(LinesParameters):
    """The old value and the new one, side by side."""

    old_s: float = setting("Value to compare with.", unit="s", low=0, high=3, default=0.0)


async def advance_verify(bench: Bench, aim: VerifyParameters) -> TrialResult:
    """Print lines of the old and of the live value in turns; which are more even is judged."""
    machine = bench.machine
    name, declared = material_of(machine, aim.material)
    new = number_of(bench, "extruder.advance_s")
    layout = pair_layout(machine, aim, new)
    with bench.aside():
        program = lines_program(machine, layout, "advance check")
    places = [line.place for line in layout.lines]
    printed = await print_pattern(bench, program, aim.material, places, "The old value and the new one, in turns.")
    lines = layout.lines[: len(printed.done)]
    conditions: dict[str, float | str] = {"material": name, "nozzle_c": declared.nozzle_c}
    if len(lines) < 2:
        raise TrialFailed("Only one line was printed: nothing to compare.", StartAgain())
    olds, news = lines[0::2], lines[1::2]
    asked = Confirm(
        f"Lines 1, 3, 5 have {aim.old_s:g} s, lines 2, 4, 6 have {new:g} s. Which are more even behind the strokes?",
        (NEW, OLD, ALIKE),
        ComparePair(
            tuple(area_of(layout, line) for line in olds),
            tuple(area_of(layout, line) for line in news),
            layout.kind.look_mm,
        ),
    )
    answer = await bench.builder.ask(asked)
    findings = (
        Finding("verified", new, None, "s", subject={"material": name}, words="pressure advance that was compared"),
    )
    if answer == NEW:
        return TrialResult("proven", f"{new:g} s is more even than {aim.old_s:g} s.", conditions, findings)
    if answer == ALIKE:
        why = f"No difference is seen between {new:g} and {aim.old_s:g} s: both do."
        return TrialResult("proven", why, conditions, findings)
    why = f"The old value, {aim.old_s:g} s, is more even than {new:g} s."
    back = Proposal("extruder.advance_s", new, aim.old_s, "s", "what was more even")
    kept = Proposal(f"materials.{name}.advance_s", new, aim.old_s, "s", "what was more even")
    option = Option("the old value", "what your eye chose", (back, kept), {"advance": aim.old_s})
    again = GoTo("advance", "print the lines again, under a better lamp", "advance-lines")
    return TrialResult("failed", why, conditions, findings, (option,), option.name, (again,))


PAIRS = 3


def pair_layout(machine: MachineFile, aim: VerifyParameters, new_s: float) -> LinesLayout:
    """Lines of the old value and of the new one, in turns."""
    if abs(new_s - aim.old_s) < LEAST_APART_S:
        raise TrialFailed(
            f"The live value, {new_s:g} s, is the one to compare with: there is nothing to compare.",
            ChangeParameter("old_s", "the value that was live before"),
        )
    span = aim.model_copy(update={"first_s": 0.0, "last_s": 2.0 * PAIRS - 1, "step_s": 1.0})
    layout = layout_of(machine, LinesParameters.model_construct(**span.model_dump()))
    lines = tuple(
        replace(line, value_s=aim.old_s if number % 2 == 0 else new_s) for number, line in enumerate(layout.lines)
    )
    return replace(layout, lines=lines)


def _lines_of(machine: MachineFile, aim: LinesParameters) -> tuple[LinesLayout, Program]:
    layout = layout_of(machine, aim)
    return layout, lines_program(machine, layout)


def plan_words(machine: MachineFile, layout: LinesLayout, program: Program, seconds: float) -> str:
    """What is printed, how long that takes, how much it weighs, what the extruder follows."""
    grams = grams_of(program, extruder_of(machine).filament_mm)
    caps = Caps(effective(machine))
    followed = followed_mm_s2(caps, machine, layout.stroke, layout.lines[-1].value_s)
    used = min(layout.acceleration_mm_s2, followed)
    held = (
        f" At {layout.lines[-1].value_s:g} s the extruder still follows {followed:.0f} mm/s²."
        if followed < layout.acceleration_mm_s2
        else ""
    )
    return (
        f"{len(layout.lines)} lines from {layout.lines[0].value_s:g} to {layout.lines[-1].value_s:g} s, in "
        f"{duration(seconds)}, {grams:.1f} g; {layout.stroke.mm_s:g} and {layout.fast_mm_s:g} mm/s, with {used:.0f} "
        f"mm/s² so that the pressure has time to show.{held}"
    )


def _announce(machine: MachineFile, aim: AdvanceParameters) -> str:
    from ublet.core.trial_times import program_s

    try:
        layout, program = _lines_of(machine, aim)
        before = pattern_words(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    return (
        f"{before} then prints {plan_words(machine, layout, program, program_s(machine, program))} The value that is "
        "live now is live again afterwards."
    )


def _needs(machine: MachineFile, aim: LinesParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return pattern_needs(machine, aim.material, read, lambda: f"{len(layout_of(machine, aim).lines)} lines")


def _lasts(machine: MachineFile, aim: LinesParameters, times: TrialTimes) -> float:
    try:
        return pattern_lasts(machine, aim.material, _lines_of(machine, aim)[1], times)
    except TrialFailed:
        return 0.0


def _announce_verify(machine: MachineFile, aim: VerifyParameters) -> str:
    try:
        before = pattern_words(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    new = extruder_of(machine).advance_s
    return (
        f"{before} then prints {2 * PAIRS} lines, {aim.old_s:g} s and the live value ({new:g} s) in turns; you say "
        "which are more even."
    )


def _verify_needs(machine: MachineFile, aim: VerifyParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    def shown() -> str:
        return f"{len(pair_layout(machine, aim, extruder_of(machine).advance_s).lines)} lines"

    return pattern_needs(machine, aim.material, read, shown)


def _verify_lasts(machine: MachineFile, aim: VerifyParameters, times: TrialTimes) -> float:
    try:
        layout = pair_layout(machine, aim, extruder_of(machine).advance_s)
        return pattern_lasts(machine, aim.material, lines_program(machine, layout), times)
    except TrialFailed:
        return 0.0


def figure_of(result: TrialResult) -> str:
    finding = result.finding("advance")
    return with_uncertainty(finding.value, finding.uncertainty or 0.0) if finding else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "advance-lines",
        "advance",
        "Lines whose pressure advance rises: you pick the even one, or type widths.",
        AdvanceParameters,
        advance_lines,
        (WAY, LINES, PICKS, WIDTH_ROWS),
        _announce,
        _needs,
        figure=figure_of,
        verify="advance-verify",
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs", "lines", "filament", "heat", "advance"),
        facts=facts("nozzle"),
        after="first layer",
    ),
    TrialSpec(
        "advance-verify",
        "advance",
        "Lines of the old value and the new one, in turns: which are more even?",
        VerifyParameters,
        advance_verify,
        (WAY,),
        _announce_verify,
        _verify_needs,
        figure=lambda result: "compared",
        asks=lambda aim: True,
        lasts=_verify_lasts,
        uses=moving("programs", "lines", "filament", "heat", "advance"),
        facts=facts("nozzle"),
        after="first layer",
    ),
)
