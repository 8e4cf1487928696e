"""The frame as a model: what moves follows what was commanded through a sum of modes (handbook, section 8)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ublet.core.arrays import Complex, Floats


@dataclass(frozen=True)
class Mode:
    """A vibration mode of an axis: undamped frequency in Hz, damping ratio, share; with standard uncertainties.

    bounds_hz: it stands for two or more that the record cannot separate; where they lie, at least.
    """

    frequency_hz: float
    damping_ratio: float
    modal_share: float
    frequency_u: float = 0.0
    damping_u: float = 0.0
    bounds_hz: tuple[float, float] | None = None

    @property
    def w(self) -> float:
        """Undamped angular frequency, rad/s."""
        return 2 * math.pi * self.frequency_hz

    def moved(self, fraction: float) -> Mode:
        """The same at another frequency, by a share of it."""
        return Mode(self.frequency_hz * (1 + fraction), self.damping_ratio, self.modal_share)


def frequency_response(modes: Sequence[Mode], hz: Floats) -> Complex:
    """Frequency response X/Xc at n frequencies, Hz: ``sum p w^2 / (s^2 + 2 z w s + w^2)``."""
    s = 2j * np.pi * np.asarray(hz)
    response = np.zeros(np.shape(hz), dtype=np.complex128)
    for mode in modes:
        response += mode.modal_share * mode.w**2 / (s**2 + 2 * mode.damping_ratio * mode.w * s + mode.w**2)
    return response


def rings_mm(modes: Sequence[Mode], acceleration_mm_s2: float) -> tuple[float, float]:
    """Amplitude of ringing after a step of the acceleration, and its standard uncertainty, mm.

    A mode that follows ``p w^2 / (s^2 + 2 z w s + w^2)`` lags its command by ``p a / w^2`` under a steady acceleration
    ``a``; when that begins or ends, it rings by as much. In the worst case all modes add.
    """
    amplitudes = [abs(mode.modal_share) * acceleration_mm_s2 / mode.w**2 for mode in modes]
    u = [mm * 2 * mode.frequency_u / mode.frequency_hz for mm, mode in zip(amplitudes, modes, strict=True)]
    return sum(amplitudes), math.hypot(*u)


FEET_HZ = 15.0
"""Below, a mode of a small share is the whole machine on its feet."""


def in_print(modes: Sequence[Mode]) -> tuple[Mode, ...]:
    """The modes that show in a print, their shares summing to one: the machine on its feet carries nozzle and bed
    together. The largest one always counts.
    """
    main = max(modes, key=lambda mode: mode.modal_share)
    kept = [mode for mode in modes if mode is main or mode.frequency_hz >= FEET_HZ]
    whole = sum(mode.modal_share for mode in kept)
    return tuple(replace(mode, modal_share=mode.modal_share / whole) for mode in kept)
