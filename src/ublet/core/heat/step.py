"""A step from cold and a fan disturbance, measured: overshoot, settling, ripple, dip and recovery."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.heat.relay import smooth

BAND_C = 1.0
"""Settled means inside this distance of the target, °C."""

HOLD_S = 30.0
"""Ripple is read over this last stretch of the hold, s."""


@dataclass(frozen=True)
class StepMeasure:
    """What a step did. Temperatures in °C, times in s; None where the record does not show it."""

    overshoot_c: float
    settle_s: float | None
    ripple_c: float
    dip_c: float | None = None
    recover_s: float | None = None


def measure_step(
    time_s: Floats, celsius: Floats, target_c: float, fan_at_s: float | None = None, read_s: float = HOLD_S
) -> StepMeasure:
    """Read a step's figures from a record that starts at the step.

    Overshoot and settling are read from the mean over half a second, so that sensor noise does not
    count as overshoot; ripple is half the peak to peak of the raw reading over the last ``read_s`` before
    the fan (or the end). Settling is the time after which the temperature stays within BAND_C.
    """
    calm = smooth(celsius, 5)
    still = time_s <= (fan_at_s if fan_at_s is not None else math.inf)
    times, temperatures = time_s[still], calm[still]
    overshoot = max(0.0, float(temperatures.max()) - target_c)
    outside = np.flatnonzero(np.abs(temperatures - target_c) > BAND_C)
    settle: float | None = float(times[0])
    if len(outside):
        settle = float(times[outside[-1] + 1]) if outside[-1] + 1 < len(times) else None
    hold = celsius[still][times >= times[-1] - read_s]
    ripple = float(hold.max() - hold.min()) / 2
    dip = recover = None
    if fan_at_s is not None and np.any(~still):
        later, after = time_s[~still], calm[~still]
        dip = max(0.0, target_c - float(after.min()))
        away = np.flatnonzero(np.abs(after - target_c) > BAND_C)
        recover = 0.0
        if len(away):
            recover = float(later[away[-1] + 1] - fan_at_s) if away[-1] + 1 < len(later) else None
    return StepMeasure(overshoot, settle, ripple, dip, recover)
