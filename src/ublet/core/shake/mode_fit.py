"""Modes fitted to a frequency response: starting poles, how many modes there are, their frequencies and dampings."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ublet.core.arrays import Complex, Floats
from ublet.core.least_squares import Minimum, jacobian, minimise
from ublet.core.shake.frame import Mode, frequency_response
from ublet.core.shake.spectra import Bands

ROUNDS = 12
EVERY = 2
"""Of the bands every so many are enough to begin with."""

Z_START = 0.02


def poles_of(hz: Floats, frequency_response: Complex, weight: Floats, modes: int) -> tuple[Floats, Floats]:
    """Undamped frequencies (Hz) and damping ratios of so many pairs of poles of a transfer at n frequencies.

    Poles are moved to the zeros of ``sigma`` in ``sigma H = sum c / (s - a)``, ``sigma = 1 + sum d / (s - a)``, both
    by linear least squares, again and again (Gustavsen & Semlyen 1999). They begin spread over the band.
    """
    hz, frequency_response, weight = hz[::EVERY], frequency_response[::EVERY], weight[::EVERY]
    scale = 2 * np.pi * float(hz[-1])
    s = 2j * np.pi * hz / scale
    start = np.linspace(float(hz[0]), float(hz[-1]), modes + 2)[1:-1] / float(hz[-1])
    poles = -Z_START * start + 1j * start
    for _ in range(ROUNDS):
        basis = np.empty((len(s), 2 * modes), dtype=np.complex128)
        basis[:, 0::2] = 1 / (s[:, None] - poles) + 1 / (s[:, None] - poles.conj())
        basis[:, 1::2] = 1j / (s[:, None] - poles) - 1j / (s[:, None] - poles.conj())
        whole = np.hstack([basis, -frequency_response[:, None] * basis]) * weight[:, None]
        weighted = frequency_response * weight
        stacked = np.vstack([whole.real, whole.imag])
        residues, *_ = np.linalg.lstsq(stacked, np.concatenate([weighted.real, weighted.imag]), rcond=None)
        poles = _moved(poles, residues[2 * modes :])
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
    moved = np.array([complex(-abs(pair.real) - 1e-4, pair.imag) for pair in pairs[: len(poles)]])
    return np.asarray(moved if len(moved) == len(poles) else poles, dtype=np.complex128)


MOST_MODES = 6
LEAST_FRACTION = 0.02
"""A mode of a smaller share, whatever its sign, is fitted where it shows, and not reported."""

MOST_OF_ALL, MAX_SHARE_U = 1.5, 0.25
"""Shares of a frame sum to one; a fit whose sizes sum to more than this, or one of whose shares is less sure than that,
plays modes against one another: it has more than the record distinguishes.
"""

BESIDE, SHOWS = 0.15, 0.05
"""A further mode so near, as a share of the frequency, with so large a share, bears on what is reported of another."""

WHOLE_OFF = 0.15
"""What shares may sum to besides one: a mode below the sweep is missing, a sensor's scale is off."""

WORTH, NOTHING_LEFT, FORM_FRACTION = 9.0, 1.15, 0.25
"""Every number of a further mode must lower the sum of squares by so many times what it would by chance, of the noise
as the best fit leaves it; below so much a degree of freedom nothing but noise is left. What every fit leaves beyond
noise is of the form: a mode that takes no more than this share of it makes nothing clearer.
"""

AROUND, STANDS_OUT = 21, 2.2
"""Over so many bands a fit that is good leaves 1 in the mean, and less than this wherever one looks."""

LOWEST_Z, HIGHEST_Z = 0.003, 0.5
EACH = 4
"""Numbers of a mode: logarithms of frequency and damping, share, and how it is damped."""

RELATIVE_U, MOST_RELATIVE = 0.7, 3.0
"""How much of a mode's damping lies between what is commanded and what moves is not known: between none and all of
it.
"""

FORM_HZ, FORM_Z = 0.0008, 0.006
"""What bands of finite width and a friction that is no damping leave open besides the noise, as shares of frequency and
damping, standard.
"""


@dataclass(frozen=True)
class FrameFit:
    """Modes, the largest share first, those of a small share left out.

    whole: what the shares summed to before they were made to sum to one, with its standard uncertainty.
    """

    modes: tuple[Mode, ...]
    whole: float
    whole_u: float

    @property
    def is_whole(self) -> bool:
        """Whether the shares sum to one within what they may."""
        return abs(self.whole - 1) <= WHOLE_OFF + 2 * self.whole_u


def fit_frame(bands: Bands) -> FrameFit:
    """Modes of a transfer, as many as it distinguishes: where more leave less but only play shares against one another,
    fewer are reported, one of them for those that cannot be separated, with bounds.

    What the fit with a further mode says otherwise of a mode is in its uncertainty: poles that lie close, and small
    ones that were not found, move the others.
    """
    fits, wanted = _fits(bands)
    count = next(at for at in range(wanted, -1, -1) if at == 0 or _sound(bands, fits[at]))
    modes = _modes_of(bands, fits[count])
    if count + 1 < len(fits) and (count < wanted or _sound(bands, fits[count + 1])):
        further = _modes_of(bands, fits[count + 1])
        modes = tuple(_beside(mode, further, apart=count == wanted) for mode in modes)
    fractions = np.zeros(len(fits[count]))
    fractions[2::EACH] = 1.0
    u = math.sqrt(max(0.0, float(fractions @ _covariance(bands, fits[count]) @ fractions)))
    return FrameFit(modes, float(fractions @ fits[count]), u)


def fit_modes(bands: Bands) -> tuple[Mode, ...]:
    """Modes of a transfer, the largest share first; those of a small share are left out (as by `fit_frame`)."""
    return fit_frame(bands).modes


def _sound(bands: Bands, x: Floats) -> bool:
    """Whether the shares of a fit are those of modes that it distinguishes."""
    p = x[2::EACH]
    u = np.sqrt(np.maximum(np.diag(_covariance(bands, x))[2::EACH], 0.0))
    return bool(np.sum(np.abs(p)) <= MOST_OF_ALL * abs(float(np.sum(p))) and np.all(u <= MAX_SHARE_U))


def _beside(mode: Mode, further: Sequence[Mode], apart: bool) -> Mode:
    """A mode with what a fit with a further one says otherwise of it; not apart: it stands for all that lie near."""
    near = [
        further_mode
        for further_mode in further
        if abs(further_mode.frequency_hz / mode.frequency_hz - 1) < BESIDE and abs(further_mode.modal_share) >= SHOWS
    ]
    if not near:
        return mode
    if apart:
        near = [max(near, key=lambda slowest: abs(slowest.modal_share))]
    hz = max(abs(neighbour.frequency_hz - mode.frequency_hz) for neighbour in near)
    z = max(abs(neighbour.damping_ratio - mode.damping_ratio) for neighbour in near)
    wider = replace(mode, frequency_u=math.hypot(mode.frequency_u, hz), damping_u=math.hypot(mode.damping_u, z))
    if apart or len(near) < 2:
        return wider
    all_hz = [neighbour.frequency_hz for neighbour in near]
    return replace(wider, bounds_hz=(min(all_hz), max(all_hz)))


def fit_tension(bands: Bands) -> tuple[float, float]:
    """How hard what moves is pulled at once, over its mass, in Hz², over all modes that were fitted; with its standard
    uncertainty (by the covariance of all numbers).

    The transfer's term in ``1 / s^2`` far above all modes: ``sum p f^2 (1 - 4 z^2 k)``. Not over ``sum p``, which is
    one in truth, and less where a mode below the sweep is missing; a sensor whose scale is off is off by that.
    """
    fits, wanted = _fits(bands)
    x = fits[wanted]
    steps = TENSION_STEP * np.eye(len(x))
    slope = np.array([(_pull(x + step) - _pull(x - step)) / (2 * TENSION_STEP) for step in steps])
    return _pull(x), math.sqrt(max(0.0, float(slope @ _covariance(bands, x) @ slope)))


TENSION_STEP = 1e-5


def _pull(x: Floats) -> float:
    f2, z = np.exp(2 * x[0::EACH]), np.exp(x[1::EACH])
    return float(np.sum(x[2::EACH] * f2 * (1 - 4 * z * z * x[3::EACH])))


def _fits(bands: Bands) -> tuple[list[Floats], int]:
    """The numbers of one mode, of two and so on, one more than are wanted where so many are fitted; and which of these
    has the fewest modes that leave nothing but chance.

    For each number of modes they begin where vector fitting finds poles, and are fitted (Levenberg-Marquardt with the
    Jacobian in closed form) in the form ``p (w^2 + 2 z k w s) / (s^2 + 2 z w s + w^2)``: k is 0 where guides damp (the
    frame as the handbook has it), 1 where the damper lies between what is commanded and what moves, and near 0 when the
    record does not show it. Any frame with viscous dampers is a sum of such (Ewins 2000, section 2.7). Taken are the
    fewest that leave no more than the best, but for what further numbers gain by chance, with a margin.
    """
    fits: list[tuple[float, Floats]] = []
    left: float | None = None
    for number in range(1, MOST_MODES + 1):
        least = _fitted(bands, number)
        if left is not None:  # vector fitting overlooks small modes near an end: one begins where most is left
            least = min(
                least, _with_one_more(bands, fits[-1][1], left), key=lambda pair: float(pair.residual @ pair.residual)
            )
        cost, x = float(least.residual @ least.residual), least.x
        fits.append((cost, x))
        left = _most_left(bands, least.residual)
        if left is None and cost / (len(least.residual) - EACH * number) < NOTHING_LEFT:
            break
    best, most = min(fits, key=lambda fit: fit[0])
    free = max(1, 2 * len(bands.hz) - len(most))
    noise, form = max(1.0, best / free), FORM_FRACTION * max(0.0, best - free)
    wanted = next(
        at for at, (cost, x) in enumerate(fits) if cost - best <= WORTH * noise * (len(most) - len(x)) + form + 1e-9
    )
    if wanted + 1 == len(fits) < MOST_MODES:
        fits.append((math.inf, _fitted(bands, len(fits) + 1).x))
    return [x for _, x in fits], wanted


def _fitted(bands: Bands, number: int) -> Minimum:
    """Fit a number of modes; x: the parameters of each in turn."""
    weight = 1 / np.sqrt(bands.variance)
    hz, z = poles_of(bands.hz, bands.frequency_response, weight, number)
    low, high = _bounds(bands, number)
    start = np.zeros(EACH * number)
    start[0::EACH], start[1::EACH] = np.log(hz), np.log(z)
    start = np.clip(start, low, high)
    begun = start.reshape(-1, EACH)[:, :2]
    unit = [frequency_response([Mode(math.exp(f), math.exp(d), 1.0)], bands.hz) * weight for f, d in begun]
    weighted = bands.frequency_response * weight
    columns = np.stack([np.concatenate([column.real, column.imag]) for column in unit], axis=1)
    fractions = np.linalg.lstsq(columns, np.concatenate([weighted.real, weighted.imag]), rcond=None)[0]
    start[2::EACH] = np.clip(fractions, -3, 3)
    residual, slopes = _problem(bands, weight)
    return minimise(residual, start, low, high, 1e-6, 60, slopes)


def _with_one_more(bands: Bands, x: Floats, hz: float) -> Minimum:
    """Modes fitted again with a further one that begins at a frequency."""
    weight = 1 / np.sqrt(bands.variance)
    residual, slopes = _problem(bands, weight)
    low, high = _bounds(bands, len(x) // EACH + 1)
    start = np.clip(np.concatenate([x, [math.log(hz), math.log(0.08), 0.03, 0.0]]), low, high)
    return minimise(residual, start, low, high, 1e-6, 60, slopes)


def _most_left(bands: Bands, residual: Floats) -> float | None:
    """The frequency around which a fit leaves most, where that is more than noise; None: nowhere."""
    count = len(bands.hz)
    if count < AROUND:
        return None
    power = (residual[:count] ** 2 + residual[count : 2 * count] ** 2) / 2
    around = np.convolve(power, np.full(AROUND, 1 / AROUND), "valid")
    at = int(np.argmax(around))
    return float(bands.hz[at + AROUND // 2]) if around[at] > STANDS_OUT else None


def _bounds(bands: Bands, number: int) -> tuple[Floats, Floats]:
    """Lowest and highest numbers of so many modes."""
    one = [math.log(0.7 * float(bands.hz[0])), math.log(LOWEST_Z), -3.0, -MOST_RELATIVE]
    other = [math.log(1.3 * float(bands.hz[-1])), math.log(HIGHEST_Z), 3.0, MOST_RELATIVE]
    return np.tile(one, number), np.tile(other, number)


def _problem(bands: Bands, weight: Floats) -> tuple[Callable[[Floats], Floats], Callable[[Floats], Floats]]:
    """What modes leave of a transfer, and of how they may be damped, in standard deviations (2 n + k); its slopes."""
    s = 2j * np.pi * bands.hz[:, None]

    def parts(x: Floats) -> tuple[Complex, Complex, Complex, Floats]:
        w, z = np.asarray(2 * np.pi * np.exp(x[0::EACH])), np.asarray(np.exp(x[1::EACH]))
        damps = 2 * z * w * s
        return np.asarray(s**2 + damps + w**2), np.asarray(w**2 + x[3::EACH] * damps), np.asarray(damps), w

    def residual(x: Floats) -> Floats:
        below, above, _, _ = parts(x)
        off = ((above / below) @ x[2::EACH] - bands.frequency_response) * weight
        return np.concatenate([off.real, off.imag, x[3::EACH] / RELATIVE_U])

    def slopes(x: Floats) -> Floats:
        below, above, damps, w = parts(x)
        unit, p, relative = above / below, x[2::EACH], x[3::EACH]
        by_w = p * (2 * w**2 + relative * damps - unit * (damps + 2 * w**2)) / below  # by the logarithm of w
        by_z = p * damps * (relative - unit) / below
        every = np.stack([by_w, by_z, unit, p * damps / below], axis=2).reshape(len(bands.hz), -1) * weight[:, None]
        prior = np.zeros((len(p), len(x)))
        prior[np.arange(len(p)), np.arange(3, len(x), EACH)] = 1 / RELATIVE_U
        return np.concatenate([every.real, every.imag, prior])

    return residual, slopes


def _covariance(bands: Bands, x: Floats) -> Floats:
    """Of all numbers of a fit, times what is left in units of the noise."""
    residual, slopes_at = _problem(bands, 1 / np.sqrt(bands.variance))
    here, slopes = residual(x), slopes_at(x)
    noise = max(1.0, float(here @ here) / max(1, len(here) - len(x)))
    return np.asarray(np.linalg.pinv(slopes.T @ slopes) * noise)


def _modes_of(bands: Bands, x: Floats) -> tuple[Mode, ...]:
    """The modes with their uncertainties."""
    spread = np.sqrt(np.maximum(np.diag(_covariance(bands, x)), 0.0))
    whole = float(np.sum(x[2::EACH]))
    modes = []
    for at in range(0, len(x), EACH):
        hz, z = math.exp(x[at]), math.exp(x[at + 1])
        u = (hz * math.hypot(spread[at], FORM_HZ), z * math.hypot(spread[at + 1], FORM_Z))
        modes.append(Mode(hz, z, float(x[at + 2]) / whole, *u))
    modes.sort(key=lambda mode: -abs(mode.modal_share))
    return tuple(mode for number, mode in enumerate(modes) if number == 0 or abs(mode.modal_share) >= LEAST_FRACTION)


HANN_BINS = 1.5
"""Neighbouring bins under a Hann window show so much the same: its bandwidth (Harris 1978)."""

EACH_OF_DENSITY = 4
"""Numbers that a mode of a density has to earn: frequency, damping, weight, and where it was looked for."""


def fit_density(hz: Floats, density: Floats, windows: int) -> tuple[Mode, ...]:
    """Modes of a density under flat excitation: its logarithm by ``log(g |H|^2 + floor)``, one mode after the other.

    A density knows no phase: what it shows is less sure, and so are its uncertainties. The first mode must lower the
    sum of squares against nothing but a floor as every further one must: noise alone has none.
    """
    scatter = math.sqrt(HANN_BINS / (max(1, windows) * 0.8))
    logs = np.log(density)
    solved: Floats = np.zeros(0)
    best = float(np.sum(((logs - logs.mean()) / scatter) ** 2))
    kept: tuple[Floats, Floats] | None = None
    for number in range(1, 4):
        level = math.log(float(np.median(density)))
        if number == 1:
            peak = int(np.argmax(density))
        else:
            assert kept is not None
            peak = int(np.argmax(logs - _log_density(hz, kept[0])))
        extra = [math.log(float(hz[peak])), math.log(0.05), math.log(0.3)]
        start = np.concatenate([solved, extra]) if number > 1 else np.array([level, level - 6, *extra])
        low = np.array(
            [level - 30, level - 30, *np.tile([math.log(hz[0] * 0.7 + 1e-3), math.log(LOWEST_Z), -8], number)]
        )
        high = np.array([level + 30, level + 30, *np.tile([math.log(hz[-1] * 1.3), math.log(HIGHEST_Z), 3], number)])
        least = minimise(lambda at: (logs - _log_density(hz, at)) / scatter, start, low, high, 1e-7, 60)
        cost = float(least.residual @ least.residual)
        chance = max(1.0, cost / max(1, len(hz) - len(start)))
        if best - cost < WORTH * EACH_OF_DENSITY * chance:
            break
        solved, best, kept = least.x, cost, (least.x, least.residual)
    if kept is None:
        return ()
    at, residual = kept
    slopes = jacobian(lambda x: (logs - _log_density(hz, x)) / scatter, at, residual, np.full(len(at), np.inf))
    noise = max(1.0, float(residual @ residual) / max(1, len(residual) - len(at)))
    spread = np.sqrt(np.maximum(np.diag(np.linalg.pinv(slopes.T @ slopes)), 0.0) * noise)
    weights = np.exp(at[4::3])
    modes = []
    for number, fraction in enumerate((weights / weights.sum()).tolist()):
        f, z = 2 + 3 * number, 3 + 3 * number
        hz_u, z_u = math.hypot(spread[f], 0.003), math.hypot(spread[z], 0.05)
        modes.append(Mode(math.exp(at[f]), math.exp(at[z]), fraction, math.exp(at[f]) * hz_u, math.exp(at[z]) * z_u))
    return tuple(
        sorted((mode for mode in modes if mode.modal_share >= LEAST_FRACTION), key=lambda mode: -mode.modal_share)
    )


def _log_density(hz: Floats, at: Floats) -> Floats:
    """``log(g |sum p w^2 / (...)|^2 + floor)``; at: log g, log floor, then log of frequency, damping, weight."""
    s = 2j * np.pi * hz[:, None]
    w, z, p = 2 * np.pi * np.exp(at[2::3]), np.exp(at[3::3]), np.exp(at[4::3])
    response = (p * w**2 / (s**2 + 2 * z * w * s + w**2)).sum(axis=1)
    return np.asarray(np.log(np.exp(at[0]) * np.abs(response) ** 2 + np.exp(at[1])))


def main_mode(modes: Sequence[Mode]) -> Mode:
    """The one of the largest share, whatever its sign."""
    return max(modes, key=lambda mode: abs(mode.modal_share))
