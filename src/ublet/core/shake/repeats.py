"""What hard and gentle sweeps, and repeats, distinguish."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from ublet.core.bench import Bench
from ublet.core.shake.frame import Mode
from ublet.core.shake.mode_fit import FrameFit, fit_frame, fit_modes
from ublet.core.shake.spectra import Bands

NEAR = 0.05
"""A mode is the same when its frequency differs by less than this share."""

BENT = 1.5
"""What a frame does otherwise when it is shaken half as hard, it may do again, so many times over, standard: for motion
that is smaller still, and for a print.
"""


ONCE_HZ, ONCE_Z = 0.001, 0.05
"""What gentler sweeps would show and a sweep alone does not, as shares of frequency and damping, standard: a fifth of a
newton of friction does so much.
"""


async def modes_in(bench: Bench, repeats: Sequence[Bands], together: Bands) -> tuple[FrameFit, list[tuple[Mode, ...]]]:
    """The modes of repeats taken together, as sure as the repeats agree; and those of each by itself."""
    fit = await bench.compute(fit_frame, together)
    repeat_modes = [await bench.compute(fit_modes, one) for one in repeats] if len(repeats) > 1 else [fit.modes]
    return replace(fit, modes=tuple(_as_mounted(mode) for mode in widened(fit.modes, repeat_modes))), repeat_modes


HUNG_HZ, HUNG_Z = 0.002, 0.015
"""A sensor's cable adds up to a hundredth to what moves, now more, now less, whatever repeats agree on: as shares of
frequency and damping, standard.
"""


def _as_mounted(mode: Mode) -> Mode:
    """A mode of the machine without the sensor that listened to it."""
    return replace(
        mode,
        frequency_u=math.hypot(mode.frequency_u, HUNG_HZ * mode.frequency_hz),
        damping_u=math.hypot(mode.damping_u, HUNG_Z * mode.damping_ratio),
    )


def widened(modes: Sequence[Mode], repeat_modes: Sequence[Sequence[Mode]]) -> tuple[Mode, ...]:
    """Modes with what hard and gentle sweeps (by turns) distinguish added to their uncertainties: friction that is no
    damper makes damping, and a little the frequency, depend on the size of the motion. Of one sweep alone: with what
    repeats usually show.
    """
    if len(repeat_modes) < 2:
        return tuple(
            replace(
                mode,
                frequency_u=math.hypot(mode.frequency_u, ONCE_HZ * mode.frequency_hz),
                damping_u=math.hypot(mode.damping_u, ONCE_Z * mode.damping_ratio),
            )
            for mode in modes
        )
    widened_modes = []
    for mode in modes:
        near = [nearest(pair, mode.frequency_hz) for pair in repeat_modes]
        hard, gentle = near[0::2], near[1::2]
        hz = _mean([one.frequency_hz for one in hard]) - _mean([one.frequency_hz for one in gentle])
        z = _mean([one.damping_ratio for one in hard]) - _mean([one.damping_ratio for one in gentle])
        hz_u, z_u = math.hypot(mode.frequency_u, BENT * hz), math.hypot(mode.damping_u, BENT * z)
        known = abs(hz) < NEAR * mode.frequency_hz  # else a sweep alone did not show it
        widened_modes.append(replace(mode, frequency_u=hz_u, damping_u=z_u) if known else mode)
    return tuple(widened_modes)


def nearest(modes: Sequence[Mode], hz: float) -> Mode:
    """The mode whose frequency is nearest."""
    return min(modes, key=lambda mode: abs(mode.frequency_hz - hz))


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values)


def wander(repeat_modes: Sequence[Sequence[Mode]]) -> float:
    """By what share the main frequencies of repeats differ."""
    hz = [modes[0].frequency_hz for modes in repeat_modes]
    return (max(hz) - min(hz)) / (sum(hz) / len(hz))
