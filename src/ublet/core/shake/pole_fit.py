"""Where modes begin: the poles of a transfer by vector fitting, which needs no good guess."""

from __future__ import annotations

import numpy as np

from ublet.core.shake.frame import Complex, Floats

ROUNDS = 12
EVERY = 2
"""Of the bands every so many are enough to begin with."""

Z_START = 0.02


def poles_of(hz: Floats, transfer: Complex, weight: Floats, modes: int) -> tuple[Floats, Floats]:
    """Undamped frequencies (Hz) and damping ratios of so many pairs of poles of a transfer at n frequencies.

    Poles are moved to the zeros of ``sigma`` in ``sigma H = sum c / (s - a)``, ``sigma = 1 + sum d / (s - a)``, both
    by linear least squares, again and again (Gustavsen & Semlyen 1999). They begin spread over the band.
    """
    hz, transfer, weight = hz[::EVERY], transfer[::EVERY], weight[::EVERY]
    scale = 2 * np.pi * float(hz[-1])
    s = 2j * np.pi * hz / scale
    start = np.linspace(float(hz[0]), float(hz[-1]), modes + 2)[1:-1] / float(hz[-1])
    poles = -Z_START * start + 1j * start
    for _ in range(ROUNDS):
        basis = np.empty((len(s), 2 * modes), dtype=np.complex128)
        basis[:, 0::2] = 1 / (s[:, None] - poles) + 1 / (s[:, None] - poles.conj())
        basis[:, 1::2] = 1j / (s[:, None] - poles) - 1j / (s[:, None] - poles.conj())
        whole = np.hstack([basis, -transfer[:, None] * basis]) * weight[:, None]
        told = transfer * weight
        stacked = np.vstack([whole.real, whole.imag])
        found, *_ = np.linalg.lstsq(stacked, np.concatenate([told.real, told.imag]), rcond=None)
        poles = _moved(poles, found[2 * modes :])
    w = np.abs(poles)
    return w * scale / (2 * np.pi), np.clip(-poles.real / w, 1e-3, 1.0)


def _moved(poles: Complex, d: Floats) -> Complex:
    """The zeros of sigma, stable, one of each pair."""
    size = 2 * len(poles)
    states, into = np.zeros((size, size)), np.zeros(size)
    for number, pole in enumerate(poles.tolist()):
        at = 2 * number
        states[at : at + 2, at : at + 2] = [[pole.real, pole.imag], [-pole.imag, pole.real]]
        into[at] = 2.0
    zeros = np.linalg.eigvals(states - np.outer(into, d))
    pairs = [zero for zero in zeros if zero.imag > 1e-9]
    real = sorted((zero.real for zero in zeros if abs(zero.imag) <= 1e-9), key=abs)
    for one, other in zip(real[0::2], real[1::2], strict=False):  # two that do not ring: the mode that they would be
        w = np.sqrt(abs(one * other))
        pairs.append(complex(-0.7 * w, 0.7 * w))
    found = np.array([complex(-abs(pair.real) - 1e-4, pair.imag) for pair in pairs[: len(poles)]])
    return np.asarray(found if len(found) == len(poles) else poles, dtype=np.complex128)
