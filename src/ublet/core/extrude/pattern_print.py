"""Printing a pattern that is read afterwards: sheet, heat, homing, the print with a press that stops it, hands safe."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from ublet.core.acts import CleanSheet
from ublet.core.bench import Bench, Running
from ublet.core.extrude.melting import hotend_of, material_of, melt, melt_needs
from ublet.core.heat.demands import beds
from ublet.core.level.mesh.live import live_mesh
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.level.warmth import PrintWarmUp, warm_needs, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, home_axis, home_unhomed
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.program import ADVANCE, Program, SetAdvance, To, must_be_inside
from ublet.core.motion.running import followed
from ublet.core.observations import WatchProgram
from ublet.core.questions import Confirm, Live
from ublet.core.remedy import GoTo, StartAgain
from ublet.core.run import Checkpoint, Finding, Progress, TrialFailed
from ublet.core.settings import number_or
from ublet.core.trial import Need
from ublet.core.trial_times import TrialTimes, program_s

LIFT_MM, AWAY_MM, LIFT_MM_S = 10.0, 40.0, 6.0
HOLD, ON, STOP = "hold", "go on", "stop here"
END = "end"

READ_FRACTION = 0.95
"""Share of a trial that is done when its print is: reading it takes the rest."""

OFF_MESH_MM = 12.0
"""Largest distance outside a mesh at which the height of its edge is still good enough, mm."""


@dataclass(frozen=True)
class PatternPrinted:
    """How a pattern's print ended: the places that were finished, in their order; how the program ended; time that it
    took, s (None: it was held, stopped, or printed in an earlier run), and that was predicted for it.
    """

    done: tuple[str, ...]
    ended: str
    taken_s: float | None
    predicted_s: float = 0.0

    @property
    def findings(self) -> tuple[Finding, ...]:
        """The time that it took beside the one that was predicted."""
        if self.taken_s is None:
            return ()
        return (
            Finding("taken", self.taken_s, 0.25, "s", words="time that it took"),
            Finding("predicted", self.predicted_s, None, "s", words="time that was predicted"),
        )


def must_fit(program: Program, machine: MachineFile) -> None:
    """Raises TrialFailed where a program leaves the machine's limits."""
    axes = {name: axis_of(machine, name) for name in ("x", "y", "z")}
    limits = {name: (axis.minimum_mm, axis.maximum_mm) for name, axis in axes.items()}
    start = {"x": limits["x"][0], "y": limits["y"][0], "z": LIFT_MM}
    if why := must_be_inside(program, start, limits):
        raise TrialFailed(
            f"{why[0].upper()}{why[1:]}.",
            GoTo("travel limits", "where the nozzle may go"),
            StartAgain("with a smaller pattern"),
        )


def must_lie_on_mesh(program: Program, mesh: Mesh | None, start: Mapping[str, float]) -> None:
    """Raises TrialFailed where lines lie further outside of a live mesh than its edge can be trusted; the purge line
    may.
    """
    if mesh is None:
        return
    place, beyond = "", 0.0
    for segment, end in zip(program.segments, program.ends(start), strict=True):
        place = segment.place or place
        if not isinstance(segment, To) or not segment.filament or place == "purge line":
            continue
        outside = (mesh.x[0] - end["x"], end["x"] - mesh.x[-1], mesh.y[0] - end["y"], end["y"] - mesh.y[-1])
        beyond = max(beyond, *(float(mm) for mm in outside))
    if beyond > OFF_MESH_MM:
        raise TrialFailed(
            f"The pattern lies up to {beyond:.0f} mm outside of the live mesh, where nothing was measured: the bed may "
            "stand elsewhere there.",
            GoTo("bed mesh", "a mesh that covers it", "bed-mesh"),
            StartAgain("with a smaller pattern"),
        )


async def print_pattern(
    bench: Bench, program: Program, material: str, places: Sequence[str], words: str, cue: WatchProgram | None = None
) -> PatternPrinted:
    """Print a pattern from a clean sheet to its end, or until a press stops it; then everything goes off and the nozzle
    away. A run that was cut off while it printed is gone on with after the print: what lies there can still be read.

    places: what is printed, in its order. words: what one looks at meanwhile.

    Raises:
        TrialFailed: it does not fit, or something ended it before anything was printed.
    """
    if (before := bench.record.going_on) is not None:
        return PatternPrinted(tuple(places[: int(before.state["done"])]), "cut off", None)
    machine = bench.machine
    must_fit(program, machine)
    if machine.mesh is not None:
        must_lie_on_mesh(program, live_mesh(bench.settings.shown), {"x": 0.0, "y": 0.0, "z": LIFT_MM})
    name, declared = material_of(machine, material)
    await bench.builder.ask(
        Confirm("Take everything off the sheet and wipe it: it is printed there.", ("it is clean",), CleanSheet())
    )
    bench.motion.clear_at_the_end(LIFT_MM)
    await warm_up(bench, PrintWarmUp(material=name))
    await home_unhomed(bench, ("x", "y"))
    await home_axis(bench, "z")
    await melt(bench, hotend_of(machine), declared.nozzle_c, 0.05)
    table = bench.motion.timetable(program)
    held = False

    async def act(run: Running, used: str) -> bool:
        nonlocal held
        held = True
        await run.hold(used == HOLD)
        return True

    async def arrived(run: Running, segment: int) -> None:
        done = _done(places, run.going.place)
        if done >= 2:
            bench.record.checkpoint(Checkpoint(f"{done} of {len(places)} printed", {"done": done}))

    asked = Live(
        f"{words} F8 halts everything; what is printed until a stop can be read.",
        (STOP,),
        cue or WatchProgram(),
        {HOLD: "", ON: ""},
    )
    own = {ADVANCE: number_or(bench.settings.shown(ADVANCE), 0.0)} if sets_advance(program) else {}
    async with (
        bench.settings.borrowed(own),  # a host that sets it line by line may be killed: the ledger knows what was live
        bench.motion.run(table) as run,
        bench.builder.live(asked) as controls,
    ):
        changed = await followed(bench, table, run, controls, act, "printing", 0.0, arrived, asked=asked)
    ended = run.ended[0] if run.ended is not None else "stopped"
    whole = ended == "done"
    done = tuple(places) if whole else tuple(places[: _done(places, run.going.place)])
    taken = run.ended[1] - (run.begun_s or 0.0) if whole and not changed and run.ended is not None else None
    if not done:
        raise TrialFailed(
            f"It ended ({ended}) before anything was printed that can be read.",
            StartAgain(),
            outcome="halted" if ended == "stopped" else "failed",
        )
    await hands_safe(bench)
    bench.progress(Progress("to be read", READ_FRACTION, None, "the print is done" if whole else f"it ended: {ended}"))
    return PatternPrinted(done, ended, taken, table.seconds_from(program.places[0]))


def sets_advance(program: Program) -> bool:
    """Whether a program has a pressure advance of its own."""
    return any(isinstance(segment, SetAdvance) for segment in program.segments)


def _done(places: Sequence[str], place: str) -> int:
    """How many places are finished while one is printed."""
    if place == END:
        return len(places)
    return list(places).index(place) if place in places else 0


async def hands_safe(bench: Bench) -> None:
    """A hand comes near: the heaters go off, and the nozzle away from the sheet."""
    for heater in (hotend_of(bench.machine), *beds(bench.machine)):
        await bench.heat.off(heater)
    with bench.aside():
        here, highest = bench.motion.position("z"), axis_of(bench.machine, "z").maximum_mm
    if here is not None and here < min(AWAY_MM, highest):
        await bench.motion.go({"z": min(AWAY_MM, highest)}, LIFT_MM_S)


def pattern_needs(
    machine: MachineFile,
    material: str,
    read: Callable[[str], float | None],
    shown: Callable[[], str],
) -> tuple[Need, ...]:
    """What a printed pattern needs. shown: says what is printed.

    A pattern that does not fit is named by whoever raises TrialFailed in it.
    """
    try:
        words = shown()
        name, _ = material_of(machine, material)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    needs = (
        Need(words, True),
        *melt_needs(machine, material, read),
        *warm_needs(machine, PrintWarmUp(material=name), read),
        *motion_needs(machine, PrintWarmUp(material=name), read),
    )
    return tuple(dict.fromkeys(needs))


def pattern_words(machine: MachineFile, material: str) -> str:
    """What is heated and homed before, in words."""
    name, _ = material_of(machine, material)
    return f"{warm_words(machine, PrintWarmUp(material=name))} Homes X and Y if they are not, and Z anew;"


def pattern_lasts(machine: MachineFile, material: str, program: Program, times: TrialTimes) -> float:
    """How long it takes, s; 0 where it cannot be said."""
    name, _ = material_of(machine, material)
    warm_s = warming_s(machine, PrintWarmUp(material=name), times)
    return times.home_s(machine, ("x", "y")) + warm_s + times.axis_s(machine, "z") + program_s(machine, program)
