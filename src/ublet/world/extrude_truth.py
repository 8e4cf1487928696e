"""The truth behind the trials of the leg Extrude: what filament really does."""

from __future__ import annotations

import math
from collections.abc import Mapping

from ublet.core.extrude.flow import SHORT
from ublet.core.extrude.flow_trials import SLOW_MM_S, FlowParameters
from ublet.core.extrude.melting import extruder_of, material_of
from ublet.core.extrude.trials import ExtruderParameters
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.geometry import extruder_steps_per_mm
from ublet.core.settings import Value
from ublet.world.assembly import assemble
from ublet.world.extrude import FASTEST_MM_S
from ublet.world.mechanics import EXTRUDER
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
