"""The trial *own print*: a text of ISO 6983 from any program, checked whole, then printed with controls beside it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from ublet.core.bench import Bench, Running
from ublet.core.extrude.melting import hotend_of, material_of, melt, melt_needs
from ublet.core.extrude.piece_trials import (
    AWAY,
    CLOSER,
    FASTER,
    HOLD,
    NUDGE_MM,
    ON,
    SLOWER,
    STOP,
    THICKER,
    THINNER,
    change_program,
)
from ublet.core.heat.demands import beds
from ublet.core.heat.start import part_fan, reach
from ublet.core.level.mesh.first_layer_trials import AS_NUDGED, LEAST_CLEARANCE_MM, Fold
from ublet.core.level.warmth import PrintWarmUp, warm_needs, warm_up
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_axis, home_unhomed, moving
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.print_plan import HOT, PrintPlan, resumed, timetable_of
from ublet.core.motion.print_text import PrintAction
from ublet.core.motion.program import Timetable
from ublet.core.motion.running import WAY, followed
from ublet.core.observations import WatchProgram
from ublet.core.questions import Confirm, Live
from ublet.core.remedies import material_remedy
from ublet.core.remedy import ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import Checkpoint, Finding, Option, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import duration, show

NAMED_PROBLEMS = 3
"""Most of a text's problems that the reason names; all of them stand in the plan."""

FAN_FROM_LAYER = 1
"""Where the text says nothing of a fan, the material's fan runs from this layer on (0: the first)."""

LIFT_MM = 10.0


class OwnPrintParameters(Part):
    """Which text is printed, of which material."""

    file: str = setting("Text of the print: a file with its path.", zero="none yet", default="")
    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )


@dataclass
class _TextActions:
    """What the text does besides motion, as far as it has been done: number of the next action; fan of the material."""

    plan: PrintPlan
    offset: int
    fan_duty: float | None
    next: int = 0


async def own_print(bench: Bench, aim: OwnPrintParameters) -> TrialResult:
    """Read and check the whole text; home, heat, soak; print it, layer by layer, with controls beside it. What was
    nudged meanwhile is offered. One that was cut off can be gone on with at the layer where it ended, while the axes
    still know where they stand.
    """
    machine = bench.machine
    if not aim.file:
        raise TrialFailed("Which text is to be printed is not said yet.", ChangeParameter("file", "a path"))
    name, material = material_of(machine, aim.material)
    plan = await bench.prints.plan(aim.file, name)
    _must_fit(plan, machine)
    before = bench.record.going_on
    first = _layer_to_go_on_with(bench, plan)
    fold = Fold(bench)
    if before is None:
        await bench.builder.ask(
            Confirm("Take everything off the sheet and wipe it: it is printed there.", ("it is clean",))
        )
    bench.motion.clear_at_the_end(LIFT_MM + (plan.layers[first].z_mm if plan.layers else 0.0))
    nozzle_c, bed_c = _first_temperatures(plan, material.nozzle_c, material.bed_c)
    if before is None:
        await warm_up(bench, PrintWarmUp(material=name, bed_c=bed_c))
        await home_unhomed(bench, ("x", "y"))
        await home_axis(bench, "z")
    else:
        for bed in beds(machine):
            await reach(bench, bed, bed_c, 0.02)
    await melt(bench, hotend_of(machine), nozzle_c, 0.05)
    retract = machine.extruder.retract_mm if machine.extruder is not None else 0.0
    table = timetable_of(plan, "print") if before is None else resumed(plan, plan.layers[first].first, LIFT_MM, retract)
    return await _printed(bench, plan, table, fold, material.fan, first)


async def _printed(
    bench: Bench, plan: PrintPlan, table: Timetable, fold: Fold, fan_duty: float, first: int
) -> TrialResult:
    offset = len(table.program.segments) - (len(plan.text.moves) - (plan.layers[first].first if first else 0))
    start = plan.layers[first].first if first else 0
    own_fan = any(action.does == "fan" for action in plan.text.actions)
    changes = _TextActions(plan, offset - start, None if own_fan else fan_duty)
    changes.next = sum(action.move <= start for action in plan.text.actions)
    lowest_mm = LEAST_CLEARANCE_MM - (plan.layers[0].z_mm if plan.layers else 0.0)

    async def act(run: Running, used: str) -> bool:
        if used == CLOSER and run.going.height_mm - NUDGE_MM < lowest_mm:
            text = f"Not nudged: less than {LEAST_CLEARANCE_MM:g} mm would be left of the first layer. {asked.text}"
            controls.ask(replace(asked, text=text))
            return False
        changed = await change_program(run, used)
        if used in (CLOSER, AWAY):
            total = run.going.height_mm
            bench.record.found(_nudged(total), option=fold.option(AS_NUDGED, total))
        return changed

    async def arrived(run: Running, segment: int) -> None:
        await _follow_text(bench, changes, run, segment)

    asked = Live(
        "It prints. Nearer to the bed or further from it, slower or faster, more or less filament: by the numbers. "
        "Stop parks the nozzle; F8 halts everything.",
        (STOP,),
        WatchProgram(),
        {
            CLOSER: f"{NUDGE_MM:g} mm",
            AWAY: f"{NUDGE_MM:g} mm",
            HOLD: "",
            ON: "",
            SLOWER: "10 %",
            FASTER: "10 %",
            THICKER: "5 %",
            THINNER: "5 %",
        },
    )
    async with bench.motion.run(table) as run, bench.builder.live(asked) as controls:
        changed = await followed(bench, table, run, controls, act, "printing", 0.0, arrived, asked=asked)
    ended = run.ended[0] if run.ended is not None else "stopped"
    total = run.going.height_mm
    options: tuple[Option, ...] = (fold.option(AS_NUDGED, total),) if total else ()
    findings = [_nudged(total)] if total else []
    words = [f"It was nudged by {total:+.2f} mm; that is offered for the next print." if total else ""]
    if run.going.flow != 1:
        words.append(
            f"Flow stood at {100 * run.going.flow:.0f} %: station extruder steps finds what is wrong with the feed."
        )
    if ended != "done":
        layer = plan.layer_at(run.going.segment - changes.offset)
        why = f"Stopped in layer {layer + 1} of {len(plan.layers)} ({ended}); the nozzle is parked. {' '.join(words)}"
        again = StartAgain("while everything is still in its place", goes_on=True)
        raise TrialFailed(why.strip(), again, outcome="halted" if ended == "stopped" else "failed")
    taken = run.ended[1] - (run.begun_s or 0.0) if run.ended is not None else 0.0
    findings += [
        Finding("taken", taken, 0.25, "s", words="time that it took"),
        Finding("predicted", table.seconds, None, "s", words="time that was predicted"),
        Finding("layers", float(len(plan.layers)), words="layers"),
        Finding("starved", float(run.going.starved), words="times that the queue ran dry"),
    ]
    starved = f" The queue ran dry {run.going.starved} times: the line is too slow for it." if run.going.starved else ""
    late = "" if changed else f", {abs(taken - table.seconds):.0f} s from what was predicted"
    why = f"Printed: {len(plan.layers)} layers in {duration(taken)}{late}.{starved} {' '.join(words)}"
    return TrialResult("proven", why.strip(), {}, tuple(findings), options, AS_NUDGED if options else "")


def _nudged(total_mm: float) -> Finding:
    return Finding("nudged", total_mm, NUDGE_MM / 2, "mm", words="nudged while it was printed")


async def _follow_text(bench: Bench, changes: _TextActions, run: Running, segment: int) -> None:
    """Do what the text says besides motion, up to the move that has begun; note each layer as a place to go on from."""
    plan, move = changes.plan, segment - changes.offset
    layer = plan.layer_at(move)
    if layer >= 0 and plan.layers[layer].first == move:
        state = {"layer": layer, "moves": len(plan.text.moves), "filament_mm": plan.filament_mm}
        bench.record.checkpoint(Checkpoint(f"layer {layer + 1} of {len(plan.layers)}", state))
        fan = part_fan(bench.machine)
        if changes.fan_duty is not None and fan is not None and layer >= FAN_FROM_LAYER:
            await bench.heat.fan(fan, changes.fan_duty)
            changes.fan_duty = None
    actions = plan.text.actions
    while changes.next < len(actions) and actions[changes.next].move <= move:
        await _act(bench, run, actions[changes.next])
        changes.next += 1


async def _act(bench: Bench, run: Running, action: PrintAction) -> None:
    """One thing that the text does besides motion; where it waits for a temperature the print is held meanwhile."""
    if action.does == "fan":
        if (fan := part_fan(bench.machine)) is not None:
            await bench.heat.fan(fan, min(1.0, max(0.0, action.value)))
        return
    if action.does not in HOT:
        return
    heaters = [hotend_of(bench.machine)] if HOT[action.does] == "nozzle" else list(beds(bench.machine))
    waits = action.does.endswith("wait") and action.value > 0
    if waits:
        await run.hold(True)
    for heater in heaters:
        if action.value <= 0:
            continue  # the end of the trial switches it off, once the nozzle is away
        await (reach(bench, heater, action.value, 0.5) if waits else bench.heat.warm(heater, action.value))
    if waits:
        await run.hold(False)


def _first_temperatures(plan: PrintPlan, nozzle_c: float, bed_c: float) -> tuple[float, float]:
    """What the text itself sets before its first line, else what the material has, °C."""
    first = plan.layers[0].first if plan.layers else 0
    for action in plan.text.actions:
        if action.move <= first and action.value > 0:
            part = HOT.get(action.does)
            nozzle_c = action.value if part == "nozzle" else nozzle_c
            bed_c = action.value if part == "bed" else bed_c
    return nozzle_c, bed_c


def _must_fit(plan: PrintPlan, machine: MachineFile) -> None:
    if plan.fits:
        return
    named = [f"line {problem.line}: {problem.text}" for problem in plan.problems[:NAMED_PROBLEMS]]
    more = len(plan.problems) - len(named)
    rest = f"; and {more} more" if more > 0 else ""
    raise TrialFailed(
        f"It does not fit this machine: {'; '.join(named)}{rest}. Nothing moved.",
        ChangeParameter("file", "a text that fits"),
        material_remedy(machine),
        ChangeSetting("program.words", "what words of your own do"),
    )


def _layer_to_go_on_with(bench: Bench, plan: PrintPlan) -> int:
    """The layer that an earlier run stopped in; 0 for a run from the beginning.

    Raises:
        TrialFailed: it is another text by now, or the axes do not know any more where they stand.
    """
    before = bench.record.going_on
    if before is None:
        return 0
    state = before.state
    if state["moves"] != len(plan.text.moves) or abs(state["filament_mm"] - plan.filament_mm) > 1e-3:
        raise TrialFailed("The text is another one than the run that stopped had.", StartAgain("from its beginning"))
    with bench.aside():
        lost = [axis.upper() for axis in ("x", "y", "z") if bench.motion.position(axis) is None]
    if lost:
        raise TrialFailed(
            f"{', '.join(lost)} no longer know where they stand: homing Z would run into the print.",
            StartAgain("from its beginning, with a clean sheet"),
        )
    return int(state["layer"])


def _needs(machine: MachineFile, aim: OwnPrintParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    named = Need("a text to print" if aim.file else "no text is named yet: f names one", bool(aim.file))
    try:
        _, material = material_of(machine, aim.material)
    except TrialFailed as missing:
        return (named, Need(str(missing), False))
    warm = warm_needs(machine, PrintWarmUp(bed_c=material.bed_c), read)
    return (named, *melt_needs(machine, aim.material, read), *warm, *motion_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: OwnPrintParameters) -> str:
    try:
        name, material = material_of(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    if not aim.file:
        return "Reads a text of ISO 6983 whole and checks it; then homes, heats and prints it."
    return (
        f"Reads {aim.file} whole and checks it; homes X and Y where they are not, heats for {name} (nozzle "
        f"{material.nozzle_c:g}, bed {material.bed_c:g} °C, or what the text says), homes Z and prints."
    )


def _figure(result: TrialResult) -> str:
    layers = result.finding("layers")
    return f"{layers.value:.0f} layers" if layers is not None else show(0.0, "")


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "own-print",
        "test piece",
        "A print of your own: a text of ISO 6983 read whole, checked, timed and printed, changed while it runs.",
        OwnPrintParameters,
        own_print,
        (WAY,),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        uses=moving("programs", "lines", "filament", "heat"),
        idle=lambda machine: "it is there for whoever wants to print",
        after="first layer",
    ),
)
