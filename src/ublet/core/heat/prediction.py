"""What a set of gains will do on the fitted plant, from cold and when the fan starts; what a heater will do next."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import TICK_S, Pid, PidGains
from ublet.core.heat.step import HOLD_S, StepMeasure, measure_step


@dataclass(frozen=True)
class Situation:
    """The step to predict. Temperatures in °C, times in s.

    noise_c is the standard deviation of one reading, fan_loss_ratio the heat loss with the part fan
    on over the loss without; the fan starts at ``fan_at_s`` and the record ends at ``end_s``. Ripple is read over the
    last ``read_s`` before the fan or the end.
    """

    target_c: float
    start_c: float
    noise_c: float = 0.0
    fan_loss_ratio: float = 1.0
    fan_at_s: float | None = None
    end_s: float = 300.0
    limit: float = 1.0
    read_s: float = HOLD_S


@dataclass(frozen=True)
class PredictedStep:
    """A predicted record (n samples at the board's tick) and its figures."""

    time_s: Floats
    celsius: Floats
    duty: Floats
    measure: StepMeasure


def predict_step(model: HeaterModel, gains: PidGains, situation: Situation, seed: int = 1) -> PredictedStep:
    """Run the board's own control law on the fitted model, tick by tick.

    The two lags are integrated exactly over a tick; the dead time is kept to the fraction of a tick
    by interpolation. Deterministic for a seed.
    """
    controller = Pid(gains)
    limit = situation.limit
    return _run(model, lambda reading: controller.duty(situation.target_c, reading, limit), situation, seed)


def predict_on_off(model: HeaterModel, swing_c: float, situation: Situation, seed: int = 1) -> PredictedStep:
    """The same for on-off control: on below the target by half the swing, off above it by half."""
    on = True

    def duty(reading: float) -> float:
        nonlocal on
        if abs(reading - situation.target_c) > swing_c / 2:
            on = reading < situation.target_c
        return 1.0 if on else 0.0

    return _run(model, duty, situation, seed)


def _run(model: HeaterModel, law: Callable[[float], float], situation: Situation, seed: int) -> PredictedStep:
    count = int(situation.end_s / TICK_S) + 1
    noise = (np.random.default_rng(seed).standard_normal(count) * situation.noise_c).tolist()  # plain floats are quick
    whole = int(model.dead_time_s / TICK_S)
    part = model.dead_time_s / TICK_S - whole
    past = deque([0.0] * (whole + 2), maxlen=whole + 2)
    fanned = model.with_loss(situation.fan_loss_ratio)
    block = sensor = situation.start_c - model.ambient_c
    second = math.exp(-TICK_S / model.second_lag_s) if model.second_lag_s > 1e-6 else 0.0
    temperatures: list[float] = []
    duties: list[float] = []
    fan_tick = count if situation.fan_at_s is None else int(situation.fan_at_s / TICK_S)
    plant, keep = model, math.exp(-TICK_S / model.time_constant_s)
    slow = quick = block
    fraction, keep_quick = model.quick_fraction, math.exp(-TICK_S / model.quick_s) if model.quick_fraction else 0.0
    for tick in range(count):
        if tick == fan_tick:
            plant, keep = fanned, math.exp(-TICK_S / fanned.time_constant_s)
        reading = sensor + model.ambient_c + noise[tick]
        duty = min(situation.limit, law(reading))
        temperatures.append(reading)
        duties.append(duty)
        past.append(duty)
        arriving = past[1] * (1 - part) + past[0] * part
        before = block
        pushed = plant.gain_c * arriving + (plant.spared(block) if plant.curve else 0.0)
        slow = block = keep * slow + (1 - keep) * pushed
        if fraction:
            quick = keep_quick * quick + (1 - keep_quick) * pushed
            block = (1 - fraction) * slow + fraction * quick
        sensor = second * sensor + (1 - second) * (before + block) / 2
    time_s = np.arange(count, dtype=np.float64) * TICK_S
    celsius = np.array(temperatures)
    measure = measure_step(time_s, celsius, situation.target_c, situation.fan_at_s, situation.read_s)
    return PredictedStep(time_s, celsius, np.array(duties), measure)


FAR_FRACTION = 0.15
"""Gains are far from where they were found when the target's height above the room differs by more than this share."""


def time_to(model: HeaterModel, now_c: float, target_c: float, limit: float) -> float | None:
    """Seconds until a heater at full power reaches a target; 0 when it is there, None when it never does.

    The stretch between the two of a climb from the room (:meth:`HeaterModel.climb_s`), behind the lags.
    """
    if now_c >= target_c:
        return 0.0
    whole = model.heat_up_s(target_c - model.ambient_c, limit)
    done = model.heat_up_s(max(0.0, now_c - model.ambient_c), limit)
    if whole is None or done is None:
        return None
    return model.delay_s + whole - done


def slowest_rise(model: HeaterModel, target_c: float, drift_c: float, window_s: float, limit: float) -> float:
    """The least that a good heater rises in a window at full power while the guard watches it, °C.

    That is at the end of the climb, where the guard stops to watch (drift_c below the target):
    the window times :meth:`HeaterModel.slope_c_s` there.
    """
    return max(0.0, window_s * model.slope_c_s(target_c - drift_c - model.ambient_c, limit))


def time_to_cool(model: HeaterModel, now_c: float, to_c: float) -> float | None:
    """Seconds until a heater that is off has cooled to a temperature; None when the room is warmer than that."""
    if now_c <= to_c:
        return 0.0
    if to_c <= model.ambient_c:
        return None
    return model.cool_s(now_c - model.ambient_c, to_c - model.ambient_c)


def far_from(target_c: float, tuned_c: float, room_c: float) -> bool:
    """Whether a target is far from the temperature at which the gains were found."""
    return abs(target_c - tuned_c) > FAR_FRACTION * (tuned_c - room_c)
