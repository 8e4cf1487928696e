"""Sweeps along a direction, hard and gentle by turns, unshaped; what makes them worth nothing."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.program import SWEEP_LEAD_S, SweepMove
from ublet.core.settings import Part, Value, setting
from ublet.core.shake.complaints import CLIPPED_FRACTION, LEAST_COHERENCE
from ublet.core.shake.shaking import DIRECTIONS, MeasuredResponse, bound, shaken
from ublet.core.shake.shapers import NONE, shaper_path
from ublet.core.shake.spectra import Bands
from ublet.core.shake.sweep import Sweep
from ublet.core.shake.sweep_response import GROWING, SPECTRUM, SWEPT, Growing, bands_of
from ublet.core.trial import Need

GENTLER = 0.5
"""Every second sweep is so strong, times the others."""

CROSS_AXIS_RATIO = 2.0
"""At this ratio of what another axis measures to what the swept one does, the sensor is mounted another way."""


class SweepParameters(Part):
    """How a sweep goes."""

    from_hz: float = setting("Where the sweep begins.", unit="Hz", low=2, high=60, default=5.0)
    to_hz: float = setting("Where it ends.", unit="Hz", low=40, high=200, default=130.0)
    seconds: float = setting("How long it takes.", unit="s", low=10, high=300, default=60.0)
    repeats: int = setting("Sweeps along each direction.", low=1, high=6, default=2)
    strength_m_s2_hz: float = setting(
        "Largest acceleration for each hertz; the axes' limits may make it less.",
        unit="m/s²/Hz",
        low=0.001,
        high=1,
        default=0.04,
    )
    hands_off_s: float = setting("Countdown before it shakes.", unit="s", low=0, high=60, default=5.0)


def unshaped(bench: Bench) -> Mapping[str, Value]:
    """Live settings with which motion is not shaped."""
    with bench.aside():
        kinds = {shaper_path(axis, "kind"): NONE for axis in ("x", "y")}
        return {path: none for path, none in kinds.items() if bench.settings.shown(path) not in (None, none)}


async def swept(
    bench: Bench, aim: SweepParameters, direction: str, fractions: tuple[float, float], before: int = 0, how: str = ""
) -> tuple[list[MeasuredResponse], list[Bands], Sweep, str]:
    """Sweep along a direction, so often as is asked for, every second time half as hard: what rings otherwise then is
    not as simple as a frame of springs. shares: of the whole trial, from and to; before: sweeps along it before;
    how: what is otherwise than with them, in words.

    Returns what was measured, its transfers, the sweep, and what bounds its strength.
    """
    hardest = bound(bench, direction, aim.from_hz, aim.to_hz, aim.strength_m_s2_hz)
    response: list[MeasuredResponse] = []
    bands: list[Bands] = []
    for number in range(aim.repeats):
        of, strength = f"{direction} {before + number + 1}", hardest.per_hz_m_s2 * (GENTLER if number % 2 else 1.0)
        sweep_move = SweepMove(DIRECTIONS[direction], aim.from_hz, aim.to_hz, aim.seconds, strength, direction)
        sweep = Sweep(direction, aim.from_hz, aim.to_hz, aim.seconds, strength)
        growing = Growing(sweep)

        def grow(times: Floats, values: Floats, growing: Growing = growing, of: str = of) -> None:
            rows = growing.take(times, values)
            if rows is not None:
                bench.record.row(GROWING.name, rows[0], of)
                bench.record.row(SPECTRUM.name, rows[1], of)

        step = (fractions[1] - fractions[0]) / aim.repeats
        part = (fractions[0] + step * number, fractions[0] + step * (number + 0.95))
        phase = f"{axis_words(direction)} sweep {before + number + 1}/{before + aim.repeats}"
        response.append(await shaken(bench, sweep_move, of, phase, part, grow, how))
        excitation = (sweep.from_hz, sweep.to_hz, sweep.duration_s, sweep.per_hz_m_s2)
        bench.record.rows(SWEPT.name, [(response[-1].begun_s, *excitation)], of)
        bands.append(await bench.compute(bands_of, response[-1], sweep, response[0].rate_hz))
    whole = Sweep(direction, aim.from_hz, aim.to_hz, aim.seconds, hardest.per_hz_m_s2)
    return response, bands, whole, hardest.by


PEAKS = 0.3
"""Where a frame rings: gains of at least this share of the largest."""

FAST, RATTLES, FEWEST_AT_REST = (0.27, 0.45), 6.0, 60
"""Frequencies above all that a sweep moves, as shares of the rate; a sound mount is as quiet there while it is shaken
as at rest, one that rattles reads more than so many times the power.
"""


def _rattles(response: MeasuredResponse, direction: str) -> float:
    """By how much the power of fast noise is greater while the sweep goes on than before it; 1 where nothing is known
    of the rest.
    """
    along = response.along(direction)
    rest, shaken = along[response.at_rest], along[response.time_s > 0]
    if min(len(rest), len(shaken)) < FEWEST_AT_REST:
        return 1.0

    def power(values: Floats) -> float:
        hann = np.hanning(len(values))
        turned = np.abs(np.fft.rfft((values - values.mean()) * hann)) ** 2
        fractions = np.fft.rfftfreq(len(values))
        return float(np.mean(turned[(fractions > FAST[0]) & (fractions < FAST[1])])) / float(hann @ hann)

    return power(shaken) / max(power(rest), 1e-12)


def amiss_of(response: Sequence[MeasuredResponse], bands: Bands, direction: str) -> list[str]:
    """What makes sweeps worth nothing, as sentences."""
    wrong = []
    shook = np.mean([measured.values.std(axis=0) for measured in response], axis=0)
    best = "xyz"[int(np.argmax(shook))]
    if best not in direction and float(shook.max()) > CROSS_AXIS_RATIO * float(
        np.mean([e.along(direction).std() for e in response])
    ):
        wrong.append(
            f"What shook along {axis_words(direction)} shows on what is declared as the sensor's {best.upper()}: find "
            "out how it is turned (station accelerometer), or whether it sits on the part that moves."
        )
        return wrong
    rattle = max((_rattles(measured, direction) for measured in response), default=0.0)
    if rattle > RATTLES:
        wrong.append(
            f"During the sweep the sensor reads {math.sqrt(rattle):.0f} times as much noise as at rest: its mount "
            "rattles. Screw or clamp it down (no tape, no foam), and sweep again."
        )
    if any(measured.ends > CLIPPED_FRACTION for measured in response):
        wrong.append("The readings stand at the ends of the sensor's range: it was shaken too hard; sweep more gently.")
    gain = np.abs(bands.frequency_response)
    rings = gain >= PEAKS * float(np.max(gain))  # far above what rings little moves, and noise alone is measured
    if float(np.median(bands.coherence[rings])) < LEAST_COHERENCE:
        wrong.append(
            "Even at resonance less than half of the response follows the sweep: too gentle a sweep, a cable that "
            "drags, or a loose mount (station accelerometer finds it). Sweep harder (the parameter strength), tie the "
            "cable loosely, and sweep again."
        )
    return wrong


def axis_words(direction: str) -> str:
    """A direction as people call it."""
    return {"x+y": "diagonal A", "x-y": "diagonal B"}.get(direction, direction.upper())


def sweep_needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    """What shaking and listening needs."""
    return (*motion_needs(machine, aim, read), Need("the accelerometer mounted, its cable loose", True))


def sweep_seconds(aim: SweepParameters, directions: int) -> float:
    """How long the sweeps take, s."""
    return directions * (aim.repeats * (aim.seconds + SWEEP_LEAD_S + 0.7) + aim.hands_off_s)
