"""The trial *advance-tower*: a tower whose pressure advance rises with height; where it is even is picked."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.bench import Bench
from ublet.core.extrude.advance import TOWER_FRACTION
from ublet.core.extrude.advance_lines import grams_of, line_kind
from ublet.core.extrude.advance_tower import (
    FIRST_MM,
    NOTCH_EVERY_MM,
    AdvanceTowerParameters,
    TowerBand,
    TowerLayout,
    bands_done,
    tower_followed_mm_s2,
    tower_of,
    tower_program,
)
from ublet.core.extrude.advance_trials import (
    LEAST_READ,
    PICKS,
    LinesRead,
    ToPick,
    concluded,
    figure_of,
    outside_range,
    picked,
)
from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.extrude.pattern_print import pattern_lasts, pattern_needs, pattern_words, print_pattern
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.homing_moves import moving
from ublet.core.motion.running import WAY
from ublet.core.observations import BandArea, ReadTower
from ublet.core.remedy import StartAgain
from ublet.core.run import Stream, TrialFailed, TrialResult
from ublet.core.settings import number_or
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes, program_s
from ublet.core.units import duration

BANDS = Stream("bands", ("band", "advance_s", "height_mm"), ("", "s", "mm"))
"""The bands that were printed: the value in the middle of each, and where it begins."""


async def advance_tower(bench: Bench, aim: AdvanceTowerParameters) -> TrialResult:
    """Print a tower whose value rises with height, let the height at which its corners are even be picked, look again
    under another lamp.
    """
    machine = bench.machine
    name, declared = material_of(machine, aim.material)
    before = number_or(bench.settings.shown("extruder.advance_s"), 0.0)
    layout = tower_of(machine, aim)
    with bench.aside():
        program = tower_program(machine, layout)
    bench.record.rows(BANDS.name, [(float(band.number), band.value_s, band.low_mm) for band in layout.bands])
    printed = await print_pattern(
        bench,
        program,
        aim.material,
        [band.place for band in layout.bands],
        f"A tower, {layout.first_s:g} s at the bed and {layout.value_at(layout.high_mm):.3g} s at the top.",
    )
    bands = bands_done(layout, printed.done)
    if len(bands) < LEAST_READ:
        raise TrialFailed(f"Only {len(bands)} bands were printed: {LEAST_READ} at the least.", StartAgain())
    values = tuple(band.value_s for band in bands)
    offered = ToPick(
        f"At which height are the corners even? Look {layout.kind.tower_look_mm:g} mm behind each corner{{lamp}}: "
        "too low a value leaves a bulge where a slow side begins and a thin wall where a fast one begins, too high a "
        f"value the reverse. In front is a notch every {NOTCH_EVERY_MM:g} mm. One band, or the first and the last that "
        "look even.",
        tower_area(layout, bands),
        tuple(band.label for band in bands),
        values,
        model_fraction=TOWER_FRACTION,
    )
    read = LinesRead(line_kind(machine))
    outside = await picked(bench, offered, read)
    conditions: dict[str, float | str] = {"material": name, "nozzle_c": declared.nozzle_c}
    if outside:
        return outside_range(outside, values, conditions, printed.findings, "band")
    return concluded(name, before, values, read, conditions, printed.findings, "band")


def tower_area(layout: TowerLayout, bands: tuple[TowerBand, ...]) -> ReadTower:
    """Where a tower stands, for whoever looks at it. Its first layer is not looked at: it is pressed on, and slow."""
    above_mm = layout.stroke.height_mm / 2
    areas = tuple(
        BandArea(band.place, max(above_mm, band.low_mm - FIRST_MM), band.high_mm - FIRST_MM) for band in bands
    )
    return ReadTower(layout.x, layout.y, areas, layout.kind.tower_look_mm)


def _announce(machine: MachineFile, aim: AdvanceTowerParameters) -> str:
    try:
        layout = tower_of(machine, aim)
        before = pattern_words(machine, aim.material)
    except TrialFailed as missing:
        return str(missing)
    program = tower_program(machine, layout)
    grams = grams_of(program, extruder_of(machine).filament_mm)
    followed = tower_followed_mm_s2(Caps(effective(machine)), machine, layout)
    used = min(layout.kind.acceleration_mm_s2, followed)
    return (
        f"{before} then prints a tower {layout.high_mm:g} mm high in {duration(program_s(machine, program))}, "
        f"{grams:.1f} g: {layout.first_s:g} s at the bed, {layout.value_at(layout.high_mm):.3g} s at the top; sides of "
        f"{layout.stroke.mm_s:g} and {layout.fast_mm_s:g} mm/s, with {used:.0f} mm/s² so that the pressure has time to "
        "show. The value that is live now is live again afterwards."
    )


def _needs(machine: MachineFile, aim: AdvanceTowerParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return pattern_needs(machine, aim.material, read, lambda: f"a tower {tower_of(machine, aim).high_mm:g} mm high")


def _lasts(machine: MachineFile, aim: AdvanceTowerParameters, times: TrialTimes) -> float:
    try:
        return pattern_lasts(machine, aim.material, tower_program(machine, tower_of(machine, aim)), times)
    except TrialFailed:
        return 0.0


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "advance-tower",
        "advance",
        "A tower whose pressure advance rises with height: you pick where its corners are even.",
        AdvanceTowerParameters,
        advance_tower,
        (WAY, BANDS, PICKS),
        _announce,
        _needs,
        figure=figure_of,
        verify="advance-verify",
        asks=lambda aim: True,
        lasts=_lasts,
        uses=moving("programs", "lines", "filament", "heat", "advance"),
        facts=facts("nozzle"),
        after="first layer",
        idle=lambda machine: "lines show the same with less filament",
    ),
)
