"""Frames made up at random, and what an accelerometer would record of them: none of it is the estimators'."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats

FINER = 8
COUNT_M_S2 = 0.038
"""One count of a sensor of 16 g in 13 bits."""


@dataclass(frozen=True)
class Structure:
    """One axis: frequencies in Hz, dampings, shares (k each)."""

    hz: tuple[float, ...]
    damping: tuple[float, ...]
    modal_share: tuple[float, ...]


def structure(random: np.random.Generator) -> Structure:
    """One to three modes of 20 to 110 Hz, damping 0.02 to 0.15; the main one has the largest share."""
    modes = int(random.integers(1, 4))
    while True:
        hz = np.sort(random.uniform(20, 110, modes))
        if modes == 1 or np.min(np.diff(hz) / hz[:-1]) > 0.2:
            break
    fractions = random.uniform(0.12, 0.35, modes)
    main = int(random.integers(modes))
    fractions[main] = 1 - (fractions.sum() - fractions[main])
    return Structure(tuple(hz), tuple(random.uniform(0.02, 0.15, modes)), tuple(fractions))


def recorded(
    made: Structure,
    words: Callable[[Floats], Floats],
    times: Floats,
    random: np.random.Generator,
    noise_db: float,
) -> Floats:
    """What the sensor records at even times (n, s) of an excitation (m/s² at any times, s): every mode integrated by
    itself in steps of an eighth of the time between readings (first-order hold), noise so many dB below the response,
    an offset, counts.
    """
    from scipy.signal import cont2discrete, lfilter

    step = float(times[1] - times[0]) / FINER
    fine = words(np.asarray(float(times[0]) + step * np.arange(FINER * len(times)), dtype=np.float64))
    response = np.zeros(len(fine))
    for hz, z, fraction in zip(made.hz, made.damping, made.modal_share, strict=True):
        w = 2 * np.pi * hz
        top, bottom, _ = cont2discrete(([w**2], [1, 2 * z * w, w**2]), step, "foh")
        response += fraction * lfilter(np.ravel(top), bottom, fine)
    response = response[::FINER]
    response += random.normal(0, float(np.sqrt(np.mean(response**2))) * 10 ** (-noise_db / 20), len(response))
    response += random.uniform(-0.3, 0.3)
    return np.asarray(np.round(response / COUNT_M_S2) * COUNT_M_S2)
