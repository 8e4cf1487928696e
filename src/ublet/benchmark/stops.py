"""Sharp stops of frames made up at random, with and without the recommended shaper: is as much left as was
predicted?
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ublet.benchmark.frames import MIDDLE, RATE_HZ, TICK_S, MadeUp, SensorTicks, found_of, made_up
from ublet.core.arrays import Complex, Floats
from ublet.core.motion.planner import LinearMove, paces
from ublet.core.motion.sweep_motion import GRID_HZ
from ublet.core.settings import Value
from ublet.core.shake.choosing import Limits, choose
from ublet.core.shake.frame import Mode, in_print
from ublet.core.shake.ringdown import amplitudes, left_of
from ublet.core.shake.shaper_trials import impulse_rows, predicted_u
from ublet.core.shake.shapers import OWN, ImpulseSequence, residual, shaper_path
from ublet.core.shake.verify_trials import BOUND_U, MOVES, STILL_S
from ublet.firmware.shaping import Shaping

ACCELERATION_MM_S2 = 3000.0


def commanded_speeds() -> tuple[Floats, list[float]]:
    """Speeds of the moves there and back on the grid, mm/s, and when each stops, s."""
    pieces, stops, now = [np.zeros(round(0.2 * GRID_HZ))], [], 0.2
    for mm, top in MOVES * 2:
        for way in (1.0, -1.0):
            took = list(paces(LinearMove({"x": 1.0}, mm, top, ACCELERATION_MM_S2), 0.0, 0.0))
            ends = np.cumsum([0.0, *(p.seconds for p in took)])
            whole = float(ends[-1])
            count = round((whole + STILL_S) * GRID_HZ)
            at = np.arange(count) / GRID_HZ
            speeds = [0.0, *(p.speed(p.seconds) for p in took)]
            pieces.append(way * np.interp(at, ends, speeds, right=0.0))
            stops.append(now + whole)
            now += count / GRID_HZ
    return np.concatenate(pieces), stops


def ring_downs(made: MadeUp, modes: tuple[Mode, ...], impulses: ImpulseSequence | None) -> list[tuple[Complex, Floats]]:
    """How each mode rings after every stop."""
    speeds, stops = commanded_speeds()
    shaping, step = Shaping(), round(TICK_S * GRID_HZ)
    live: dict[str, Value] = {shaper_path("x", "kind"): "none"}
    if impulses is not None:
        live = {shaper_path("x", "kind"): OWN, shaper_path("x", "train"): impulse_rows(impulses)}
    shaping.settled(live)
    made.sensor.listen(RATE_HZ)
    taken = SensorTicks(made.sensor)
    for first in range(0, len(speeds), step):
        shaping.begin_period(TICK_S)
        shaping.stepped({"x": 1.0}, 0, speeds[first : first + step + 1])
        made.sensor.course(shaping.end_period())
        made.sensor.pass_time(TICK_S, MIDDLE)
        taken.take()
    times, values = taken.whole()
    late = impulses.duration_s if impulses is not None else 0.0
    amplitudes_at = [amplitudes(times, values[:, 0], modes, stop + late) for stop in stops]
    return [amplitude for amplitude in amplitudes_at if amplitude is not None]


def stops(machines: int) -> dict[str, Any]:
    """Measured against predicted on so many machines."""
    agree, left = [], []
    for seed in range(machines):
        made = made_up(seed, False)
        modes = found_of(made, "x")[0]
        impulses = choose(in_print(modes), Limits(acceleration_mm_s2=ACCELERATION_MM_S2)).chosen.impulses
        measured = left_of(ring_downs(made, modes, None), ring_downs(made, modes, impulses), modes)
        if not math.isfinite(measured.fraction):
            continue
        read = [mode for mode, fraction in zip(modes, measured.modes, strict=True) if fraction is not None]
        predicted, u = residual(impulses, read), math.hypot(predicted_u(impulses, read), BOUND_U)
        agree.append(abs(measured.fraction - predicted) <= 2 * math.hypot(measured.uncertainty, u))
        left.append(measured.fraction)
    return {
        "machines": len(agree),
        "verify_agrees": round(float(np.mean(agree)), 3),
        "left_median": round(float(np.median(left)), 4),
    }
