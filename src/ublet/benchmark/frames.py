"""Frames made up at random, swept as the board sweeps them: what the estimator claims against the frame's own poles."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.motion.program import SweepMove
from ublet.core.motion.sweep_motion import GRID_HZ, LEAD_IN_S, SweepCourse
from ublet.core.shake.belts_trials import BeltTension, ratio_of
from ublet.core.shake.frame import Mode
from ublet.core.shake.mode_fit import fit_modes, fit_tension
from ublet.core.shake.repeats import nearest, widened
from ublet.core.shake.shaking import DIRECTIONS, MeasuredResponse
from ublet.core.shake.spectra import averaged
from ublet.core.shake.sweep import Sweep
from ublet.core.shake.sweep_response import bands_of
from ublet.core.shake.sweeping import GENTLER
from ublet.world.frame import Frame, FrameTruth
from ublet.world.shake import COUNT_M_S2, Accelerometer, AccelerometerTruth

SECONDS, FROM_HZ, TO_HZ, RATE_HZ, TICK_S = 60.0, 5.0, 130.0, 1600.0, 0.1
MIDDLE, SPANS = {"x": 100.0, "y": 100.0}, {"x": (0.0, 200.0), "y": (0.0, 200.0)}
LEAST_FRACTION, NEAR = 0.05, 0.1


@dataclass(frozen=True)
class MadeUp:
    """A frame with its sensor, and how hard it may be swept, m/s² a Hz."""

    frame: Frame
    sensor: Accelerometer
    per_hz: float


def made_up(seed: int, corexy: bool, close: bool = False) -> MadeUp:
    """A frame of masses, belts, guides, feet and perhaps a loose part, its main modes from 20 to 110 Hz; a sensor with
    noise, a clock of its own, leaning a little, its memory overflowing now and then; accelerations of 1,000 to 5,000
    mm/s². close: a part hangs loose that shakes by itself within 12 % of X's frequency, and guides rub by up to 0.2 N.
    """
    random = np.random.default_rng([seed, 31])
    heads = {"x": float(random.uniform(0.25, 0.8)), "y": float(random.uniform(0.4, 1.3))}
    hz = {axis: float(random.uniform(28, 85)) for axis in "xy"}
    loose = bool(random.uniform() < 0.5)
    tensions = [(2 * np.pi * hz[axis]) ** 2 * heads[axis] / 1000 for axis in "xy"]
    if corexy:
        both = (tensions[0] + tensions[1]) / 4
        tensions = [both, both * float(random.uniform(0.7, 1.3))]
    truth = FrameTruth(
        belt_x_n_mm=float(tensions[0]),
        belt_y_n_mm=float(tensions[1]),
        guide_x=float(random.uniform(0.02, 0.11)),
        guide_y=float(random.uniform(0.02, 0.11)),
        nearer=float(random.uniform(0, 0.3)),
        base_kg=float(random.uniform(7, 30)),
        feet_hz=float(random.uniform(6, 14)),
        feet_damping=float(random.uniform(0.05, 0.2)),
        part_kg=float(random.uniform(0.02, 0.08)) if loose else 0.0,
        part_hz=float(random.uniform(60, 110)),
        part_damping=float(random.uniform(0.02, 0.06)),
        slip_n=float(random.uniform(0, 0.04)),
    )
    if close:
        near = hz["x"] * float(1 + random.choice([-1, 1]) * random.uniform(0, 0.12))
        truth = replace(
            truth,
            part_kg=float(random.uniform(0.01, 0.05)),
            part_hz=near,
            part_damping=float(random.uniform(0.02, 0.06)),
            slip_n=float(random.uniform(0, 0.2)),
        )
    frame = Frame(truth, heads, SPANS, corexy, False)
    sensor = AccelerometerTruth(
        noise_m_s2=float(random.uniform(0.05, 0.3)),
        clock_error=float(random.uniform(-0.01, 0.01)),
        lean_deg=float(random.uniform(-4, 4)),
        overflows_s=float(random.uniform(0, 0.5)),
    )
    accelerometer = Accelerometer(sensor, frame, np.random.default_rng([seed, 37]))
    return MadeUp(frame, accelerometer, float(random.uniform(1.0, 5.0)) * 0.98 / TO_HZ)


class SensorTicks:
    """What a sensor takes tick by tick. count: readings so far, with those that it lost itself."""

    def __init__(self, sensor: Accelerometer) -> None:
        self.count = 0
        self.rate_hz = RATE_HZ * (1 + sensor.truth.clock_error)
        self._sensor = sensor
        self._values: list[Floats] = []
        self._numbers: list[Floats] = []
        self._newest_s = 0.0
        self._ticks = 0

    def take(self) -> None:
        """A tick has passed."""
        batch = self._sensor.readings()
        self._ticks += 1
        self._newest_s = self._ticks * TICK_S - batch.newest_ago_s
        self._values.append(np.asarray(batch.counts * COUNT_M_S2, dtype=np.float64))
        self._numbers.append(self.count + batch.missed + np.arange(len(batch.counts), dtype=np.float64))
        self.count += batch.missed + len(batch.counts)

    def whole(self) -> tuple[Floats, Floats]:
        """When readings were taken, s (n), and what they are, m/s² (n x 3)."""
        late = (self.count - 1 - np.concatenate(self._numbers)) / self.rate_hz
        return self._newest_s - late, np.concatenate(self._values)


def swept(made: MadeUp, direction: str, per_hz: float) -> MeasuredResponse:
    """What the sensor learns of a sweep along a direction, by the board's clock."""
    course = SweepCourse(SweepMove(DIRECTIONS[direction], FROM_HZ, TO_HZ, SECONDS, per_hz))
    step = round(TICK_S * GRID_HZ)
    made.sensor.listen(RATE_HZ)
    taken = SensorTicks(made.sensor)
    for first in range(0, course.count + 2 * step, step):
        speeds = course.speeds(first, step + 1)
        fractions = DIRECTIONS[direction]
        made.sensor.course({axis: fractions.get(axis, 0.0) * speeds for axis in "xyz"})
        made.sensor.pass_time(TICK_S, MIDDLE)
        taken.take()
    times, values = taken.whole()
    return MeasuredResponse(times - LEAD_IN_S, values, taken.rate_hz, taken.count - len(values), 0.0)


def found_of(made: MadeUp, direction: str) -> tuple[tuple[Mode, ...], BeltTension]:
    """The modes that a hard and a gentle sweep show, and how hard the belt pulls."""
    accelerations = [swept(made, direction, made.per_hz * strength) for strength in (1.0, GENTLER)]
    sweeps = [Sweep(direction, FROM_HZ, TO_HZ, SECONDS, made.per_hz * strength) for strength in (1.0, GENTLER)]
    bands = [bands_of(one, sweep, accelerations[0].rate_hz) for one, sweep in zip(accelerations, sweeps, strict=True)]
    whole = averaged(bands)
    modes = widened(fit_modes(whole), [fit_modes(band) for band in bands])
    return modes, BeltTension(*fit_tension(whole), modes[0], tuple(fit_tension(band)[0] for band in bands))


def frames(machines: int) -> dict[str, Any]:
    """A number of machines of each kind, one of them with poles close together: coverage of main and further modes, and
    of the ratio of two belts.
    """
    return {kind: _of_kind(kind, machines) for kind in ("cartesian", "corexy", "close")}


def _of_kind(kind: str, machines: int) -> dict[str, Any]:
    corexy = kind == "corexy"
    main: list[bool] = []
    others: list[bool] = []
    there: list[bool] = []
    hz, damping, invented, belts = [], [], [], []
    for seed in range(machines):
        made = made_up(seed, corexy, kind == "close")
        directions = ("x+y", "x-y") if corexy else ("x",)
        tensions_of = []
        for direction in directions:
            way = DIRECTIONS[direction]
            true = [ring for ring in made.frame.rings(way, way, "head", MIDDLE) if abs(ring.modal_share) > 0.02]
            modes, tension = found_of(made, direction)
            tensions_of.append(tension)
            for number, ring in enumerate(true):
                if abs(ring.modal_share) < LEAST_FRACTION or not FROM_HZ < ring.frequency_hz < TO_HZ:
                    continue
                mode = nearest(modes, ring.frequency_hz)
                holds = [
                    abs(mode.frequency_hz - ring.frequency_hz) <= 2 * mode.frequency_u,
                    abs(mode.damping_ratio - ring.damping_ratio) <= 2 * mode.damping_u,
                ]
                if number == 0:
                    main += holds
                    hz.append(abs(mode.frequency_hz / ring.frequency_hz - 1))
                    damping.append(abs(mode.damping_ratio / ring.damping_ratio - 1))
                else:
                    there.append(abs(mode.frequency_hz / ring.frequency_hz - 1) < NEAR)
                    others += holds if there[-1] else []
            invented.append(
                any(
                    abs(mode.modal_share) > 0.05
                    and min(abs(mode.frequency_hz / r.frequency_hz - 1) for r in true) > 0.1
                    for mode in modes
                )
            )
        if corexy:
            ratio, u = ratio_of(tensions_of[0], tensions_of[1])
            stiff = made.frame.stiffness(MIDDLE)
            belts.append(abs(ratio - stiff["y"] / stiff["x"]) <= 2 * u)
    return {
        "machines": machines,
        "main_covered": round(float(np.mean(main)), 3),
        "others_found": round(float(np.mean(there)), 3) if there else None,
        "others_covered": round(float(np.mean(others)), 3) if others else None,
        "frequency_within_1_percent": round(float(np.mean(np.array(hz) <= 0.01)), 3),
        "damping_within_20_percent": round(float(np.mean(np.array(damping) <= 0.2)), 3),
        "invented": round(float(np.mean(invented)), 3),
        "belts_covered": round(float(np.mean(belts)), 3) if belts else None,
    }
