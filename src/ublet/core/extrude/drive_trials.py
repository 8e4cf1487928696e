"""The trial *drive-change*: another drive for the filament, as one proposal of everything that belongs together."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from ublet.core.bench import Bench
from ublet.core.extrude.advance_lines import proposed_range
from ublet.core.extrude.melting import extruder_of
from ublet.core.machine.schema import MachineFile
from ublet.core.machine.tool_parts import Extruder
from ublet.core.motion.geometry import extruder_steps_per_mm
from ublet.core.observations import LookAround
from ublet.core.questions import Confirm
from ublet.core.remedy import ByHand, ChangeParameter, GoTo
from ublet.core.run import Finding, Option, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, Value, number_or, setting
from ublet.core.trial import Need, TrialSpec

CHANGES = Stream("changes", ("number", "before", "after"), ("", "", ""))
"""Every setting that goes with the drive, by its number in the proposal from 1: what it was, and what it is then."""

DRIVE_PATHS = frozenset(
    {"extruder.tube_mm", "extruder.hob_mm", "extruder.gear_ratio", "extruder.motor.run_a"},
)
"""What makes it another drive; everything else only follows."""

MOUNTED, NOT_YET = "it is mounted", "not yet"

DIRECT_RETRACT_MM, TUBE_RETRACT_MM, RETRACT_A_TUBE, LONGEST_RETRACT_MM = 0.8, 4.0, 1 / 400, 6.0
"""Where retraction is begun with: direct; through a tube, with what each mm of it adds, and the most, mm."""

DIRECT_BACK_MM_S, TUBE_BACK_MM_S = 30.0, 40.0


class DriveParameters(Part):
    """The drive that is there from now on."""

    tube_mm: float = setting(
        "Length of the tube from now on; 0: it pushes right into the hotend.",
        zero="direct",
        unit="mm",
        low=0,
        high=2000,
        default=0.0,
    )
    hob_mm: float = setting(
        "Diameter of its gear where it grips; 0: as it was.", zero="as it was", unit="mm", low=0, high=50, default=0.0
    )
    gear_ratio: float = setting(
        "Motor turns for one turn of that gear; 0: as it was.", zero="as it was", low=0, high=100, default=0.0
    )
    run_a: float = setting(
        "Current of its motor: a small one on the head wants less; 0: as it was.",
        zero="as it was",
        unit="A",
        low=0,
        high=6,
        default=0.0,
    )


@dataclass(frozen=True)
class DriveSetting:
    """A setting that goes with a drive: its path, what it was, what it is with the new one, its unit, and why."""

    path: str
    before: Value
    after: Value
    unit: str
    why: str


def drive_settings(extruder: Extruder, aim: DriveParameters) -> tuple[DriveSetting, ...]:
    """Everything that belongs to another drive and differs from what is declared and live."""
    live_steps_per_mm = extruder.steps_per_mm or extruder_steps_per_mm(extruder)
    hob, gear = aim.hob_mm or extruder.hob_mm, aim.gear_ratio or extruder.gear_ratio
    geared = extruder.model_copy(update={"hob_mm": hob, "gear_ratio": gear})
    same_gear = math.isclose(hob, extruder.hob_mm) and math.isclose(gear, extruder.gear_ratio)
    steps = live_steps_per_mm if same_gear else round(extruder_steps_per_mm(geared), 3)
    direct, moved = not aim.tube_mm, bool(aim.tube_mm) != bool(extruder.tube_mm)
    retract = DIRECT_RETRACT_MM if direct else min(LONGEST_RETRACT_MM, TUBE_RETRACT_MM + RETRACT_A_TUBE * aim.tube_mm)
    wanted = (
        DriveSetting("extruder.tube_mm", extruder.tube_mm, aim.tube_mm, "mm", "how far the gear is from the hotend"),
        DriveSetting("extruder.hob_mm", extruder.hob_mm, hob, "mm", "the gear that grips"),
        DriveSetting("extruder.gear_ratio", extruder.gear_ratio, gear, "", "motor turns for one of the gear"),
        DriveSetting("extruder.steps_per_mm", live_steps_per_mm, steps, "steps/mm", "by the new gear: measure it then"),
        DriveSetting("extruder.motor.run_a", extruder.motor.run_a, aim.run_a or extruder.motor.run_a, "A", "its motor"),
        DriveSetting(
            "extruder.retract_mm",
            extruder.retract_mm,
            round(retract, 2) if moved or aim.tube_mm != extruder.tube_mm else extruder.retract_mm,
            "mm",
            "to begin with: short and stiff" if direct else "to begin with: the tube gives way",
        ),
        DriveSetting(
            "extruder.retract_mm_s",
            extruder.retract_mm_s,
            (DIRECT_BACK_MM_S if direct else TUBE_BACK_MM_S) if moved else extruder.retract_mm_s,
            "mm/s",
            "its speed",
        ),
        DriveSetting("extruder.load_mm", extruder.load_mm, 0.0, "mm", "by the tube, and no longer by the old one"),
        DriveSetting("extruder.unload_mm", extruder.unload_mm, 0.0, "mm", "by the tube, and no longer by the old one"),
        DriveSetting("extruder.advance_s", extruder.advance_s, 0.0, "s", "that of the old drive; find it anew"),
    )
    return tuple(change for change in wanted if change.before != change.after)


def changed_drive(machine: MachineFile, aim: DriveParameters) -> tuple[DriveSetting, ...]:
    """The same for a machine; live values are those that it shows.

    Raises:
        TrialFailed: there is no extruder, or it is the drive that is declared.
    """
    extruder = extruder_of(machine)
    changes = drive_settings(extruder, aim)
    if DRIVE_PATHS.isdisjoint(change.path for change in changes):
        raise TrialFailed(
            f"That is the drive that is declared: {drive_words(extruder.tube_mm)}.",
            ChangeParameter("tube_mm", "the length of the new tube" if not aim.tube_mm else "0 for a direct drive"),
            ChangeParameter("hob_mm", "the diameter of another gear"),
        )
    return changes


def drive_words(tube_mm: float) -> str:
    """What a drive is called."""
    return f"through a tube of {tube_mm:g} mm" if tube_mm else "direct, without a tube"


async def drive_change(bench: Bench, aim: DriveParameters) -> TrialResult:
    """Nothing moves: what goes with another drive is shown and proposed as one change; that another mass moves is
    entered as a fact.
    """
    with bench.aside():
        machine = bench.machine
        changes, was = changed_drive(machine, aim), extruder_of(machine).tube_mm
    mounted = Confirm(
        f"Mount the new drive: {drive_words(aim.tube_mm)}. Its motor stays plugged in at the same socket.",
        (MOUNTED, NOT_YET),
        LookAround(),
    )
    if await bench.builder.ask(mounted) == NOT_YET:
        raise TrialFailed("The new drive is not mounted yet.", ByHand("mount it, then begin again"))
    if bool(aim.tube_mm) != bool(was):
        bench.report_fact("load")
    for number, of in enumerate(changes, start=1):
        bench.record.row(CHANGES.name, (float(number), number_or(of.before, 0.0), number_or(of.after, 0.0)))
    proposals = tuple(Proposal(of.path, of.before, of.after, of.unit, of.why) for of in changes)
    option = Option("the new drive", "all of it belongs together", proposals, {})
    declared = machine.model_copy(update={"extruder": extruder_of(machine).model_copy(update={"tube_mm": aim.tube_mm})})
    name = next(iter(machine.materials), "")
    words = ""
    if name:
        last, step = proposed_range(declared, name)
        words = f" Pressure advance is looked for from 0 to {last:g} s in steps of {step:g}."
    drive = drive_words(aim.tube_mm)
    why = (
        f"{drive[0].upper()}{drive[1:]}: {len(changes)} settings go with it; keep "
        f"them together, then measure the feed, the flow limit, pressure advance and retraction.{words}"
    )
    finding = Finding("drive", aim.tube_mm, None, "mm", words="tube of the drive")
    then = GoTo("extruder steps", "measure the new gear's feed first", "extruder-steps")
    return TrialResult("proven", why, {"tube_mm": aim.tube_mm}, (finding,), (option,), option.name, (then,))


def _announce(machine: MachineFile, aim: DriveParameters) -> str:
    try:
        count = len(changed_drive(machine, aim))
    except TrialFailed as same:
        return str(same)
    return (
        f"Nothing moves or heats. You mount the new drive, {drive_words(aim.tube_mm)}; {count} settings that belong to "
        "it are proposed as one change. What no longer holds by it stands beside it."
    )


def _needs(machine: MachineFile, aim: DriveParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    try:
        changes = changed_drive(machine, aim)
    except TrialFailed as same:
        return (Need(str(same), False),)
    return (Need(f"{len(changes)} settings go with it", True),)


def _figure(result: TrialResult) -> str:
    finding = result.finding("drive")
    return f"{finding.value:g} mm" if finding is not None and finding.value else "direct"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "drive-change",
        "extruder steps",
        "Another drive for the filament: everything that belongs together as one proposal.",
        DriveParameters,
        drive_change,
        (CHANGES,),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        lasts=lambda machine, aim, times: 1.0,
        uses=lambda machine: (),
        idle=lambda machine: "it is there for whoever changes the drive",
    ),
)
