"""The planner's look-ahead for hundreds of thousands of lines at once: the same caps, corners and times as
:mod:`ublet.core.motion.planner`, over arrays.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.arrays import Floats
from ublet.core.machine.layouts import AXES
from ublet.core.motion.caps import EXTRUDER, LEAST_LED_MM_S, Caps
from ublet.core.motion.planner import STRAIGHT

SMALL_MM = 1e-9


@dataclass(frozen=True)
class ManyLines:
    """n lines: length (mm), direction (n x 4: x, y, z, filament per mm of it), the speed that each may have (mm/s), its
    acceleration (mm/s²), and which of ``settings`` makes it slower than asked for (-1: none).
    """

    length_mm: Floats
    direction: Floats
    top_mm_s: Floats
    acceleration_mm_s2: Floats
    capped_by: NDArray[np.int16]
    settings: Sequence[str]

    @property
    def capped(self) -> dict[str, int]:
        """How many lines each setting makes slower than asked for."""
        counts = np.bincount(self.capped_by[self.capped_by >= 0], minlength=len(self.settings))
        return {name: int(count) for name, count in zip(self.settings, counts, strict=True) if count}


def many_lines(travel_mm: Floats, feed_mm_s: Floats, caps: Caps) -> ManyLines:
    """Lines within the caps of a machine; one that travels nothing has no length.

    Args:
        travel_mm: n x 4: x, y, z and filament. feed_mm_s: n, along the path of the axes, or along the filament.
    """
    path = np.sqrt((travel_mm[:, :3] ** 2).sum(axis=1))
    length = np.where(path > SMALL_MM, path, np.abs(travel_mm[:, 3]))
    safe = np.maximum(length, SMALL_MM)
    direction = travel_mm / safe[:, None]
    top, acceleration = feed_mm_s.astype(np.float64), np.full(len(length), np.inf)
    capped_by, settings = np.full(len(length), -1, dtype=np.int16), list[str]()

    def cap(fraction: Floats, speed: float, most: float | Floats, setting: str) -> None:
        nonlocal acceleration
        with np.errstate(divide="ignore"):
            slower = np.where(fraction > 1e-12, speed / fraction, np.inf)
            acceleration = np.minimum(acceleration, np.where(fraction > 1e-12, most / fraction, np.inf))
        held = slower < top * (1 - 1e-9)
        settings.append(setting)
        capped_by[held] = len(settings) - 1
        np.minimum(top, slower, out=top)

    printing = travel_mm[:, 3] > 0
    gentle = caps.print_acceleration_mm_s2
    for at, axis in enumerate(AXES):
        own = caps.of_part(f"axes.{axis}")
        most = np.where(printing & (gentle > 0), min(own.acceleration, gentle), own.acceleration)
        cap(np.abs(direction[:, at]), own.speed, most, own.setting)
    if np.any(travel_mm[:, 3]):
        own = caps.of_part("extruder")
        cap(np.abs(direction[:, 3]), own.speed, own.acceleration, own.setting)
    for root, row in motor_rows(caps).items():
        if (steps := caps.of_steps(root)) is not None:
            cap(np.abs(direction @ row), steps.speed, math.inf, steps.setting)
    if caps.advance_s > 0:
        led = np.where((path > SMALL_MM) & printing, direction[:, 3], 0.0)
        leads = np.flatnonzero(led > 0)
        jumps = [caps.led_acceleration_mm_s2(per_mm) for per_mm in led[leads].tolist()]
        acceleration[leads] = np.minimum(acceleration[leads], jumps)
        own = caps.of_part("extruder")
        fastest = np.full(len(length), np.inf)
        fastest[leads] = np.maximum(own.speed / led[leads] - caps.advance_s * acceleration[leads], LEAST_LED_MM_S)
        held = fastest < top * (1 - 1e-9)
        settings.append(own.setting)
        capped_by[held] = len(settings) - 1
        np.minimum(top, fastest, out=top)
    return ManyLines(length, direction, top, acceleration, capped_by, settings)


def motor_rows(caps: Caps) -> Mapping[str, Floats]:
    """For each motor how far it travels for each mm of x, y, z and filament."""
    kinematics = caps.kinematics
    rows = {root: np.array([*row, 0.0]) for root, row in zip(kinematics.motors, kinematics.matrix, strict=True)}
    return {**rows, EXTRUDER: np.array([0.0, 0.0, 0.0, 1.0])} if caps.pushes else rows


def corner_speeds(lines: ManyLines, caps: Caps) -> Floats:
    """The speed at which each of the n - 1 corners between lines is taken, mm/s; 0 beside a line without length."""
    before, after = slice(None, -1), slice(1, None)
    fastest = np.minimum(lines.top_mm_s[before], lines.top_mm_s[after])
    if (jerks := caps.jerks) is not None:
        speeds = fastest
        for at, part in enumerate((*AXES, "e")):
            if part in jerks:
                change = np.abs(lines.direction[after, at] - lines.direction[before, at])
                with np.errstate(divide="ignore"):
                    speeds = np.minimum(speeds, np.where(change > 0, jerks[part] / change, np.inf))
    else:
        way = lines.direction[:, :3]
        cosine = -(way[before] * way[after]).sum(axis=1)
        half = np.sqrt(np.clip((1 - cosine) / 2, 0.0, 1.0))
        gentler = np.minimum(lines.acceleration_mm_s2[before], lines.acceleration_mm_s2[after])
        with np.errstate(divide="ignore", invalid="ignore"):
            rounded = np.sqrt(gentler * caps.deviation_mm * half / (1 - half))
        speeds = np.where(cosine < -STRAIGHT, fastest, np.where(cosine > STRAIGHT, 0.0, np.minimum(fastest, rounded)))
        moves = (way**2).sum(axis=1) > 0.5
        speeds = np.where(moves[before] & moves[after], speeds, 0.0)
    there = lines.length_mm > SMALL_MM
    return np.where(there[before] & there[after], np.nan_to_num(speeds), 0.0)


def seconds_of(lines: ManyLines, corners: Floats) -> Floats:
    """How long each line takes, s (n), from standstill to standstill with look-ahead over all of them.

    Speeds at the corners follow from a pass backwards and one forwards (the speed of a line's end may be no more than
    what can be braked to, nor than what can be reached); a line is then a trapezoid of speed over time.
    """
    count = len(lines.length_mm)
    if not count:
        return np.zeros(0)
    top2 = (lines.top_mm_s**2).tolist()
    gain = (2 * np.where(np.isfinite(lines.acceleration_mm_s2), lines.acceleration_mm_s2, 0) * lines.length_mm).tolist()
    bound = [0.0, *np.minimum(corners, np.minimum(lines.top_mm_s[:-1], lines.top_mm_s[1:])).tolist(), 0.0]
    at2 = [speed * speed for speed in bound]
    for number in range(count - 1, -1, -1):
        reach = at2[number + 1] + gain[number]
        if reach < at2[number]:
            at2[number] = reach
    for number in range(count):
        reach = at2[number] + gain[number]
        if reach < at2[number + 1]:
            at2[number + 1] = reach
    entering2, leaving2 = np.array(at2[:-1]), np.array(at2[1:])
    peak2 = np.minimum(top2, (np.array(gain) + entering2 + leaving2) / 2)
    peak2 = np.maximum(peak2, np.maximum(entering2, leaving2))
    peak, entering, leaving = np.sqrt(peak2), np.sqrt(entering2), np.sqrt(leaving2)
    acceleration = np.where(np.isfinite(lines.acceleration_mm_s2), lines.acceleration_mm_s2, 1.0)
    even = np.maximum(0.0, lines.length_mm - (2 * peak2 - entering2 - leaving2) / (2 * acceleration))
    with np.errstate(divide="ignore", invalid="ignore"):
        seconds = (2 * peak - entering - leaving) / acceleration + even / peak
    return np.where(lines.length_mm > SMALL_MM, seconds, 0.0)
