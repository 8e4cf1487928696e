"""From what was measured of a sweep to its transfer: as a whole, and as it grows while the sweep goes on."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.run import Stream
from ublet.core.shake.recorded_shake import EDGE_HZ
from ublet.core.shake.shaking import DIRECTIONS, SHAKEN, MeasuredResponse
from ublet.core.shake.spectra import Bands, frequency_response_of, resampled
from ublet.core.shake.sweep import Sweep

RESPONSE = Stream(SHAKEN, ("time_s", "x_m_s2", "y_m_s2", "z_m_s2"), ("s", "m/s²", "m/s²", "m/s²"), 1600.0, "f4")
"""Readings as they came, by the board's clock, along the machine's axes."""

SWEPT = Stream("swept", ("begun_s", "from_hz", "to_hz", "seconds", "per_hz_m_s2"), ("s", "Hz", "Hz", "s", "m/s²/Hz"))
"""The sweep that the readings of the same word are of, and when its sine began by the board's clock."""

PIECE_S = 0.5
BIN_HZ, TOP_HZ = 4.0, 160.0
BINS = tuple(float(hz) for hz in np.arange(BIN_HZ, TOP_HZ + BIN_HZ / 2, BIN_HZ))

GROWING = Stream("growing", ("hz", "gain", "coherence"), ("Hz", "", ""))
"""Every half second: where the sweep is, the gain (measured / commanded), and the coherence."""

SPECTRUM = Stream("spectrum", ("time_s", *(f"hz_{hz:g}" for hz in BINS)), ("s", *("m/s²",) * len(BINS)), None, "f4")
"""Every half second: how much shakes, by frequency (amplitude in bands of 4 Hz)."""

FREQUENCY_RESPONSE = Stream("transfer", ("hz", "gain", "phase_rad", "gain_u", "coherence"), ("Hz", "", "rad", "", ""))
"""What moves over what is commanded, in bands."""


def bands_of(response: MeasuredResponse, sweep: Sweep, rate_hz: float) -> Bands:
    """The transfer along the sweep's direction. rate_hz: of the even times on which it is worked out, from the first
    reading of the sweep on; repeats that are to be taken together have the same.
    """
    count = int((sweep.duration_s + 0.2) * rate_hz)
    at = float(response.time_s[np.searchsorted(response.time_s, 0.0)]) + np.arange(count) / rate_hz
    along = response.along(sweep.axis)
    values = resampled(at, response.time_s, along - along.mean())
    return frequency_response_of(sweep.at(at), values, rate_hz, sweep.from_hz + EDGE_HZ / 2, sweep.to_hz - EDGE_HZ)


def rows_of(bands: Bands) -> list[tuple[float, ...]]:
    """Bands as rows of the stream."""
    columns = (
        bands.hz,
        np.abs(bands.frequency_response),
        np.angle(bands.frequency_response),
        np.sqrt(bands.variance),
        bands.coherence,
    )
    return [tuple(row) for row in np.column_stack(columns).tolist()]


@dataclass
class Growing:
    """What grows while a sweep goes on: take what came, and get the rows of each piece that is whole."""

    sweep: Sweep
    _times: list[Floats] = field(default_factory=list)
    _values: list[Floats] = field(default_factory=list)
    _from_s: float = 0.0

    def take(self, times: Floats, values: Floats) -> tuple[tuple[float, ...], tuple[float, ...]] | None:
        """Readings that came (n times since the sweep began, n x 3); a row of the growing transfer and one of the
        spectrum, when a piece is whole.
        """
        direction = DIRECTIONS[self.sweep.axis]
        self._times.append(times)
        self._values.append(
            np.asarray(sum(fraction * values[:, "xyz".index(axis)] for axis, fraction in direction.items()))
        )
        if times[-1] < self._from_s + PIECE_S:
            return None
        t, y = np.concatenate(self._times), np.concatenate(self._values)
        self._times, self._values, self._from_s = [], [], float(times[-1])
        if t[-1] > self.sweep.duration_s or t[0] < 0 or len(t) < 16:
            return None
        y = y - y.mean()
        middle = float(t.mean())
        hz = self.sweep.from_hz + self.sweep.rate_hz_s * middle
        turns = np.exp(-2j * np.pi * (self.sweep.from_hz * t + self.sweep.rate_hz_s * t**2 / 2))
        response, commanded = complex(y @ turns), complex(self.sweep.at(t) @ turns)
        coherence = min(1.0, 2 * abs(response) ** 2 / (len(t) * float(y @ y) + 1e-12))
        return (hz, abs(response / commanded), coherence), (middle, *self._spectrum(t, y).tolist())

    def _spectrum(self, t: Floats, y: Floats) -> Floats:
        """Amplitude in each bin."""
        hann = np.hanning(len(y))
        power = (2 * np.abs(np.fft.rfft(y * hann)) / hann.sum()) ** 2
        hz = np.fft.rfftfreq(len(y), float(t[-1] - t[0]) / (len(t) - 1))
        bins = np.digitize(hz, [low - BIN_HZ / 2 for low in BINS] + [TOP_HZ + BIN_HZ / 2]) - 1
        inside = (bins >= 0) & (bins < len(BINS))
        return np.asarray(np.sqrt(np.bincount(bins[inside], power[inside], len(BINS))))
