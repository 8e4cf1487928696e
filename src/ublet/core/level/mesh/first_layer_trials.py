"""The trial of the station *first layer*: patches that are nudged while they are printed, and judged afterwards."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from ublet.core.acts import CleanSheet
from ublet.core.arrays import Point
from ublet.core.bench import Bench, Running
from ublet.core.extrude.melting import hotend_of, material_of, melt, melt_needs
from ublet.core.extrude.pattern_print import hands_safe
from ublet.core.level.mesh.first_layer import (
    BARE,
    GOOD,
    HIGH,
    LOW,
    VERDICTS,
    WINDOW_MM,
    FirstLayer,
    LayerShape,
    PatchVerdict,
    first_layer,
    places_of,
)
from ublet.core.level.mesh.live import CORRECTION, FOLLOWS, HEIGHTS, SHIFT, corrected, live_correction, live_mesh
from ublet.core.level.probe.offset_trials import offset_live, offset_proposals, offset_setting, side_words
from ublet.core.level.reach import senses
from ublet.core.level.support.screws import turns_to_level
from ublet.core.level.support.tramming import Tramming, screw_controls
from ublet.core.level.warmth import PrintWarmUp, conditions, warm_needs, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, home_axis, home_unhomed, number_of
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.patterns import Patch, patches
from ublet.core.motion.program import Program, must_be_inside
from ublet.core.motion.running import WAY, followed
from ublet.core.observations import ConfirmNearer, JudgePatches, PatchArea, WatchFirstLayer
from ublet.core.questions import Confirm, Judge, Live
from ublet.core.remedies import level_first
from ublet.core.remedy import ByHand, ChangeParameter, GoTo, StartAgain
from ublet.core.run import Finding, Option, Outcome, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes, program_s
from ublet.core.words import several

MUCH_MM = 0.1
"""Patches that ask for so much after a Z offset that was touched may show wrong extruder steps instead, mm."""

FLOW_MM = 0.15
"""While extruder steps are not measured, lines that look good may stand at another height by so much, standard, mm:
with half or twice the filament they close half a layer nearer or a whole one further.
"""

NUDGES_MM = (0.05, 0.01)
"""Steps of a nudge, mm."""

NEARER = {f"nearer {mm:g}": -mm for mm in NUDGES_MM}
FURTHER = {f"further {mm:g}": mm for mm in reversed(NUDGES_MM)}
BY_MM = {**NEARER, **FURTHER}
"""Controls that nudge, and by how much: more negative is nearer to the bed."""

HOLD, ON, STOP = "hold", "go on", "stop"
NEARER_STILL, STAY = "nearer", "stay"
LEAST_CLEARANCE_MM = 0.05
"""Nearer than this to the bed's highest point the nozzle is nudged only after a question, mm."""
LIFT_MM, DIFFERS_MM = 10.0, 0.01
LAST = "end"
RISES_MM = 0.02
"""Where Z homes to an endstop the bed may have risen so far with its frame's warmth since it was touched, standard, mm.
"""

AS_JUDGED, AS_NUDGED, LEAVE, AS_CORRECTION = "as judged", "as nudged", "leave it", "as a correction"
LEAST_PLACES = 4

TURN_WORDS = " A corner that differs: turn its screw by an eighth and press its letter, the capital for back."
TURNED = Stream("turned", ("time_s", "patch", "screw", "raises_mm"), ("s", "", "", "mm"))
"""Every eighth of a turn of a screw: when, in which patch, which screw by its number, how far the bed rose there."""

NUDGED = Stream("nudged", ("time_s", "patch", "by_mm", "total_mm"), ("s", "", "mm", "mm"))
"""Every nudge: when, in which patch (counted from 0), by how much, and what it makes in all."""

JUDGED = Stream("judged", ("patch", "x_mm", "y_mm", "nudge_mm", "verdict"), ("", "mm", "mm", "mm", ""))
"""Every patch as it was judged: its place, what it was nudged by at its last lines, and the verdict by its number (0
too high, 1 good, 2 too low, 3 bare).
"""


class LayerParameters(LayerShape):
    """What is printed, and of which material."""

    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )
    tramming: bool = setting(
        "Screws of the bed may be turned while it prints, each entered by its letter.", default=True
    )


async def print_first_layer(bench: Bench, aim: LayerParameters) -> TrialResult:
    """Print patches with controls beside them that nudge the height; let each be judged; fold what was nudged and
    judged into the Z offset. Every nudge is kept with what it would mean for the offset as soon as it is made.
    """
    machine = bench.machine
    name, _ = material_of(machine, aim.material)
    program = program_of(machine, aim)
    places = places_of(machine, aim)
    fold = Fold(bench)
    bound = NudgeBound(bench, fold, aim.layer_mm)
    screws = dict(machine.bed.screws) if aim.tramming else {}
    tramming, by_screw = Tramming(screws), screw_controls(screws)
    await bench.builder.ask(
        Confirm("Take everything off the sheet and wipe it: patches are printed there.", ("it is clean",), CleanSheet())
    )
    bench.motion.clear_at_the_end(LIFT_MM)
    await warm_up(bench, PrintWarmUp(material=name))
    await home_unhomed(bench, ("x", "y"))
    await home_axis(bench, "z")  # warm as it is now: the bed has moved since, and so has whatever shows its end
    await melt(bench, hotend_of(machine), machine.materials[name].nozzle_c, 0.05)
    table = bench.motion.timetable(program)
    nudges: dict[str, float] = {}
    names = [patch.name for patch in places]

    async def act(run: Running, used: str) -> bool:
        if used in (HOLD, ON):
            await run.hold(used == HOLD)
            return True
        if used == STAY:
            controls.ask(asked)
            return False
        place = run.going.place
        if used in by_screw:
            at = names.index(place) if place in names else len(names) if place == LAST else 0
            tramming.turn(by_screw[used], at)
            number = float(list(screws).index(by_screw[used].screw))
            bench.record.row(TURNED.name, (bench.clock.now_s(), float(at), number, by_screw[used].raises_mm))
            bench.report_fact("screw", by_screw[used].screw)
            return False
        by_mm = bound.wanted_mm - run.going.height_mm if used == NEARER_STILL else BY_MM[used]
        total = round(run.going.height_mm + by_mm, 4)
        if used == NEARER_STILL:
            bound.lower_to(total)
        elif bound.forbids(total):
            bound.wanted_mm = total
            controls.ask(bound.question(total))
            return False
        refused = await run.nudge(by_mm)
        if refused or used == NEARER_STILL:
            controls.ask(replace(asked, text=f"Not nudged: {refused}. {asked.text}") if refused else asked)
        if refused:
            return False
        nudges[place] = total
        row = (bench.clock.now_s(), float(names.index(place) if place in names else -1), by_mm, total)
        bench.record.row(NUDGED.name, row)
        bench.record.found(_nudged(total), option=fold.option(AS_NUDGED, total))
        return False

    asked = Live(
        "Look at the lines while they are laid: gaps mean too high, ridges too low. Nearer to the bed or further "
        f"from it, by the numbers.{TURN_WORDS if by_screw else ''} F8 halts everything; what was nudged is kept "
        "whatever ends it.",
        (STOP,),
        WatchFirstLayer(aim.width_mm),
        {
            **{word: "−" if mm < 0 else "+" for word, mm in BY_MM.items()},
            HOLD: "",
            ON: "",
            **{word: control.does for word, control in by_screw.items()},
        },
        acts={word: control.act for word, control in by_screw.items()},
    )
    async with bench.motion.run(table) as run, bench.builder.live(asked) as controls:
        await followed(bench, table, run, controls, act, "first layer", asked=asked)
    done = _printed(places, run)
    total = run.going.height_mm
    if not done:
        how = run.ended[0] if run.ended is not None else "stopped"
        words = f"nudged by {total:+.2f} mm; that can be folded into the offset" if total else "nothing was nudged"
        raise TrialFailed(
            f"No patch was finished ({how}): {words}.",
            StartAgain("nudge further, or begin higher"),
            outcome="halted" if how == "stopped" else "failed",
        )
    held = conditions(bench)
    await hands_safe(bench)
    judged = await _judged(bench, done, nudges, tramming, aim)
    ended = await _concluded(bench, fold, bound, judged, total, held, len(done) < len(places))
    return _with_turns(ended, tramming)


def program_of(machine: MachineFile, shape: LayerShape) -> Program:
    """The program that is printed.

    Raises:
        TrialFailed: there is no room for it, or no extruder.
    """
    try:
        program = patches(machine, places_of(machine, shape), shape.stroke)
    except ValueError as error:
        raise TrialFailed(
            f"{str(error)[0].upper()}{str(error)[1:]}.", ChangeParameter("side_mm", "smaller patches")
        ) from error
    axes = {name: axis_of(machine, name) for name in ("x", "y", "z")}
    limits = {name: (axis.minimum_mm, axis.maximum_mm) for name, axis in axes.items()}
    start = {"x": limits["x"][0], "y": limits["y"][0], "z": LIFT_MM}  # it first goes up from wherever it stands
    if why := must_be_inside(program, start, limits):
        raise TrialFailed(
            f"{why[0].upper()}{why[1:]}.",
            ChangeParameter("side_mm", "smaller patches"),
            GoTo("travel limits", "where the nozzle may go"),
        )
    return program


class NudgeBound:
    """How near to the bed the nozzle may be nudged without a question, and which offsets may be offered.

    Where the live mesh is followed the nozzle keeps the layer's height over every place of it; where it is not, its
    highest point counts. wanted_mm: the nudge in all that the open question is about.
    """

    def __init__(self, bench: Bench, fold: Fold, layer_mm: float) -> None:
        followed = bench.settings.shown(FOLLOWS) is True
        self._highest_mm = 0.0 if fold.mesh is None or followed else max(0.0, float(fold.mesh.heights.max()))
        self._layer_mm = layer_mm
        self._lowest_mm = max(-layer_mm, LEAST_CLEARANCE_MM + self._highest_mm - layer_mm)
        self.wanted_mm = 0.0

    def forbids(self, total_mm: float) -> bool:
        """Whether a nudge in all, mm, is nearer than the builder has allowed."""
        return total_mm < self._lowest_mm - 1e-6

    def lower_to(self, total_mm: float) -> None:
        """The builder looked, and allows it this near."""
        self._lowest_mm = min(self._lowest_mm, total_mm)

    def question(self, total_mm: float) -> Live:
        """Whether to go nearer, put beside the print that goes on."""
        left = self._layer_mm + total_mm - self._highest_mm
        where = "the bed's highest point" if self._highest_mm else "the bed"
        stands = (
            f"{left:.2f} mm above {where}" if left >= 0.005 else f"on or below {where}, by {max(0.0, -left):.2f} mm"
        )
        return Live(
            f"Nudged by {total_mm:+.2f} mm in all the nozzle would stand {stands}, if the Z offset is right. Go nearer "
            "only if you see a gap below the nozzle. The print goes on.",
            (STOP,),
            ConfirmNearer(),
            {NEARER_STILL: f"{total_mm:+.2f} mm in all", STAY: "as it is"},
            once=True,
        )


def setting_nudged(machine: MachineFile, meshed: bool) -> str:
    """The setting that a nudge goes into. meshed: whether a mesh is live."""
    return SHIFT if meshed and not senses(machine) else offset_setting(machine)


class Fold:
    """What a nudge is folded into: the Z offset; where no probe senses the bed and a mesh is live, its shift."""

    def __init__(self, bench: Bench) -> None:
        self.mesh = mesh = live_mesh(bench.settings.live) if bench.machine.mesh is not None else None
        self.correction_before = bench.settings.live(CORRECTION) if mesh is not None else None
        self.into = setting_nudged(bench.machine, mesh is not None)
        self.before = number_of(bench, self.into)
        if self.into != SHIFT:
            self.before = offset_live(bench.machine, bench.settings.live)
        self._bench = bench
        self.known_u_mm: float | None = None
        with bench.aside():
            touched = bench.record.earlier("z-offset")
            offset = touched.finding("offset") if touched is not None else None
            if offset is not None:
                self.known_u_mm = offset.uncertainty
                if self.known_u_mm is not None and not senses(bench.machine):
                    self.known_u_mm = math.hypot(self.known_u_mm, RISES_MM)

    def correction(self, places: Sequence[Point], wanted_mm: Sequence[float]) -> Option | None:
        """To let what the patches want lie on the live mesh; None: there is none, or the patches lie in one line."""
        if self.mesh is None or len(places) < LEAST_PLACES or np.ptp(np.array(places), axis=0).min() < 1.0:
            return None
        before = self.correction_before
        old = live_correction(lambda path: before, self.mesh)
        heights = corrected(places, wanted_mm, self.mesh, old)
        after = tuple(tuple(float(mm) for mm in row) for row in heights)
        effect = "lies on the measured mesh, apart from it; empty takes it away"
        proposal = Proposal(CORRECTION, before, after, "mm", effect)
        return Option(AS_CORRECTION, "print again to confirm", (proposal,), {"most": float(np.abs(heights).max())})

    def option(self, name: str, by_mm: float) -> Option:
        """To fold so much in."""
        after = round(self.before + by_mm, 3)
        effect = f"the first layer comes {side_words(by_mm)}; more negative is nearer"
        note = "home Z again" if self.into != SHIFT else "the live mesh is shifted"
        if name == AS_NUDGED:
            note = f"what your eye chose while it was printed; {note}"
        elif name == AS_JUDGED:
            note = f"what the verdicts on the patches ask for together; {note}"
        proposals: tuple[Proposal, ...] = (Proposal(self.into, self.before, after, "mm", effect),)
        if self.into != SHIFT:
            proposals = offset_proposals(self._bench.machine, self._bench.settings.shown, after, effect)
        return Option(name, f"{note}, then print again to confirm", proposals, {"change": by_mm})


def _nudged(total_mm: float) -> Finding:
    return Finding("nudged", total_mm, NUDGES_MM[-1] / 2, "mm", words="nudged while it was printed")


def _printed(places: Sequence[Patch], run: Running) -> list[Patch]:
    """The patches that were finished, in their order."""
    names = [patch.name for patch in places]
    if run.going.place == LAST or (run.ended is not None and run.ended[0] == "done"):
        return list(places)
    return list(places[: names.index(run.going.place)]) if run.going.place in names else []


def _with_turns(result: TrialResult, tramming: Tramming) -> TrialResult:
    """The same with what was turned meanwhile: the mesh is that of the bed as it was before."""
    if not (raised := tramming.raised_mm()):
        return result
    turned = several([f"{name} by {mm:+.2f} mm" for name, mm in raised.items()])
    why = f"{result.why} Screws were turned while it printed ({turned}), which is counted. Measure the mesh anew."
    findings = tuple(
        Finding("turned", mm, None, "mm", subject={"screw": name}, words="raised by its screw")
        for name, mm in raised.items()
    )
    remedies = (*(remedy for remedy in result.remedies if remedy != MESH_FIRST), MESH_FIRST)
    return replace(result, why=why, findings=(*result.findings, *findings), remedies=remedies)


async def _judged(
    bench: Bench, done: Sequence[Patch], nudges: dict[str, float], tramming: Tramming, aim: LayerShape
) -> list[PatchVerdict]:
    """Let every patch be judged; with what it was nudged by at its end, seen from the bed as it is now: where a screw
    raised it since, the nozzle had stood higher over it.
    """
    question = Judge(
        "The heaters are off. Feel the last lines of each patch: lines that stand apart "
        "or come off are too high, ridges too low. Bare is one on which nothing stuck.",
        (),
        JudgePatches(
            aim.width_mm,
            tuple(PatchArea(drilled.name, drilled.x, drilled.y, drilled.wide, drilled.deep) for drilled in done),
        ),
        columns=len(done),
        rows=1,
        verdicts=VERDICTS,
        names=tuple(drilled.name for drilled in done),
    )
    (verdicts,) = await bench.builder.judge(question)
    judged, total = [], nudges.get("purge line", nudges.get("lift", 0.0))
    for number, (patch, verdict) in enumerate(zip(done, verdicts, strict=True)):
        total = nudges.get(patch.name, total)
        judged.append(PatchVerdict(patch, total + tramming.since_mm(number, patch.place), verdict))
        bench.record.row(JUDGED.name, (float(number), patch.x, patch.y, total, float(VERDICTS.index(verdict))))
    return judged


MESH_FIRST = GoTo("bed mesh", "probe the mesh anew", "bed-mesh")


async def _concluded(
    bench: Bench,
    fold: Fold,
    bound: NudgeBound,
    judged: Sequence[PatchVerdict],
    total_mm: float,
    held: dict[str, float],
    stopped: bool,
) -> TrialResult:
    options = [fold.option(AS_NUDGED, total_mm)] if total_mm else []
    nudged_to = AS_NUDGED if options else ""
    leave = (Option(LEAVE, "the offset stays", (), {}),) if options else ()
    bare = [patch.patch.name for patch in judged if patch.verdict == BARE]
    nothing = f" Nothing stuck at {', '.join(bare)}: is there filament, is the sheet clean?" if bare else ""
    if len(bare) == len(judged):
        why = f"No patch can be judged.{nothing}"
        clean = ByHand("clean the sheet; look whether filament comes out")
        return TrialResult("failed", why, held, (_nudged(total_mm),), tuple(options), nudged_to, (clean, StartAgain()))
    fitted = await bench.compute(first_layer, judged, fold.known_u_mm)
    with bench.aside():
        measured = bench.machine.extruder is None or bench.record.earlier("extruder-steps") is not None
    left_u = fitted.left_u_mm if measured else math.hypot(fitted.left_u_mm, FLOW_MM)
    findings = [
        Finding("change", fitted.wanted_mm, fitted.wanted_u_mm, "mm", words="change that is wanted"),
        Finding("left", fitted.left_mm, left_u, "mm", words="left at what was printed last"),
        _nudged(total_mm),
        Finding("printed_at", round(fold.before + total_mm, 4), None, "mm", words=f"{fold.into} of what was printed"),
        Finding("patches", float(len(judged) - len(bare)), words="patches judged"),
    ]
    left = f"{fitted.wanted_mm:+.3f} ±{2 * fitted.wanted_u_mm:.3f} mm"
    notes = " It was stopped before its end; the patches that were done are judged." if stopped else ""
    if not measured and abs(fitted.wanted_mm) >= MUCH_MM:
        notes += (
            " Extruder steps are not measured yet: too much filament looks too low, too little too high. Measure them "
            "first (station extruder steps), then print again."
        )
    if fitted.verdict == "shape":
        why = f"The patches differ as no offset and no tilt explains: probe the bed again.{nothing}{notes}"
        judgeable = [patch.patch.place for patch in judged if patch.verdict != BARE]
        if (layer := fold.correction(judgeable, fitted.each_mm)) is not None:
            why += (
                " If it was just probed, a correction can lie on the mesh: what is printed on is not what was sensed."
            )
            options.append(layer)
        return TrialResult("failed", why, held, tuple(findings), tuple(options), nudged_to, (MESH_FIRST,))
    if fitted.verdict == "tilt":
        why = f"The corners differ from the middle as a tilt does: {_turns(bench.machine, fitted)}{nothing}{notes}"
        ways_out = (level_first(bench.machine), MESH_FIRST)
        return TrialResult("failed", why, held, tuple(findings), tuple(options), nudged_to, ways_out)
    if fitted.verdict == "good":
        why = f"All good as it is ({left}): the offset stays.{nothing}{notes}"
        return TrialResult("proven", why, held, tuple(findings))
    at_last = [patch.verdict for patch in judged if patch.verdict != BARE and patch.nudge_mm == judged[-1].nudge_mm]
    fits = abs(fitted.left_mm) <= WINDOW_MM and 2 * at_last.count(GOOD) >= len(at_last)
    outcome: Outcome = "proven" if fits else "failed"
    most = max((HIGH, LOW), key=at_last.count)
    unresolved = abs(fitted.wanted_mm) <= 2 * fitted.wanted_u_mm
    if unresolved and outcome == "failed" and not total_mm and 2 * at_last.count(most) > len(at_last):
        nearer = "nearer" if most == HIGH else "further"
        why = (
            f"{at_last.count(most)} of {len(at_last)} patches are {most}. By how much cannot be felt: beyond a little, "
            f"all look alike. Print again and nudge {nearer}, by the keys, until the lines close; what you chose is "
            f"offered then.{nothing}{notes}"
        )
        again = (StartAgain(f"and nudge {nearer} while it prints"),)
        return TrialResult(outcome, why, held, tuple(findings), (*leave, *options), LEAVE if leave else "", again)
    if unresolved:
        nudged = f"Nudged by {total_mm:+.2f} mm, but what" if total_mm else "What"
        do = "leave it" if outcome == "proven" else "too few of them are good to call it done; print again"
        why = f"{nudged} the patches ask for ({left}) is below what inspection resolves: {do}.{nothing}{notes}"
        begin = () if outcome == "proven" else (StartAgain("begin nearer to what the patches ask for"),)
        return TrialResult(outcome, why, held, tuple(findings), (*leave, *options), LEAVE if leave else "", begin)
    why = f"Nudged by {total_mm:+.2f} mm; the patches ask for {left}, {side_words(fitted.wanted_mm)}."
    if bound.forbids(fitted.wanted_mm):
        why += " That is nearer to the bed than was seen to be safe: it is not offered; print again and nudge."
    elif not total_mm or abs(fitted.wanted_mm - total_mm) >= DIFFERS_MM:
        options.insert(0, fold.option(AS_JUDGED, round(fitted.wanted_mm, 3)))
    if not options:
        nudge = StartAgain("nudge further while it prints")
        return TrialResult("failed", why, held, tuple(findings), remedies=(nudge,))
    after = options[0].proposals[0].after
    why += f" {fold.into} {fold.before:.3f} becomes {after:.3f}.{nothing}{notes}"
    return TrialResult(outcome, why, held, tuple(findings), (*options, *leave), options[0].name)


def _turns(machine: MachineFile, layer: FirstLayer) -> str:
    """What mends a tilt on this machine."""
    assert layer.plane is not None
    screws = machine.bed.screws
    if len(machine.axes.z.motors) > 1 or len(screws) < 3:
        return "square the bed again (station lead screws), and probe the mesh after that."
    turns = turns_to_level(screws, layer.plane)
    turns_words = "; ".join(f"{name}: {turn.words}" for name, turn in turns.items())
    return f"{turns_words}. Then touch off the Z offset and measure the mesh anew."


def _needs(machine: MachineFile, aim: LayerParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    try:
        places = places_of(machine, aim)
        name, _ = material_of(machine, aim.material)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    needs = (
        Need(f"{len(places)} places", True),
        *melt_needs(machine, aim.material, read),
        *warm_needs(machine, PrintWarmUp(material=name), read),
        *motion_needs(machine, aim, read),
    )
    return tuple(dict.fromkeys(needs))  # the hotend's warmth is asked for twice


def _announce(machine: MachineFile, aim: LayerParameters) -> str:
    try:
        places = places_of(machine, aim)
        name, _ = material_of(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    what = (
        f"a stripe of {places[0].deep:g} mm from left to right"
        if aim.tries == "stripe"
        else f"{len(places)} patches of {aim.side_mm:g} mm: the middle, then the corners"
    )
    warm = warm_words(machine, PrintWarmUp(material=name))
    return (
        f"{warm} Homes X and Y if they are not, and Z anew, then prints a purge line and {what}, {aim.layer_mm:g} mm "
        f"high, following the live mesh ({HEIGHTS})."
    )


def _figure(result: TrialResult) -> str:
    left = result.finding("left")
    return f"{round(left.value, 2) + 0.0:+.2f} ±{2 * (left.uncertainty or 0.0):.2f}" if left is not None else ""


def _lasts(machine: MachineFile, aim: LayerParameters, times: TrialTimes) -> float:
    try:
        name, _ = material_of(machine, aim.material)
        program = program_of(machine, aim)
    except TrialFailed:
        return 0.0
    warm_s = warming_s(machine, PrintWarmUp(material=name), times)
    return times.home_s(machine, ("x", "y")) + warm_s + times.axis_s(machine, "z") + program_s(machine, program)


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "first-layer",
        "first layer",
        "Patches that you nudge while they are printed and judge afterwards: the height that prints.",
        LayerParameters,
        print_first_layer,
        (WAY, NUDGED, TURNED, JUDGED),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=lambda machine: ("motion", "programs", "lines", "filament", "heat"),
        verify="first-layer",
        mends=True,
        idle=lambda machine: "" if machine.extruder is not None else "this machine has no extruder",
        facts=facts("surface", "nozzle", "moved", "screw"),
    ),
)
