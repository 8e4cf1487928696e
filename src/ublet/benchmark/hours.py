"""Hours of normal use against the board's guards: targets, fan and room change at random, and nothing may trip."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

SECONDS = 3600
CHANGE_S = (20.0, 900.0)
"""A target is changed, or the heater switched off, after a time between these, s."""

ROOMS_C = (17.0, 35.0)


def false_trips(hours: int) -> dict[str, Any]:
    """A number of hours, half of them a hotend's and half a bed's, each with plant, sensor noise, control and guards of
    its own; the door opens (the room's temperature jumps) and the part fan runs at random.
    """
    trips: list[str] = []
    for seed in range(hours):
        trips += _hour("hotend" if seed % 2 else "bed", seed)
    return {"hours": hours, "false_trips": len(trips), "which": sorted(set(trips)), "limit": 0}


def _hour(part: str, seed: int) -> list[str]:
    from ublet.core.heat.curves import curve_of
    from ublet.core.heat.pid import TICK_S, Pid, PidGains
    from ublet.core.settings import flatten
    from ublet.firmware.guards import GuardLimits, HeaterGuard
    from ublet.session.document import Document
    from ublet.session.library import machine_path, scenario_path
    from ublet.world.heat import STEP_S, Adc, Plant
    from ublet.world.scenario import load_scenario

    random = np.random.default_rng(seed)
    scenario, machine = load_scenario(scenario_path("tern-280")), Document(machine_path("tern-280")).machine
    heater, own = machine.heaters[part], scenario.sensors["T1" if part == "hotend" else "T2"]
    truth = scenario.plants[part].truth()
    room = float(random.uniform(*ROOMS_C))
    plant = Plant(replace(truth, power_w=truth.power_w * random.uniform(0.9, 1.1)), room)
    adc = Adc(own.truth(), own.bits, own.noise_counts, own.burst)
    curve = curve_of(flatten(machine.sensors[heater.sensor].model_dump()))
    gains = PidGains(0.0775, 0.00466, 0.112) if part == "hotend" else PidGains(0.3565, 0.01345, 1.856)
    guards = heater.guards
    limits = GuardLimits(
        heater.maximum_c, guards.rise_c, guards.rise_window_s, guards.drift_c, guards.drift_window_s, 1.0
    )
    guard, pid = HeaterGuard(part, heater.sensor, TICK_S), Pid(gains)
    targets = (150.0, 200.0, 215.0, 240.0, 255.0) if part == "hotend" else (45.0, 60.0, 80.0, 105.0)
    target: float | None = float(random.choice(targets))
    change, fan, duty, trips = float(random.uniform(*CHANGE_S)), 0.0, 0.0, []
    for tick in range(int(SECONDS / TICK_S)):
        now = tick * TICK_S
        if now >= change:
            change = now + float(random.uniform(*CHANGE_S))
            target = None if random.random() < 0.2 else float(random.choice(targets))
            fan = float(random.choice([0.0, 0.0, 0.3, 1.0]))
            room = float(random.uniform(*ROOMS_C)) if random.random() < 0.5 else room
            pid = Pid(gains) if target is None else pid
        ratio = adc.read(plant.sensor_c, random)
        celsius = curve.celsius(ratio)
        trip = guard.watch(limits, ratio, celsius, duty, target)
        if trip is not None:
            trips.append(f"{part}: {trip.guard}")
            break
        duty = pid.duty(target, celsius) if target is not None else 0.0
        for _ in range(round(TICK_S / STEP_S)):
            plant.step(duty, fan, room)
    return trips
