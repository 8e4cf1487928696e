"""Frames made up at random, and what an accelerometer would record of them: none of it is the estimators'."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

GRAVITY = 9.80665
COUNT_M_S2 = 0.038
"""One count of a sensor of 16 g in 13 bits."""


@dataclass(frozen=True)
class Structure:
    """One axis: frequencies in Hz, dampings, shares (k each)."""

    hz: tuple[float, ...]
    damping: tuple[float, ...]
    share: tuple[float, ...]


def structure(random: np.random.Generator) -> Structure:
    """One to three modes of 20 to 110 Hz, damping 0.02 to 0.15; the main one has the largest share."""
    modes = int(random.integers(1, 4))
    while True:
        hz = np.sort(random.uniform(20, 110, modes))
        if modes == 1 or np.min(np.diff(hz) / hz[:-1]) > 0.2:
            break
    shares = random.uniform(0.12, 0.35, modes)
    main = int(random.integers(modes))
    shares[main] = 1 - (shares.sum() - shares[main])
    return Structure(tuple(hz), tuple(random.uniform(0.02, 0.15, modes)), tuple(shares))


def recorded(
    made: Structure, told: Floats, rate_hz: float, random: np.random.Generator, noise_db: float, wander: float = 0.0
) -> Floats:
    """What the sensor records of an excitation (n even values, m/s²): every mode integrated by itself in steps of the
    rate (first-order hold), noise so many dB below the response, counts, an offset, and gravity's share. wander: share
    by which a mode's stiffness differs at the two ends of its travel, mixed half and half.
    """
    from scipy.signal import cont2discrete, lfilter

    heard = np.zeros(len(told))
    for hz, z, share in zip(made.hz, made.damping, made.share, strict=True):
        for way in (-wander, wander) if wander else (0.0,):
            w = 2 * np.pi * hz * (1 + way)
            top, bottom, _ = cont2discrete(([w**2], [1, 2 * z * w, w**2]), 1 / rate_hz, "foh")
            heard += share * (0.5 if wander else 1.0) * lfilter(np.ravel(top), bottom, told)
    heard += random.normal(0, float(np.sqrt(np.mean(heard**2))) * 10 ** (-noise_db / 20), len(told))
    heard += random.uniform(-0.3, 0.3)
    return np.asarray(np.round(heard / COUNT_M_S2) * COUNT_M_S2)
