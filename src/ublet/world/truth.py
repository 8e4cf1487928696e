"""The truth behind a trial, from the scenario: what perfect instruments would find."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

from ublet.core.heat.pid import TICK_S, Pid, PidGains
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value, number_or
from ublet.world.extrude_truth import filament_truth, flow_truth, lines_truth, piece_truth, tower_truth
from ublet.world.heat import STEP_S, Plant, holding_w, linearise
from ublet.world.motion_truth import (
    in_force,
    lengths_truth,
    limits_truth,
    motors_truth,
    number_in_force,
    travel_truth,
)
from ublet.world.scenario import Scenario
from ublet.world.shake import accelerometer_at_rest_truth

Aim = Mapping[str, Value]
"""A trial's parameters by name."""

Truth = Callable[[Scenario, MachineFile, Aim], dict[str, float]]


def heater_truth(scenario: Scenario, machine: MachineFile, heater: str, target_c: float) -> dict[str, float]:
    """The plant of a heater at a target; empty for a heater without one."""
    declared = machine.heaters.get(heater)
    plant = scenario.heaters.get(declared.socket) if declared else None
    if plant is None:
        return {}
    truth, ambient = scenario.plants[plant].truth(), scenario.scenario.ambient_c
    linear = linearise(truth, target_c, ambient)
    fan = holding_w(truth, target_c, 1.0, ambient) / holding_w(truth, target_c, 0.0, ambient)
    return {
        "gain": linear.gain_c,
        "time_constant": linear.time_constant_s,
        "delay": linear.delay_s,
        "hold_duty": linear.hold_duty,
        "fan_loss_ratio": fan,
        "ambient": ambient,
        **({"sheet_lag": truth.surface_lag_s} if truth.surface_j_k else {}),
    }


def _noise(scenario: Scenario, machine: MachineFile, heater: str, target_c: float) -> dict[str, float]:
    """Standard deviation of a reading at the target: of the ADC's counts and their rounding, through the slope of the
    sensor's true curve (three-point difference).
    """
    declared = machine.heaters.get(heater)
    part = scenario.sensors.get(machine.sensors[declared.sensor].socket) if declared else None
    if part is None:
        return {}
    curve, full = part.truth(), 2**part.bits - 1
    counts_c = abs(curve.ratio(target_c + 0.5) - curve.ratio(target_c - 0.5)) * full
    return {"reading_noise": math.sqrt((part.noise_counts**2 + 1 / 12) / part.burst) / counts_c}


def _of(subject: str, truths: Mapping[str, float]) -> dict[str, float]:
    """The ids of findings about one subject."""
    return {f"{what}.{subject}": value for what, value in truths.items()}


LONGEST_SOAK_S = 10_800.0


def soak_truth(scenario: Scenario, machine: MachineFile, parameters: Mapping[str, Value]) -> dict[str, float]:
    """The sheet on a bed as it really follows: without noise, under the gains that the machine arrives with.

    soak: from the sensor within 1 °C of its target until the sheet drifts by less than the limit for good.
    """
    heater, target, drift = (parameters.get(key) for key in ("heater", "target", "drift"))
    declared = machine.heaters.get(str(heater))
    part = scenario.plants.get(scenario.heaters.get(declared.socket, "")) if declared else None
    if declared is None or part is None or not isinstance(target, (int, float)) or not isinstance(drift, (int, float)):
        return {}
    stored, truth, ambient = scenario.stored_settings(), part.truth(), scenario.scenario.ambient_c
    own = declared.model_dump()
    kp, ki, kd = (float(stored.get(f"heaters.{heater}.{key}", own[key]) or 0.0) for key in ("kp", "ki", "kd"))
    plant, control = Plant(truth, ambient), Pid(PidGains(kp, ki, kd))
    reached: float | None = None
    last, time_s, before = 0.0, 0.0, ambient
    while time_s < LONGEST_SOAK_S and (reached is None or time_s - last < 10 * max(60.0, truth.surface_lag_s)):
        duty = control.duty(float(target), plant.sensor_c, declared.power_limit)
        for _ in range(round(TICK_S / STEP_S)):
            plant.step(duty, 0.0, ambient)
        time_s += TICK_S
        reached = time_s if reached is None and abs(plant.sensor_c - float(target)) <= 1.0 else reached
        last = time_s if abs(plant.surface_c - before) / TICK_S * 60 >= float(drift) else last
        before = plant.surface_c
    if reached is None:
        return {}
    surface = ambient + truth.surface_share * (float(target) - ambient)
    return {
        "soak": max(0.0, last - reached),
        "sheet_lag": truth.surface_lag_s,
        "surface": surface,
        "surface_share": truth.surface_share,
        "surface_below": float(target) - surface,
    }


def fans_truth(scenario: Scenario, machine: MachineFile) -> dict[str, float]:
    """How many fans sit where the board thinks."""
    right = sum(
        scenario.fan_plugs.get(in_force(scenario, f"fans.{name}.socket", fan.socket), name) == name
        for name, fan in machine.fans.items()
    )
    return {"fans_right": float(right)}


def _heater(scenario: Scenario, machine: MachineFile, aim: Aim) -> dict[str, float]:
    heater, target = str(aim.get("heater")), number_or(aim.get("target"), 0.0)
    truths = heater_truth(scenario, machine, heater, target)
    return _of(heater, {**truths, **_noise(scenario, machine, heater, target)})


def _soak(scenario: Scenario, machine: MachineFile, aim: Aim) -> dict[str, float]:
    return _of(str(aim.get("heater")), soak_truth(scenario, machine, aim))


def _homing(scenario: Scenario, machine: MachineFile, aim: Aim) -> dict[str, float]:
    truths = {}
    for switch in scenario.switches.values():
        if switch.axis:
            path = f"axes.{switch.axis}.homing.slow_mm_s"
            slow = number_in_force(scenario, path, getattr(machine.axes, switch.axis).homing.slow_mm_s)
            truths[f"spread.{switch.axis}"] = math.hypot(switch.spread_mm, slow * switch.late_spread_s)
    return truths


def _resting(scenario: Scenario, machine: MachineFile, aim: Aim) -> dict[str, float]:
    return {f"at_rest.{name}": scenario.scenario.ambient_c for name in machine.sensors}


def _whole(truth: Callable[[Scenario, MachineFile], dict[str, float]]) -> Truth:
    """A truth that does not depend on the trial's parameters."""
    return lambda scenario, machine, aim: truth(scenario, machine)


def _at_rest(scenario: Scenario, machine: MachineFile, aim: Aim) -> dict[str, float]:
    part = scenario.accelerometer
    return accelerometer_at_rest_truth(part.truth(), number_or(aim.get("rate_hz"), 0.0)) if part is not None else {}


TRUTHS: dict[str, Truth] = {
    "motors-one-by-one": _whole(motors_truth),
    "fans-one-by-one": _whole(fans_truth),
    "homing": _homing,
    "travel-limits": _whole(travel_truth),
    "steps-per-mm": lengths_truth,
    "speed-limits": _whole(limits_truth),
    "driver-current": _whole(limits_truth),
    "extruder-steps": filament_truth,
    "flow-limit": flow_truth,
    "piece-measured": _whole(piece_truth),
    "advance-lines": lines_truth,
    "advance-tower": tower_truth,
    "accelerometer-at-rest": _at_rest,
    "sensors-at-rest": _resting,
    "hotend-control": _heater,
    "hotend-verify": _heater,
    "bed-control": _heater,
    "bed-verify": _heater,
    "bed-soak": _soak,
}
"""The truth behind each trial that has one."""


def truth_of(scenario: Scenario, machine: MachineFile, trial: str, parameters: Aim) -> dict[str, float]:
    """Truth for a trial's findings, by their ids; none for a trial whose world has nothing to compare."""
    truth = TRUTHS.get(trial)
    return truth(scenario, machine, parameters) if truth is not None else {}
