"""What hard and gentle sweeps, and repeats, tell apart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from ublet.core.bench import Bench
from ublet.core.shake.frame import Mode
from ublet.core.shake.mode_fit import fit_modes
from ublet.core.shake.spectra import Bands

NEAR = 0.05
"""A mode is the same when its frequency differs by less than this share."""

BENT = 1.5
"""What a frame does otherwise when it is shaken half as hard, it may do again, so many times over, standard: for motion
that is smaller still, and for a print.
"""


async def modes_in(
    bench: Bench, repeats: Sequence[Bands], together: Bands
) -> tuple[tuple[Mode, ...], list[tuple[Mode, ...]]]:
    """The modes of repeats taken together, as sure as the repeats agree; and those of each by itself."""
    modes = await bench.compute(fit_modes, together)
    each = [await bench.compute(fit_modes, one) for one in repeats] if len(repeats) > 1 else [modes]
    return widened(modes, each), each


def widened(modes: Sequence[Mode], each: Sequence[Sequence[Mode]]) -> tuple[Mode, ...]:
    """Modes with what hard and gentle sweeps (by turns) tell apart added to their uncertainties: friction that is no
    damper makes damping, and a little the frequency, depend on the size of the motion.
    """
    if len(each) < 2:
        return tuple(modes)
    found = []
    for mode in modes:
        near = [nearest(told, mode.frequency_hz) for told in each]
        hard, gentle = near[0::2], near[1::2]
        hz = _mean([one.frequency_hz for one in hard]) - _mean([one.frequency_hz for one in gentle])
        z = _mean([one.damping_ratio for one in hard]) - _mean([one.damping_ratio for one in gentle])
        hz_u, z_u = math.hypot(mode.frequency_u, BENT * hz), math.hypot(mode.damping_u, BENT * z)
        known = abs(hz) < NEAR * mode.frequency_hz  # else a sweep alone did not show it
        found.append(replace(mode, frequency_u=hz_u, damping_u=z_u) if known else mode)
    return tuple(found)


def nearest(modes: Sequence[Mode], hz: float) -> Mode:
    """The mode whose frequency is nearest."""
    return min(modes, key=lambda mode: abs(mode.frequency_hz - hz))


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values)


def wander(each: Sequence[Sequence[Mode]]) -> float:
    """By what share the main frequencies of repeats differ."""
    hz = [modes[0].frequency_hz for modes in each]
    return (max(hz) - min(hz)) / (sum(hz) / len(hz))
