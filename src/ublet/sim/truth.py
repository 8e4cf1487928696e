"""The truth behind a trial, from the scenario: what perfect instruments would find."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.sim.heat import linearise, loss_w
from ublet.sim.motion_truth import limits_truth, steps_truth, travel_truth
from ublet.sim.scenario import Scenario


def heater_truth(scenario: Scenario, machine: MachineFile, heater: str, target_c: float) -> dict[str, float]:
    """The plant of a heater, linearised between the room and a target; empty for a heater without one."""
    declared = machine.heaters.get(heater)
    plant = scenario.heaters.get(declared.socket) if declared else None
    if plant is None:
        return {}
    truth, ambient = scenario.plants[plant].truth(), scenario.scenario.ambient_c
    linear = linearise(truth, target_c, ambient)
    fan = loss_w(truth, target_c, 1.0, ambient) / loss_w(truth, target_c, 0.0, ambient)
    return {
        "gain": linear.gain_c,
        "time_constant": linear.time_constant_s,
        "second_lag": linear.second_lag_s,
        "dead_time": linear.dead_time_s,
        "hold_duty": linear.hold_duty,
        "fan_loss_ratio": fan,
        "ambient": ambient,
    }


def truth_of(scenario: Scenario, machine: MachineFile, trial: str, parameters: Mapping[str, Value]) -> dict[str, float]:
    """Truth for a trial's findings, by the same names."""
    if trial.startswith(("hotend-", "bed-")):
        target = parameters.get("target")
        return heater_truth(
            scenario,
            machine,
            str(parameters.get("heater")),
            float(target) if isinstance(target, (int, float)) else 0,
        )
    if trial == "homing":
        named = {each.axis: each.spread_mm for each in scenario.switches.values() if each.axis}
        return {f"{axis} spread": named[axis] for axis in ("x", "y", "z") if axis in named}
    if trial == "travel-limits":
        return travel_truth(scenario, machine)
    if trial in ("speed-limits", "driver-current"):
        return limits_truth(scenario, machine)
    if trial == "steps-per-mm":
        return steps_truth(scenario, machine)
    return {}
