"""Shaking the machine and listening to it: a swing along a direction while the accelerometer streams."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ublet.core.acts import MountSensor
from ublet.core.arrays import Floats
from ublet.core.bench import Bench, Listening
from ublet.core.heat.demands import preheats
from ublet.core.motion.homing_moves import go_to, home_unhomed
from ublet.core.motion.program import Program, SweepMove, Timetable
from ublet.core.motion.sweep_motion import LEAD_IN_S
from ublet.core.questions import Confirm
from ublet.core.remedies import ACCELEROMETER
from ublet.core.remedy import ByHand, ChangeSetting, GoTo, StartAgain
from ublet.core.run import Progress, TrialFailed
from ublet.core.shake.complaints import at_ends
from ublet.core.shake.mount import along_axes, declared_columns
from ublet.core.shake.rest_trials import MAX_LOST_FRACTION, RATE_HZ, SENSOR

SHAKEN = "shaken"
"""The stream of what was measured."""

BEFORE_S, AFTER_S = 0.4, 0.3
"""Recording before and after the sweep, s."""

TOGETHER = 10
"""Number of chunks recorded together: those of 0.4 s."""

SILENT_S = 0.2
"""A sensor all of whose readings are the same for so long is not read, s."""

HIGH_MM = 30.0
"""Height of the head above the bed while it is shaken, mm."""

AWAY_MM = 3.0
"""A swing stays so far from the limits, mm."""

CARRIED = 0.7
"""Share of the acceleration that the motors were found to carry."""

Mounting = Literal["head", "bed"]
HEAD: Mounting = "head"
BED: Mounting = "bed"
STOP = "stop here"

DIRECTIONS: Mapping[str, Mapping[str, float]] = {
    "x": {"x": 1.0},
    "y": {"y": 1.0},
    "x+y": {"x": math.sqrt(0.5), "y": math.sqrt(0.5)},
    "x-y": {"x": math.sqrt(0.5), "y": -math.sqrt(0.5)},
}
"""Directions in which a machine is shaken, of length one, by the word that names them."""


STILL_BEFORE_S = 0.05
"""Readings so long before a swing are of a machine at rest, s."""


@dataclass(frozen=True)
class MeasuredResponse:
    """What was measured of a swing: times by the board's clock since its sine began, s (n), acceleration along the
    machine's axes, m/s² (n x 3). lost: readings that were lost on the way; ends: share that stand at the ends.
    """

    time_s: Floats
    values: Floats
    rate_hz: float
    lost: int
    ends: float
    begun_s: float = 0.0

    @property
    def at_rest(self) -> NDArray[np.bool_]:
        """Which readings were taken before the swing began (n)."""
        return np.asarray(self.time_s < -STILL_BEFORE_S)

    def along(self, direction: str) -> Floats:
        """What was measured along a direction (n)."""
        parts = DIRECTIONS[direction]
        return np.asarray(sum(part * self.values[:, "xyz".index(axis)] for axis, part in parts.items()))


@dataclass(frozen=True)
class Bound:
    """How hard a direction may be shaken: m/s² a Hz, and what bounds it, in words."""

    per_hz_m_s2: float
    by: str


def bound(bench: Bench, direction: str, from_hz: float, to_hz: float, wanted_per_hz: float) -> Bound:
    """The hardest swing that travel, the axes' accelerations, and what their motors were found to carry allow."""
    bound_now = Bound(wanted_per_hz, "as asked for")
    once = SweepMove(DIRECTIONS[direction], from_hz, to_hz, 1.0, 1.0)
    with bench.aside():
        limits = bench.record.earlier("speed-limits")
        for axis, fraction in DIRECTIONS[direction].items():
            declared = getattr(bench.machine.axes, axis)
            top = abs(fraction) * once.peak_mm_s2
            strength = Bound(0.98 * declared.acceleration_mm_s2 / top, f"by the acceleration of {axis.upper()}")
            here = bench.motion.position(axis)
            room = min(here - declared.minimum_mm, declared.maximum_mm - here) if here is not None else 0.0
            travel = Bound(
                max(0.0, room - AWAY_MM) / (abs(fraction) * once.reach_mm), f"by the travel of {axis.upper()}"
            )
            carried = limits.finding("acceleration_limit", axis=axis) if limits is not None else None
            motors = (
                Bound(CARRIED * carried.value / top, f"by what the motors of {axis.upper()} carry")
                if carried is not None
                else strength
            )
            bound_now = min(bound_now, strength, travel, motors, key=lambda bound_: bound_.per_hz_m_s2)
    return bound_now


async def stand_in_the_middle(bench: Bench) -> None:
    """Home what is not homed, and stand over the middle of the bed; what was warmed for that goes off."""
    await home_unhomed(bench, ("x", "y", "z"))
    machine = bench.machine
    for heater in preheats(machine):
        await bench.heat.off(heater)
    with bench.aside():
        z = bench.motion.position("z")
        if z is not None and z < HIGH_MM:
            await go_to(bench, "z", HIGH_MM, machine.axes.z.homing.fast_mm_s)
        for axis, size in (("x", machine.bed.width_mm), ("y", machine.bed.depth_mm)):
            await go_to(bench, axis, size / 2, min(60.0, getattr(machine.axes, axis).maximum_feed_mm_s))


def sits_on(bench: Bench, direction: str) -> Mounting:
    """The part whose shaking counts for a direction: the bed where that moves along it."""
    return BED if bench.machine.bed.moves == direction else HEAD


async def sensor_on(bench: Bench, part: Mounting) -> None:
    """See to it that the sensor sits on the head, or on the bed; where the bed moves, the builder is asked.

    Raises:
        TrialFailed: the builder stops.
    """
    if bench.machine.bed.moves == "no":
        return
    asked = Confirm(
        f"Is the accelerometer on the {part} now? If not, move it there: flat, tight, same orientation, cable "
        "slack. It measures only the part it is mounted on.",
        (f"on the {part}", STOP),
        MountSensor(part),
    )
    if await bench.builder.ask(asked) == STOP:
        raise TrialFailed("Stopped before it was shaken. Nothing was changed.", StartAgain())


async def hands_off(bench: Bench, seconds: float) -> None:
    """Count down while hands leave the machine."""
    left = seconds
    while left > 0:
        bench.progress(
            Progress(
                "hands off", 0.0, left, f"hands off the machine: it shakes in {math.ceil(left)} s", phase_only=True
            )
        )
        await bench.clock.rest(min(1.0, left))
        left -= 1.0


async def shaken(
    bench: Bench,
    sweep_move: SweepMove,
    of: str,
    phase: str,
    fractions: tuple[float, float],
    growing: Callable[[Floats, Floats], None] = lambda times, values: None,
    how: str = "",
) -> MeasuredResponse:
    """Swing once, and listen from before it to after it: times since its sine began.

    growing: called with what came since it was called last (times since the sine began, along the machine's axes),
    while it goes on. Everything else as in :func:`heard_beside`.
    """

    def at(gone_s: float) -> str:
        swept_s = min(sweep_move.seconds, max(0.0, gone_s - LEAD_IN_S))
        hz = sweep_move.from_hz + (sweep_move.to_hz - sweep_move.from_hz) * swept_s / sweep_move.seconds
        return f"at {hz:.0f} Hz{how}"

    table = bench.motion.timetable(Program(f"swing {of}", (sweep_move,)))
    response = await response_to(
        bench, table, of, phase, fractions, at, lambda times, values: growing(times - LEAD_IN_S, values)
    )
    return replace(response, time_s=response.time_s - LEAD_IN_S, begun_s=response.begun_s + LEAD_IN_S)


async def response_to(
    bench: Bench,
    table: Timetable,
    of: str,
    phase: str,
    fractions: tuple[float, float],
    at: Callable[[float], str],
    growing: Callable[[Floats, Floats], None] = lambda times, values: None,
) -> MeasuredResponse:
    """Listen beside a program, from before it to after it; its first segment has a place. Times since that began.
    Everything that is measured is recorded, under a word.

    phase: what the progress calls it, from one share of the trial to another; at: where it is, so many seconds after it
    began.

    Raises:
        TrialFailed: the sensor fell silent, or the program was not finished.
    """
    words = declared_columns(bench.machine)
    pieces: list[tuple[int, Floats]] = []  # number of the first reading, and what was measured
    total = table.seconds + BEFORE_S + AFTER_S
    kept = _Kept(bench, of)
    async with bench.streams.open(SENSOR, RATE_HZ) as listening, kept:
        first = await _quietly(listening)
        async with bench.motion.run(table) as run:
            ends_s, silent = None, 0
            async for chunk in listening:
                response = along_axes(chunk.values, words)
                pieces.append((chunk.index, response))
                kept.take(chunk.time_s, response)
                silent = silent + len(chunk.values) if np.ptp(chunk.values, axis=0).max() == 0 else 0
                if silent > SILENT_S * RATE_HZ:
                    raise TrialFailed(
                        "The accelerometer fell silent while the machine was shaken: its plug, or its cable. The "
                        "motion was stopped; push the plug in, look at the cable, and start again.",
                        ByHand("push in the accelerometer's plug; look at its cable"),
                        ACCELEROMETER,
                    )
                if run.begun_s is not None:
                    growing(chunk.time_s - run.begun_s, response)
                gone = float(chunk.time_s[-1]) - first
                fraction = fractions[0] + (fractions[1] - fractions[0]) * min(1.0, gone / total)
                begun, now = run.begun_s, float(chunk.time_s[-1])
                where = at(now - begun) if begun is not None else "quiet before it begins"
                left = max(0.0, total - gone)
                bench.progress(Progress(phase, fraction, left, where, of, phase_only=True))
                if run.ended is not None and ends_s is None:
                    ends_s = run.ended[1] + AFTER_S
                if ends_s is not None and chunk.time_s[-1] >= ends_s:
                    break
        if run.ended is None or run.ended[0] != "done" or run.begun_s is None:
            raise TrialFailed(
                f"The motion was not finished ({run.ended[0] if run.ended else 'stopped'}).",
                StartAgain("once what stopped the motion is seen to"),
            )
        whole = np.concatenate([response for _, response in pieces])
        times = np.concatenate([listening.times(index, len(response)) for index, response in pieces])
    lost = sum(last - first_lost + 1 for first_lost, last in listening.gaps)
    if lost > MAX_LOST_FRACTION * len(whole):
        raise TrialFailed(
            f"{100 * lost / (lost + len(whole)):.0f} % of the readings were lost: the line is too slow, or this "
            "computer too busy. Close what else runs here, and start again.",
            StartAgain("when nothing else keeps this computer busy"),
            ChangeSetting("board.baud", "a faster line"),
            GoTo("resonance", "measure it from a print", "ringing-tower"),
        )
    ends = max(at_ends(column) for column in whole.T)
    return MeasuredResponse(times - run.begun_s, whole, listening.rate_hz, lost, ends, run.begun_s)


class _Kept:
    """Records what was measured, some chunks together: one by one they would cost more than everything else. Whatever
    ends the block, all that came is recorded.
    """

    def __init__(self, bench: Bench, of: str) -> None:
        self._bench, self._of = bench, of
        self._chunks: list[tuple[Floats, Floats]] = []

    def take(self, times: Floats, response: Floats) -> None:
        """A chunk came."""
        self._chunks.append((times, response))
        if len(self._chunks) >= TOGETHER:
            self._write()

    def _write(self) -> None:
        if self._chunks:
            times, response = (np.concatenate(chunk) for chunk in zip(*self._chunks, strict=True))
            self._bench.record.flow(SHAKEN, times, response, self._of)
            self._chunks.clear()

    async def __aenter__(self) -> None:
        return None

    async def __aexit__(self, *ended: object) -> None:
        self._write()


async def _quietly(listening: Listening) -> float:
    """Listen for a while before anything moves; returns when the first reading was taken, s."""
    first: float | None = None
    async for chunk in listening:
        first = float(chunk.time_s[0]) if first is None else first
        if chunk.time_s[-1] - first >= BEFORE_S:
            break
    return first or 0.0
