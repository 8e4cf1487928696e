"""From a record and its known excitation to a transfer by bands, with its coherence; or to a density without one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ublet.core.arrays import Complex, Floats

BAND_HZ = 0.12
"""Width of a band: narrow beside the narrowest peak (20 Hz, damping 0.02: 0.8 Hz), wide enough to hold some bins."""

NEIGHBOURS = 15
LINE_TIMES = 30.0
"""A band whose noise is so many times that of its neighbours holds a line that does not follow the excitation."""


@dataclass(frozen=True)
class Bands:
    """The transfer in n bands: their middles in Hz, H, the variance of its real and of its imaginary part, coherence;
    lines: frequencies of lines that do not follow the excitation.
    """

    hz: Floats
    frequency_response: Complex
    variance: Floats
    coherence: Floats
    lines: tuple[float, ...] = ()


def frequency_response_of(commanded: Floats, response: Floats, rate_hz: float, low_hz: float, high_hz: float) -> Bands:
    """The transfer from n even values of the excitation to n of the response, between two frequencies.

    Bins of the whole record are gathered in bands: ``H = sum Y U* / sum U U*``, coherence
    ``|sum Y U*|^2 / (sum U U* sum Y Y*)`` (Bendat & Piersol 2010, section 5.2); its variance is what the band's bins
    leave of ``Y - H U``, even over neighbours.
    """
    count = len(commanded)
    first, last = int(np.ceil(low_hz * count / rate_hz)), int(high_hz * count / rate_hz)
    u = np.fft.rfft(commanded)[first : last + 1]
    y = np.fft.rfft(response)[first : last + 1]
    bins = max(4, round(BAND_HZ * count / rate_hz))
    bands = len(u) // bins
    u, y = u[: bands * bins].reshape(bands, bins), y[: bands * bins].reshape(bands, bins)
    s_uu = np.sum(np.abs(u) ** 2, axis=1)
    s_uy = np.sum(y * np.conj(u), axis=1)
    s_yy = np.sum(np.abs(y) ** 2, axis=1)
    gain = s_uy / s_uu
    left = np.maximum(s_yy - np.abs(s_uy) ** 2 / s_uu, 1e-30) / max(1, bins - 1)
    usual = _even(left)
    hz = (first + bins * (np.arange(bands) + 0.5) - 0.5) * rate_hz / count
    lines = left > LINE_TIMES * usual
    noise = np.where(lines, left, usual)
    return Bands(hz, gain, noise / (2 * s_uu), np.abs(s_uy) ** 2 / (s_uu * s_yy), _peaks(hz, left, lines))


GAP_STEPS = 1.6
"""A step of time that is so many usual ones long is a gap."""


def resampled(at: Floats, time_s: Floats, values: Floats) -> Floats:
    """Values at other times, by cubics through the readings: straight lines would take 3 % away at a tenth of the rate.
    Gaps are bridged straight.
    """
    from scipy.interpolate import CubicSpline

    values_at = np.asarray(CubicSpline(time_s, values)(at), dtype=np.float64)
    steps = np.diff(time_s)
    wide = steps > GAP_STEPS * float(np.median(steps))
    step = np.clip(np.searchsorted(time_s, at, side="right") - 1, 0, len(steps) - 1)
    bridged = wide[step] | (at < time_s[0]) | (at > time_s[-1])
    values_at[bridged] = np.interp(at[bridged], time_s, values)
    return values_at


EDGE_S, AT_REST = 0.05, 0.1
TAPER_S = 0.25


def moves_at_ends(response: Floats, rate_hz: float) -> tuple[bool, bool]:
    """Whether n even values begin, and end, with more than a tenth of what they are in the mean."""
    count = max(2, round(EDGE_S * rate_hz))
    size = float(np.sqrt(np.mean(response**2)))
    first, last = (float(np.sqrt(np.mean(part**2))) for part in (response[:count], response[-count:]))
    return first > AT_REST * size, last > AT_REST * size


def tapered(values: Floats, rate_hz: float, ends: tuple[bool, bool]) -> Floats:
    """Values brought to rest at their beginning, at their end, over a quarter of a second of a cosine."""
    count = min(len(values) // 4, round(TAPER_S * rate_hz))
    rise = (1 - np.cos(np.pi * (np.arange(count) + 0.5) / count)) / 2
    window = np.ones(len(values))
    if ends[0]:
        window[:count] = rise
    if ends[1]:
        window[-count:] = rise[::-1]
    return values * window


def averaged(repeats: Sequence[Bands]) -> Bands:
    """Repeats of one sweep as one, band by band, weighed by their variance; where they differ by more than their noise
    says, neighbours taken together, the difference counts (Birge 1932).
    """
    if len(repeats) == 1:
        return repeats[0]
    weights = np.array([1 / bands.variance for bands in repeats])
    variance = 1 / weights.sum(axis=0)
    mean = np.asarray((np.array([bands.frequency_response for bands in repeats]) * weights).sum(axis=0) * variance)
    apart = np.array([np.abs(bands.frequency_response - mean) ** 2 / (2 * bands.variance) for bands in repeats])
    wider = np.maximum(1.0, _even(apart.sum(axis=0) / (len(repeats) - 1), mean=True))
    lines = sorted({line for bands in repeats for line in bands.lines})
    coherence = np.asarray(np.mean([bands.coherence for bands in repeats], axis=0))
    return Bands(repeats[0].hz, mean, variance * wider, coherence, tuple(lines))


def _even(left: Floats, mean: bool = False) -> Floats:
    """The median, or the mean, of every value's neighbours."""
    padded = np.pad(left, NEIGHBOURS, mode="reflect") if len(left) > NEIGHBOURS else left
    if len(padded) == len(left):
        return np.full(len(left), float(np.mean(left) if mean else np.median(left)))
    windows = np.lib.stride_tricks.sliding_window_view(padded, 2 * NEIGHBOURS + 1)
    return np.asarray(np.mean(windows, axis=1) if mean else np.median(windows, axis=1))


def _peaks(hz: Floats, left: Floats, there: NDArray[np.bool_]) -> tuple[float, ...]:
    """The strongest band of every group of neighbouring ones."""
    peaks: list[float] = []
    at = np.flatnonzero(there)
    for group in np.split(at, np.flatnonzero(np.diff(at) > 3) + 1) if len(at) else []:
        peaks.append(round(float(hz[group[np.argmax(left[group])]]), 1))
    return tuple(peaks)


def density_of(response: Floats, rate_hz: float, low_hz: float, high_hz: float) -> tuple[Floats, Floats, int]:
    """Power spectral density of n even values (Welch 1967: Hann windows that overlap by half), between two frequencies:
    frequencies, density, and how many windows there were.
    """
    size = min(len(response), int(2 ** np.round(np.log2(rate_hz / 0.4))))
    windows = np.lib.stride_tricks.sliding_window_view(response, size)[:: size // 2]
    hann = np.hanning(size)
    power = np.abs(np.fft.rfft((windows - windows.mean(axis=1, keepdims=True)) * hann, axis=1)) ** 2
    hz = np.fft.rfftfreq(size, 1 / rate_hz)
    inside = (hz >= low_hz) & (hz <= high_hz)
    density = np.asarray(2 * power.mean(axis=0)[inside] / (rate_hz * float(hann @ hann)), dtype=np.float64)
    return np.asarray(hz[inside], dtype=np.float64), density, len(windows)
