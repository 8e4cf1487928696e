"""A pass of a coil over the bed: there and back along lines, heights from what it rang meanwhile."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats, Point
from ublet.core.bench import Bench
from ublet.core.level.coil.curve import COIL, RATE_HZ, CoilCurve, must_go_on_reading, unshifted
from ublet.core.level.reach import ProbeArea
from ublet.core.motion.program import Dwell, Program, Segment, Timetable, To
from ublet.core.remedy import ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import TrialFailed

STANDS_S = 0.1
LEAST_READINGS = 3
THERE, BACK = "there", "back"


@dataclass(frozen=True)
class ScanLines:
    """Lines along X over the bed, each with places at which a height is measured.

    rows: Y of every line, columns: X of the places (bed coordinates, mm). out_mm: so far it goes on beyond the outer
    places, so that it passes them evenly; over_mm: around each place readings within so much are its own.
    """

    rows: tuple[float, ...]
    columns: tuple[float, ...]
    out_mm: float
    over_mm: float

    @property
    def places(self) -> tuple[Point, ...]:
        """Row by row from the front left."""
        return tuple((x, y) for y in self.rows for x in self.columns)


@dataclass(frozen=True)
class CoilScan:
    """A pass: the bed's heights there and back (each rows x columns), mm; how long it took, s; how much warmer the coil
    was than at its curve, K.
    """

    there: Floats
    back: Floats
    seconds: float
    over_c: float

    @property
    def heights(self) -> Floats:
        """The mean of both ways, in which a reading's age makes no difference."""
        return (self.there + self.back) / 2


def lines_over(reach: ProbeArea, columns: int, rows: int) -> ScanLines:
    """Lines over what the coil reaches."""
    low, high = reach.x
    out = min(12.0, (high - low) / 8)
    xs = np.linspace(low + out, high - out, columns)
    ys = np.linspace(*reach.y, rows) if rows > 1 else np.array([sum(reach.y) / 2])
    over = min(6.0, float(xs[1] - xs[0]) / 2) if columns > 1 else 6.0
    return ScanLines(tuple(ys.tolist()), tuple(xs.tolist()), out, over)


def pass_program(lines: ScanLines, reach: ProbeArea, z_mm: float, mm_s: float, travel_mm_s: float) -> Program:
    """Every line there and back at one height and speed; it stands still for a moment at each end."""
    segments: list[Segment] = []
    low, high = lines.columns[0] - lines.out_mm, lines.columns[-1] + lines.out_mm
    for number, y in enumerate(lines.rows):
        left, right = reach.nozzle((low, y)), reach.nozzle((high, y))
        segments += [
            To({"x": left[0], "y": left[1], "z": z_mm}, travel_mm_s, place=f"line {number + 1}"),
            Dwell(STANDS_S),
            To({"x": right[0]}, mm_s, place=f"{THERE} {number + 1}"),
            Dwell(STANDS_S),
            To({"x": left[0]}, mm_s, place=f"{BACK} {number + 1}"),
            Dwell(STANDS_S),
        ]
    return Program("a pass of the coil", segments)


def gone_mm(after_s: Floats, seconds: float, mm: float, top_mm_s: float) -> Floats:
    """How far along a line from standstill to standstill, mm: even acceleration, even speed, even braking."""
    ramp = max(0.0, seconds - mm / top_mm_s)
    if ramp <= 0:
        return np.clip(after_s / seconds, 0, 1) * mm
    if 2 * ramp >= seconds:  # it never reaches its speed
        ramp, top_mm_s = seconds / 2, 2 * mm / seconds
    t = np.clip(after_s, 0, seconds)
    acceleration = top_mm_s / ramp
    up = acceleration * np.minimum(t, ramp) ** 2 / 2
    even = top_mm_s * np.clip(t - ramp, 0, seconds - 2 * ramp)
    down = np.maximum(0.0, t - (seconds - ramp))
    return np.asarray(up + even + top_mm_s * down - acceleration * down**2 / 2, dtype=np.float64)


async def heights_in_pass(
    bench: Bench, lines: ScanLines, reach: ProbeArea, z_mm: float, mm_s: float, travel_mm_s: float, curve: CoilCurve
) -> CoilScan:
    """Pass over the lines.

    Raises:
        TrialFailed: it did not come to its end, or readings are missing over a place.
    """
    table = bench.motion.timetable(pass_program(lines, reach, z_mm, mm_s, travel_mm_s))
    times: list[Floats] = []
    values: list[Floats] = []
    async with bench.streams.open(COIL, RATE_HZ) as listening, bench.motion.run(table) as run:
        async for chunk in listening:
            times.append(chunk.time_s)
            values.append(chunk.values)
            if run.ended is not None and chunk.time_s[-1] > run.ended[1]:
                break
    if run.ended is None or run.ended[0] != "done" or run.begun_s is None:
        raise TrialFailed(f"The pass was not finished ({run.ended[0] if run.ended else 'stopped'}).", StartAgain())
    if run.going.starved:
        raise TrialFailed(
            f"The pass stood still {run.going.starved} times, because the line is too slow for it.",
            ChangeParameter("slow_mm_s", "slower"),
            ChangeSetting("board.baud", "a faster line"),
        )
    at, heights_mm = np.concatenate(times), np.concatenate(values)
    must_go_on_reading(heights_mm)
    coil = bench.machine.probe.coil if bench.machine.probe is not None else None
    assert coil is not None
    over_c = _warmth(at, heights_mm[:, 2]) - coil.warmth_c
    hz = unshifted(heights_mm[:, 0], coil.drift, over_c, coil.far_hz)
    heights = z_mm - curve.height(hz)
    there, back = (_binned(lines, table, run.begun_s, way, at, heights) for way in (THERE, BACK))
    return CoilScan(there, back, table.seconds, float(over_c.mean()))


def _warmth(at: Floats, samples: Floats) -> Floats:
    """How warm the coil was at each reading: a parabola through its readings, which scatters."""
    since = (at - at.mean()) / max(1e-9, float(np.ptp(at)))
    return np.asarray(np.polyval(np.polyfit(since, samples, 2), since), dtype=np.float64)


def _binned(lines: ScanLines, table: Timetable, begun_s: float, way: str, at: Floats, heights: Floats) -> Floats:
    program, first = table.program, table.segments[0].begins_s
    length = lines.columns[-1] - lines.columns[0] + 2 * lines.out_mm
    binned = np.empty((len(lines.rows), len(lines.columns)))
    for number, segment in enumerate(program.segments):
        kind, _, line = getattr(segment, "place", "").partition(" ")
        if kind != way:
            continue
        timed = table.segments[number]
        began = begun_s + timed.begins_s - first
        inside = (at >= began) & (at <= began + timed.seconds)
        gone = gone_mm(at[inside] - began, timed.seconds, length, timed.top_mm_s)
        x = lines.columns[0] - lines.out_mm + (gone if way == THERE else length - gone)
        for column, place in enumerate(lines.columns):
            near = np.abs(x - place) <= lines.over_mm
            if int(near.sum()) < LEAST_READINGS:
                raise TrialFailed(
                    f"Only {int(near.sum())} readings came over {place:.0f} mm of line {line}: pass slower, or take "
                    "fewer places.",
                    ChangeParameter("slow_mm_s", "slower"),
                    ChangeParameter("columns", "fewer points"),
                )
            binned[int(line) - 1, column] = float(heights[inside][near].mean())
    return binned
