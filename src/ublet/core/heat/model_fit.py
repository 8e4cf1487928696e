"""Fitting a heater's model to a record, with uncertainties that are those of the plant and not of the arithmetic."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from ublet.core.arrays import Floats
from ublet.core.heat.model import DutyIntegral, HeaterModel, respond_to
from ublet.core.heat.relay import smooth
from ublet.core.least_squares import Minimum, jacobian, minimise


@dataclass(frozen=True)
class ModelUncertainty:
    """Standard uncertainties of what a record shows. Dead time and second lag it shows only together: their split is as
    uncertain as the lesser of them, since a plant has more small lags than the model.
    """

    gain_c: float
    held_gain_c: float
    time_constant_s: float
    delay_s: float
    curve: float
    quick_s: float = 0.0
    quick_fraction: float = 0.0


@dataclass(frozen=True)
class ModelFit:
    """A fitted model, how uncertain it is, and the residual's RMS in °C."""

    model: HeaterModel
    uncertainty: ModelUncertainty
    residual_c: float


def even_record(time_s: Floats, *columns: Floats, step_s: float = 0.1) -> list[Floats]:
    """Resample columns on an even grid: times first; duty-like columns by the value that was held.

    The first column is taken as held (zero-order), the others as linear between samples.
    """
    count = int(math.floor((time_s[-1] - time_s[0]) / step_s + 1e-9)) + 1
    grid = np.arange(count) * step_s
    at = time_s - time_s[0]
    held = columns[0][np.clip(np.searchsorted(at, grid + 1e-9, side="right") - 1, 0, None)]
    return [grid, held, *(np.interp(grid, at, column) for column in columns[1:])]


class UnfitRecord(ValueError):
    """The record does not determine the model: the message says why and what to record instead."""


WORKING_FRACTION = 0.3
"""The working temperature is the middle one over the last share of a record."""


def working_c(time_s: Floats, celsius: Floats) -> float:
    """The temperature that a record is about, °C."""
    return float(np.median(celsius[time_s > time_s[-1] - WORKING_FRACTION * (time_s[-1] - time_s[0])]))


def fit_model(time_s: Floats, duty: Floats, celsius: Floats, ambient_c: float) -> ModelFit:
    """Fit gain, lags, dead time and the curve of the loss to a record that starts at rest, by least squares.

    Args:
        time_s, duty, celsius: n samples each; duty held from its sample to the next.
        ambient_c: room temperature, °C, known from sensors at rest.

    Raises:
        UnfitRecord: fewer than 50 samples, times that do not rise, constant duty, no rise in temperature, or a fit that
            runs to one of its bounds.

    Where samples are further apart than :data:`HOLE` times the usual, the record has a hole: nothing in it counts. The
    output error is minimised over the logarithms of the parameters. A second store is taken only where one store leaves
    much more than the noise and two leave much less. What is known of blocks in general (:data:`USUAL_CURVE`)
    counts as one independent observation of the curve: a bed's short way hardly shows it. How uncertain each is shows
    :func:`_unsure`.
    """
    if len(time_s) < FEWEST_SAMPLES:
        raise UnfitRecord(f"only {len(time_s)} samples; at least {FEWEST_SAMPLES} are needed")
    if np.any(np.diff(time_s) <= 0):
        row = int(np.argmax(np.diff(time_s) <= 0)) + 2
        raise UnfitRecord(f"time does not rise at sample {row}; sort or mend the record")
    if float(np.ptp(duty)) < 1e-3:
        raise UnfitRecord("duty never changes: switch the heater on in the record, better on and off")
    if float(np.ptp(celsius)) < 3:
        raise UnfitRecord("temperature moves by less than 3 °C: heat further")
    usual = float(np.median(np.diff(time_s)))
    at_c = working_c(time_s, celsius)
    grid, drive, seen = even_record(time_s, duty, celsius, step_s=usual)
    driven = DutyIntegral.of(grid, drive)
    grid, drive, seen = _thinned(grid, drive, seen)
    known = _outside_holes(grid, time_s - time_s[0], HOLE * usual)
    step = float(grid[1] - grid[0])
    rise = smooth(seen, max(1, round(CALM_S / step)) | 1) - ambient_c
    start_c = float(np.mean(seen[:5]))

    def model_of(x: Floats) -> HeaterModel:
        gain, lag, dead, second = np.exp(x[:CURVE]).tolist()
        quick_s, fraction = np.exp(x[CURVE + 1 :]).tolist() if len(x) > CURVE + 1 else (0.0, 0.0)
        return HeaterModel(gain, lag, dead, ambient_c, second, quick_s, fraction, float(x[CURVE]) / 1000, at_c)

    def error(x: Floats) -> Floats:
        return (respond_to(model_of(x), driven, grid, start_c, rise) - seen) * known

    high = np.array(HIGHEST)
    high[CURVE] = min(HIGHEST[CURVE], MOST_BEND * 1000 / max(1.0, at_c - ambient_c))
    fitted = minimise(error, _guess(grid, drive, seen, ambient_c), np.array(LOWEST[:5]), high[:5])
    noise = float(np.std(np.diff(seen, 2))) / math.sqrt(6)
    if _rms(fitted.residual) > MUCH_MORE * max(noise, LEAST_NOISE_C):
        starts = [np.append(fitted.x, np.log([quick, 0.2])) for quick in QUICK_S]
        two = [minimise(error, start, np.array(LOWEST), high) for start in starts]
        best = min(two, key=lambda fit: _rms(fit.residual))
        if _rms(best.residual) < MUCH_LESS * _rms(fitted.residual):
            fitted = Minimum(_ordered(best.x), best.residual)
    low, high = np.array(LOWEST[: len(fitted.x)]), high[: len(fitted.x)]
    _must_not_be_bound(fitted.x, low, high)
    weight = _rms(fitted.residual) * math.sqrt(correlated_samples(fitted.residual))

    def believed(x: Floats) -> Floats:
        return np.append(error(x), weight * (x[CURVE] - USUAL_CURVE[0]) / USUAL_CURVE[1])

    fitted = minimise(believed, fitted.x, low, high)
    residual = _rms(fitted.residual[:-1])
    return ModelFit(model_of(fitted.x), _uncertainty(believed, model_of, fitted, low, high), residual)


CALM_S = 2.0
"""The curved part of the loss is determined from temperatures averaged over so long, s: it hardly changes meanwhile."""

USUAL_CURVE = (0.7, 0.6)
"""How a block's loss curves, and how uncertain that is, 1/1000 °C: radiation alone has 1.5/T, some 3 to 4.5; most of
the loss is convection and conduction, in proportion.
"""

CURVE = 4
"""Place of the loss's curve among the parameters, in 1/1000 °C; all others are logarithms."""

MOST_BEND = 0.45
"""A loss that is less steep by more than this share at the room than at work is no heater's."""

MODEL_FORM = 0.12
"""A loss that curves with the fourth power is taken for one that curves with the second: the tangent is uncertain by
this share of what it differs from the chord.
"""

ROOM_U_C = 0.1
"""Nobody knows the room better than this at the block, °C: a sensor's counts, a draught."""

LAGS_FORM, SHEET_LAGS_FORM = 0.012, 0.04
"""Several small lags are taken for one and a dead time: their sum is uncertain by this share; more with a sheet."""

SHEET_FORM = 0.02
"""The same for the time constant of two stores."""


def _guess(grid: Floats, drive: Floats, seen: Floats, ambient_c: float) -> Floats:
    """Where to start: the duty that held the second half gives the gain, the climb the time constant."""
    top, late = float(np.max(seen)) - ambient_c, slice(len(grid) // 2, None)
    gain = max(top, (float(np.mean(seen[late])) - ambient_c) / max(0.02, float(np.mean(drive[late]))))
    slope = float(np.max(np.gradient(seen, grid[1] - grid[0]))) or 0.1
    return np.array([*np.log([gain, max(5.0, gain * float(np.max(drive)) / slope), 2.0, 1.5]), 0.0])


def _uncertainty(
    error: Callable[[Floats], Floats],
    model_of: Callable[[Floats], HeaterModel],
    fitted: Minimum,
    low: Floats,
    high: Floats,
) -> ModelUncertainty:
    """Standard uncertainties of what is reported, by what the record itself shows of its own worth.

    Three parts in squares: the covariance of the fit, for as many samples as are independent
    (:func:`correlated_samples`); half of what two halves of the record disagree, taken in alternate stretches so that
    each has its part of climb and cycles; and what the form of the model leaves open, which no record shows: a block
    has more small lags and stores than the model, and radiates. Their sizes were read off plants made up at random by
    other physics, and are checked on further ones by ``ublet bench``.
    """
    slopes = jacobian(error, fitted.x, fitted.residual, high)
    variance = float(np.mean(fitted.residual[:-1] ** 2)) * correlated_samples(fitted.residual[:-1])
    covariance = np.linalg.pinv(slopes.T @ slopes, rcond=1e-12, hermitian=True) * variance
    owner = np.arange(len(fitted.residual)) * STRETCHES // len(fitted.residual) % 2
    halves = [
        minimise(partial(_masked, error, owner == part), fitted.x, low, high, 1e-5, HALF_ROUNDS).x for part in (0, 1)
    ]

    def spread(what: Callable[[HeaterModel], float]) -> float:
        here = what(model_of(fitted.x))
        gradient = np.array([what(model_of(_moved(fitted.x, at))) - here for at in range(len(fitted.x))]) / STEP
        scatter = max(0.0, float(gradient @ covariance @ gradient))
        apart = (what(model_of(halves[0])) - what(model_of(halves[1]))) / 2
        return math.sqrt(scatter + apart**2)

    model = model_of(fitted.x)
    tangent = math.hypot(MODEL_FORM * abs(model.bend), SHEET_FORM if model.quick_fraction else 0.0)
    room = ROOM_U_C / max(1.0, model.at_c - model.ambient_c)
    lags = (SHEET_LAGS_FORM if model.quick_fraction else LAGS_FORM) * model.delay_s
    quick = (spread(lambda m: m.quick_s), spread(lambda m: m.quick_fraction)) if model.quick_fraction else (0.0, 0.0)
    return ModelUncertainty(
        math.hypot(spread(lambda m: m.gain_c), tangent * model.gain_c),
        math.hypot(spread(lambda m: m.held_gain_c), room * model.held_gain_c),
        math.hypot(spread(lambda m: m.time_constant_s), tangent * model.time_constant_s),
        math.hypot(spread(lambda m: m.delay_s), lags),
        math.hypot(spread(lambda m: m.curve), MODEL_FORM * abs(model.curve)),
        *quick,
    )


def _masked(error: Callable[[Floats], Floats], kept: NDArray[np.bool_], x: Floats) -> Floats:
    return np.asarray(error(x) * kept)


STRETCHES, HALF_ROUNDS, STEP = 8, 8, 1e-5


def _moved(x: Floats, at: int) -> Floats:
    moved = x.copy()
    moved[at] += STEP
    return moved


def correlated_samples(residual: Floats) -> float:
    """How many samples one independent value of a correlated residual takes, at least 1.

    ``1 + 2 sum rho_k`` over the initial positive pairs of autocorrelations (Geyer 1992).
    """
    count = len(residual)
    centred = residual - residual.mean()
    power = np.abs(np.fft.rfft(centred, 2 * count)) ** 2
    correlation = np.fft.irfft(power)[:count]
    if correlation[0] <= 0:
        return 1.0
    pairs = (correlation[: count // 2 * 2 : 2] + correlation[1 : count // 2 * 2 : 2]) / correlation[0]
    ends = np.flatnonzero(pairs <= 0)
    return max(1.0, 2 * float(np.sum(pairs[: ends[0] if len(ends) else None])) - 1)


LOWEST = (*np.log([1.0, 2.0, 0.05, 0.05]).tolist(), -2.0, *np.log([5.0, 0.005]).tolist())
HIGHEST = (*np.log([1e5, 1e5, 60.0, 60.0]).tolist(), 5.0, *np.log([1000.0, 0.9]).tolist())
"""Bounds of the logarithms of gain, time constant, dead time and second lag, of the curve in 1/1000 °C, and of the
logarithms of the second store's time and share.
"""

FEWEST_SAMPLES = 50
HOLE = 5.0
"""A step in time so many times the usual one is a hole."""

NAMES = ("gain", "time constant", "dead time", "second lag", "curve of the loss")
UNITS = ("°C", "s", "s", "s", "")
AT_BOUND = 0.02
"""Distance of a parameter's logarithm from a bound within which it lies on the bound."""


def _must_not_be_bound(fitted: Floats, low: Floats, high: Floats) -> None:
    """Raises UnfitRecord when the fit lies on a bound: the record does not determine that parameter.

    A dead time or second lag at its lower bound is none, which is an answer; so is a quick store that is hardly there.
    """
    for at, (value, least, most) in enumerate(zip(fitted[:CURVE], low, high, strict=False)):
        too_low = value - least < AT_BOUND and at < 2
        if too_low or most - value < AT_BOUND:
            raise UnfitRecord(
                f"the {NAMES[at]} that fits best lies at its bound of {math.exp(least if too_low else most):g} "
                f"{UNITS[at]}: this record does not determine it. It must show the heat-up and some switching on "
                "and off; are "
                "the units right?"
            )


def _outside_holes(grid: Floats, time_s: Floats, hole_s: float) -> Floats:
    """1 at each grid time that a sample stands near, 0 inside the holes of a record."""
    steps = np.diff(time_s)
    known = np.ones(len(grid))
    for at in np.flatnonzero(steps > hole_s):
        known[(grid > time_s[at] + 1e-9) & (grid < time_s[at + 1] - 1e-9)] = 0.0
    return known


QUICK_S = (20.0, 60.0, 180.0)
"""Times of the second store to start from, s."""

MUCH_MORE, MUCH_LESS = 3.0, 0.5
LEAST_NOISE_C = 0.01


def _ordered(x: Floats) -> Floats:
    """The same response with the longer of second lag and second store as the store: they are interchangeable when
    the zero between them stays where it is.
    """
    _, lag, _, second = np.exp(x[:4]).tolist()
    quick, fraction = np.exp(x[5:]).tolist()
    if quick >= second:
        return x
    zero = fraction * lag + (1 - fraction) * quick
    ordered = x.copy()
    ordered[3], ordered[5] = math.log(quick), math.log(second)
    ordered[6] = max(LOWEST[6], math.log((zero - second) / (lag - second)))
    return ordered


def _rms(residual: Floats) -> float:
    return float(np.sqrt(np.mean(residual**2)))


MOST_POINTS = 3000
"""Longer records are fitted on a coarser grid: a slow plant shows nothing between."""


def _thinned(grid: Floats, drive: Floats, seen: Floats) -> tuple[Floats, Floats, Floats]:
    """Every k-th point, its temperature the mean over the k points around it."""
    every = -(-len(grid) // MOST_POINTS)
    if every == 1:
        return grid, drive, seen
    kernel = np.ones(every) / every
    calm = np.convolve(np.pad(seen, (every // 2, every - 1 - every // 2), mode="edge"), kernel, "valid")
    return grid[::every], drive[::every], calm[::every]
