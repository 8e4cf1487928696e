"""The truth behind the trials of the leg Extrude: what filament really does."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.extrude.advance_lines import LinesParameters, followed_mm_s2, layout_of
from ublet.core.extrude.advance_tower import AdvanceTowerParameters, tower_of
from ublet.core.extrude.flow import SHORT
from ublet.core.extrude.flow_trials import SLOW_MM_S, FlowParameters
from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.extrude.trials import ExtruderParameters
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.geometry import extruder_steps_per_mm
from ublet.core.motion.patterns import Stroke, filament_for
from ublet.core.run import TrialFailed
from ublet.core.settings import Value
from ublet.world.assembly import assemble
from ublet.world.extrude import FASTEST_MM_S, ExtruderTruth
from ublet.world.line_truth import LaidPath, LineLaid, LoopLaid, evenest_advance_s, laid_widths
from ublet.world.mechanics import EXTRUDER, MotorTruth
from ublet.world.motion_truth import number_in_force
from ublet.world.roots import rising_root
from ublet.world.scenario import Scenario


def flow_truth(scenario: Scenario, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """The flow at which 5 % less goes in than slowly, with the steps and the current that are in force on arrival."""
    chosen, declared = FlowParameters.model_validate(dict(aim)), extruder_of(machine)
    motor = next((motor for motor in assemble(scenario, machine).motors.values() if motor.role == EXTRUDER), None)
    if motor is None:
        return {}
    truth, (name, material) = scenario.extruder.truth(), material_of(machine, chosen.material)
    amps = number_in_force(scenario, "extruder.motor.run_a", declared.motor.run_a)
    steps = number_in_force(scenario, "extruder.steps_per_mm", declared.steps_per_mm or extruder_steps_per_mm(declared))
    times = steps / (motor.full_steps * (motor.microsteps or declared.motor.microsteps) / motor.turn_mm)

    def fed(mm_s: float, celsius: float) -> float:
        return truth.delivered(mm_s * times, celsius, motor.force_n(amps, mm_s * times))

    def limit(celsius: float) -> float:
        slow = fed(SLOW_MM_S, celsius)
        mm_s = rising_root(lambda mm_s: 1 - fed(mm_s, celsius) / slow - SHORT, SLOW_MM_S, FASTEST_MM_S)
        return mm_s * math.pi * declared.filament_mm**2 / 4

    truths = {f"flow_limit.{name}": limit(material.nozzle_c)}
    if chosen.hotter_c:
        truths[f"flow_limit_hotter.{name}"] = limit(material.nozzle_c + chosen.hotter_c)
    return truths


def printed_line(
    machine: MachineFile, stretches: Sequence[tuple[float, float]], stroke: Stroke, mm_s2: float
) -> LineLaid:
    """A straight line as a machine prints it: stretches of a length, mm, and a speed, mm/s; mm_s2 between them."""
    extruder, caps = extruder_of(machine), Caps(effective(machine))
    return LineLaid(
        stretches,
        filament_for(1.0, stroke, extruder.filament_mm),
        stroke.height_mm,
        mm_s2,
        extruder.retract_mm,
        lambda advance_s: followed_mm_s2(caps, machine, stroke, advance_s),
    )


def evenest_line_s(scenario: Scenario, machine: MachineFile, aim: LinesParameters) -> float:
    """The pressure advance at which the lines of these parameters are evenest on a machine, s."""
    layout = layout_of(machine, aim)
    begin, fast, slow, _ = layout.lines[0].x
    slow_mm_s, fast_mm_s = layout.slow_mm_s, layout.fast_mm_s
    stretches = ((fast - begin, slow_mm_s), (slow - fast, fast_mm_s), (layout.kind.slow_mm, slow_mm_s))
    line = printed_line(machine, stretches, layout.stroke, layout.acceleration_mm_s2)
    return laid_on(scenario, machine, aim.material, line).evenest_s(2 * layout.lines[-1].value_s)


def evenest_tower_s(scenario: Scenario, machine: MachineFile, aim: AdvanceTowerParameters) -> float:
    """The pressure advance at which a layer of the tower of these parameters is evenest on a machine, s."""
    layout, extruder = tower_of(machine, aim), extruder_of(machine)
    stroke, sides = layout.stroke, layout.sides()
    loop = LoopLaid(
        sides[-1][:2],
        [(x, y, layout.fast_mm_s if is_fast else stroke.mm_s) for x, y, is_fast in sides],
        filament_for(1.0, stroke, extruder.filament_mm),
        stroke.height_mm,
        Caps(effective(machine)),
        layout.kind.acceleration_mm_s2,
    )
    return laid_on(scenario, machine, aim.material, loop).evenest_s(2 * layout.bands[-1].value_s)


@dataclass(frozen=True)
class LaidOn:
    """A way that a machine lays: its melt, its motor, temperature and current (°C, A), the way."""

    truth: ExtruderTruth
    motor: MotorTruth
    melt: tuple[float, float]
    path: LaidPath

    def widths(self, advance_s: float) -> NDArray[np.float64]:
        """Place along it and width with a pressure advance, n rows, mm."""
        return laid_widths(self.truth, self.motor, self.melt, self.path, advance_s)

    def evenest_s(self, most_s: float) -> float:
        """The pressure advance, up to a largest one, at which it is evenest, s."""
        return evenest_advance_s(self.truth, self.motor, self.melt, self.path, most_s)


def laid_on(scenario: Scenario, machine: MachineFile, named: str, path: LaidPath) -> LaidOn:
    """A way as a machine lays it from a material, with the current that is in force on arrival."""
    (_, material), extruder = material_of(machine, named), extruder_of(machine)
    motor = next(motor for motor in assemble(scenario, machine).motors.values() if motor.role == EXTRUDER)
    amps = number_in_force(scenario, "extruder.motor.run_a", extruder.motor.run_a)
    return LaidOn(scenario.extruder.truth(), motor, (material.nozzle_c, amps), path)


def lines_truth(scenario: Scenario, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """The pressure advance at which the printed lines are evenest."""
    own = {name: value for name, value in aim.items() if name in LinesParameters.model_fields}
    chosen = LinesParameters.model_validate(own)
    return _advance(machine, chosen, lambda: evenest_line_s(scenario, machine, chosen))


def tower_truth(scenario: Scenario, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """The pressure advance at which the printed tower is evenest."""
    chosen = AdvanceTowerParameters.model_validate(dict(aim))
    return _advance(machine, chosen, lambda: evenest_tower_s(scenario, machine, chosen))


def _advance(machine: MachineFile, aim: LinesParameters, search: Callable[[], float]) -> dict[str, float]:
    try:
        value_s, (name, _) = search(), material_of(machine, aim.material)
    except TrialFailed:  # what was not printed has no truth
        return {}
    return {f"{what}.{name}": value_s for what in ("advance", "seen", "measured")}


def piece_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """By how much a printed piece shrinks, and by how many degrees the skew that motion leaves it is off."""
    corrected = number_in_force(scenario, "motion.skew_deg", machine.motion.skew_deg)
    printed = scenario.printed
    return {"shrinks": printed.shrinks_percent / 100, "skew": printed.skew_deg - corrected}


def filament_truth(scenario: Scenario, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """Steps per mm where nothing slips; the share of what is commanded that goes in when it is pushed slowly, and by
    what share the fast push falls short of that, with the steps and the current that are in force on arrival.
    """
    chosen, declared = ExtruderParameters.model_validate(dict(aim)), extruder_of(machine)
    motor = next((motor for motor in assemble(scenario, machine).motors.values() if motor.role == EXTRUDER), None)
    if motor is None:
        return {}
    truth, (_, material) = scenario.extruder.truth(), material_of(machine, chosen.material)
    amps = number_in_force(scenario, "extruder.motor.run_a", declared.motor.run_a)
    true = motor.full_steps * (motor.microsteps or declared.motor.microsteps) / motor.turn_mm
    times = (
        number_in_force(scenario, "extruder.steps_per_mm", declared.steps_per_mm or extruder_steps_per_mm(declared))
        / true
    )

    def goes_in(mm_s: float) -> float:
        """Share of what is commanded that goes in."""
        if motor.open or amps < motor.least_a or truth.spool_mm <= 0:
            return 0.0
        return times * truth.delivered(mm_s * times, material.nozzle_c, motor.force_n(amps, mm_s * times))

    slow, fast = goes_in(chosen.slow_mm_s), goes_in(chosen.fast_mm_s)
    return {
        "steps_per_mm.e": true,
        "went_in.e": slow,
        **({"short_fast.e": 1 - fast / slow} if slow > 0 else {}),
    }
