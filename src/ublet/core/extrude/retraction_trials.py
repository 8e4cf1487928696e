"""The trial of the station *retraction*: posts whose retraction rises, judged for strings and for gaps."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ublet.core.bench import Bench
from ublet.core.extrude.advance_lines import grams_of, is_tube
from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.extrude.pattern_print import pattern_lasts, pattern_needs, pattern_words, print_pattern
from ublet.core.extrude.retraction import (
    LONGEST_MM,
    POST_MM,
    STRINGS,
    VERDICTS,
    PostPair,
    RetractionParameters,
    pairs_of,
    posts_program,
    shortest_clean,
)
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving
from ublet.core.motion.running import WAY
from ublet.core.observations import JudgePosts, PostArea
from ublet.core.questions import Judge
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, Remedy, StartAgain
from ublet.core.run import Finding, Option, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes, program_s
from ublet.core.units import duration

POSTS = Stream("posts", ("pair", "length_mm", "speed_mm_s", "verdict"), ("", "mm", "mm/s", ""))
"""Every pair as it was judged: its retraction, and the verdict by its number (0 clean)."""


async def retraction(bench: Bench, aim: RetractionParameters) -> TrialResult:
    """Print pairs of posts whose retraction rises, and let each be judged: the shortest that is clean is proposed."""
    machine = bench.machine
    name, declared = material_of(machine, aim.material)
    setting = "extruder.retract_mm" if aim.rises == "length" else "extruder.retract_mm_s"
    before = bench.settings.shown(setting)
    pairs = pairs_of(machine, aim)
    with bench.aside():
        program, own = posts_program(machine, pairs, aim.layers), declared.retract_mm
    places = [pair.place for pair in pairs]
    printed = await print_pattern(
        bench,
        program,
        aim.material,
        places,
        f"Pairs of posts, the front ones with the least {aim.rises}; look for strings between them.",
    )
    done = pairs[: len(printed.done)]
    unit = "mm" if aim.rises == "length" else "mm/s"
    values = [pair.length_mm if aim.rises == "length" else pair.mm_s for pair in done]
    question = Judge(
        "Look between the two posts of each pair for strings, and where each line of a post begins for a gap.",
        (),
        JudgePosts(tuple(area_of(pair) for pair in done)),
        columns=len(done),
        rows=1,
        verdicts=VERDICTS,
        names=tuple(f"{value:g} {unit}" for value in values),
    )
    (verdicts,) = await bench.builder.judge(question)
    for pair, verdict in zip(done, verdicts, strict=True):
        row = (float(pair.number), pair.length_mm, pair.mm_s, float(VERDICTS.index(verdict)))
        bench.record.row(POSTS.name, row)
    held: dict[str, float | str] = {"material": name, "nozzle_c": declared.nozzle_c}
    estimate = shortest_clean(values, verdicts)
    if estimate is None:
        return _none_clean(aim, machine, values, verdicts, held, printed.findings)
    subject = {"material": name}
    words = "shortest clean retraction" if aim.rises == "length" else "slowest clean retraction"
    what = "retraction" if aim.rises == "length" else "retraction_speed"
    finding = Finding(what, estimate.value, estimate.uncertainty, unit, subject=subject, words=words)
    why = f"{words.capitalize()} for {name}: {estimate.value:g} {unit}."
    if estimate.at_end:
        why += " The first pair is clean already: less may do as well."
    proposals = [Proposal(setting, before, estimate.value, unit, "no strings, no gap after")]
    if aim.rises == "length":
        kept = Proposal(f"materials.{name}.retract_mm", own, estimate.value, "mm", f"for {name}")
        proposals.append(kept)
    option = Option(
        "shortest clean", "shorter wears the filament less", tuple(proposals), {"retraction": estimate.value}
    )
    return TrialResult("proven", why, held, (finding, *printed.findings), (option,), option.name)


def area_of(pair: PostPair) -> PostArea:
    """Where a pair lies, for whoever looks at it."""
    return PostArea(pair.place, pair.y, pair.left_x, pair.right_x, POST_MM)


def _none_clean(
    aim: RetractionParameters,
    machine: MachineFile,
    values: Sequence[float],
    verdicts: Sequence[str],
    held: dict[str, float | str],
    timed: tuple[Finding, ...],
) -> TrialResult:
    longest = LONGEST_MM[is_tube(machine)]
    remedies: tuple[Remedy, ...]
    if verdicts[-1] == STRINGS and (aim.rises == "speed" or values[-1] < longest):
        why = f"Even {values[-1]:g} leaves strings: go on beyond it."
        remedies = (ChangeParameter("last", f"beyond {values[-1]:g}"),)
    else:
        why = "No pair is clean: too hot, damp filament, or a worn nozzle leave strings at any retraction."
        remedies = (
            ChangeSetting(f"materials.{held['material']}.nozzle_c", "some degrees cooler"),
            ByHand("dry the filament; look at the nozzle’s hole"),
            StartAgain(),
        )
    return TrialResult("failed", why, held, timed, remedies=remedies)


def _announce(machine: MachineFile, aim: RetractionParameters) -> str:
    try:
        pairs = pairs_of(machine, aim)
        before = pattern_words(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    program = posts_program(machine, pairs, aim.layers)
    grams = grams_of(program, extruder_of(machine).filament_mm)
    of = (pairs[0].length_mm, pairs[-1].length_mm, "mm")
    of = of if aim.rises == "length" else (pairs[0].mm_s, pairs[-1].mm_s, "mm/s")
    return (
        f"{before} then prints {len(pairs)} pairs of posts, drawn back by {of[0]:g} to {of[1]:g} {of[2]} between them, "
        f"in {duration(program_s(machine, program))}, {grams:.1f} g; you judge strings and gaps."
    )


def _needs(machine: MachineFile, aim: RetractionParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return pattern_needs(machine, aim.material, read, lambda: f"{len(pairs_of(machine, aim))} pairs")


def _lasts(machine: MachineFile, aim: RetractionParameters, times: TrialTimes) -> float:
    try:
        program = posts_program(machine, pairs_of(machine, aim), aim.layers)
        return pattern_lasts(machine, aim.material, program, times)
    except TrialFailed:
        return 0.0


def _figure(result: TrialResult) -> str:
    finding = result.finding("retraction") or result.finding("retraction_speed")
    return f"{finding.value:g} {finding.unit}" if finding is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "retraction",
        "retraction",
        "Pairs of posts whose retraction rises: the shortest without strings and gaps.",
        RetractionParameters,
        retraction,
        (WAY, POSTS),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs", "lines", "filament", "heat"),
        facts=facts("nozzle"),
        after="first layer",
    ),
)
