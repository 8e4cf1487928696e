"""Plant models of a heater: gain, two lags and a dead time; simulated, and fitted to a record."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from ublet.core.least_squares import Floats, Minimum, minimise


@dataclass(frozen=True)
class HeaterModel:
    """Temperature response of a heater to duty, linear about the working point.

    ``G(s) = gain_c * exp(-dead_time_s s) / ((time_constant_s s + 1)(second_lag_s s + 1))`` above
    ``ambient_c``. gain_c in °C per duty, times in s. A second lag of zero is first order plus dead time.

    A bed on which a sheet lies has two stores of heat: a share of the gain then answers with ``quick_s``,
    ``1/(time_constant_s s + 1)`` becomes ``(1 - quick_share)/(time_constant_s s + 1) + quick_share/(quick_s s + 1)``,
    the partial fractions of two masses that exchange heat. The sheet then follows the sensor with
    :attr:`sheet_lag_s`, the time constant of the zero of that sum.
    """

    gain_c: float
    time_constant_s: float
    dead_time_s: float
    ambient_c: float
    second_lag_s: float = 0.0
    quick_s: float = 0.0
    quick_share: float = 0.0

    @property
    def sheet_lag_s(self) -> float:
        """How far a sheet on the bed lags the sensor, s; 0 when there is but one store."""
        return self.quick_share * self.time_constant_s + (1 - self.quick_share) * self.quick_s

    @property
    def at_first_s(self) -> float:
        """The time constant of one store of the same gain that begins to climb as steeply, s: what a fast controller
        sees.
        """
        if not self.quick_share:
            return self.time_constant_s
        return 1 / ((1 - self.quick_share) / self.time_constant_s + self.quick_share / self.quick_s)

    def climb_s(self, rise_c: float, duty: float) -> float | None:
        """Time that a constant duty takes from the room to so much above it, without the lags; None: never, s.

        ``t = tau ln(K / (K - rise))`` for one store with K = gain times duty; for two by halving, the sum of two
        rising exponentials being monotonic.
        """
        full = self.gain_c * duty
        if full <= rise_c:
            return None
        low, high = 0.0, self.time_constant_s * math.log(full / (full - rise_c))
        if not self.quick_share:
            return high
        for _ in range(60):
            middle = (low + high) / 2
            slow, quick = math.exp(-middle / self.time_constant_s), math.exp(-middle / self.quick_s)
            reached = full * (1 - (1 - self.quick_share) * slow - self.quick_share * quick)
            low, high = (middle, high) if reached < rise_c else (low, middle)
        return high

    def hold_duty(self, celsius: float) -> float:
        """Duty that holds a temperature."""
        return (celsius - self.ambient_c) / self.gain_c

    def with_loss(self, ratio: float) -> HeaterModel:
        """The same block losing ``ratio`` times the heat: gain and main lag shrink together."""
        return replace(self, gain_c=self.gain_c / ratio, time_constant_s=self.time_constant_s / ratio)


@dataclass(frozen=True)
class Drive:
    """The duty of a record as its area: n rising times (s) and the duty's integral up to each (s)."""

    time_s: Floats
    area: Floats

    @classmethod
    def of(cls, time_s: Floats, duty: Floats) -> Drive:
        """From n duties, each held from its time to the next."""
        return cls(time_s, np.concatenate([[0.0], np.cumsum(duty[:-1] * np.diff(time_s))]))

    def delayed(self, grid_s: Floats, dead_time_s: float) -> Floats:
        """Mean duty over each interval of a grid after a delay of any fraction of it.

        Element i is the mean over [t(i-1) - delay, t(i) - delay]; before the record duty is 0.
        """
        at = np.interp(grid_s - dead_time_s, self.time_s, self.area, left=0.0)
        mean = np.zeros_like(grid_s)
        mean[1:] = np.diff(at) / np.diff(grid_s)
        return mean


def respond(model: HeaterModel, time_s: Floats, duty: Floats, start_c: float) -> Floats:
    """Temperatures (n) of a model driven by a recorded duty, from rest at ``start_c``.

    The times must be evenly spaced; the record is resampled by the caller. Exact for duty held
    over the sample interval (zero-order hold); the two lags are in series.
    """
    return respond_to(model, Drive.of(time_s, duty), time_s, start_c)


def respond_to(model: HeaterModel, duty: Drive, time_s: Floats, start_c: float) -> Floats:
    """The same on an even grid that may be coarser than the record of the duty."""
    step = float(time_s[1] - time_s[0])
    offset = start_c - model.ambient_c
    drive = duty.delayed(time_s, model.dead_time_s) * model.gain_c
    block = _store(drive, step, model.time_constant_s, offset)
    if model.quick_share:
        block = (1 - model.quick_share) * block + model.quick_share * _store(drive, step, model.quick_s, offset)
    if model.second_lag_s > 1e-6:
        block = lagged(block, step, model.second_lag_s, offset)
    return block + model.ambient_c


def lagged(value: Floats, step_s: float, lag_s: float, start: float) -> Floats:
    """What follows n even values with a first-order lag, from ``start``; exact where they run straight from sample to
    sample.
    """
    steps = step_s / lag_s
    keep = math.exp(-steps)
    early, late = (1 - keep) / steps - keep, 1 - (1 - keep) / steps
    return _recur(keep, early * value[:-1] + late * value[1:], start)


PIECE = 64


def _store(drive: Floats, step: float, lag_s: float, start: float) -> Floats:
    keep = math.exp(-step / lag_s)
    return _recur(keep, (1 - keep) * drive[1:], start)


def _recur(keep: float, inputs: Floats, start: float) -> Floats:
    """``y[0] = start, y[i] = keep y[i-1] + inputs[i-1]`` (n + 1 values), in pieces as one product of matrices.

    Importing scipy.signal for this one recursion costs more than a whole fit.
    """
    count = len(inputs)
    pieces = -(-count // PIECE)
    padded = np.zeros(pieces * PIECE)
    padded[:count] = inputs
    powers = keep ** np.arange(PIECE + 1)
    lags = np.subtract.outer(np.arange(PIECE), np.arange(PIECE))
    within = padded.reshape(pieces, PIECE) @ np.where(lags >= 0, powers[np.clip(lags, 0, None)], 0.0).T
    carried, last = np.empty(pieces), start
    fades = float(powers[PIECE])
    for number, end in enumerate(within[:, -1].tolist()):
        carried[number] = last
        last = fades * last + end
    whole = within + np.outer(carried, powers[1:])
    return np.concatenate([[start], whole.ravel()[:count]])


@dataclass(frozen=True)
class ModelFit:
    """A fitted model, its standard uncertainties (same fields) and the residual's RMS in °C."""

    model: HeaterModel
    uncertainty: HeaterModel
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
    """The record cannot tell the model: the message says why and what to record instead."""


def fit_model(time_s: Floats, duty: Floats, celsius: Floats, ambient_c: float) -> ModelFit:
    """Fit gain, lags and dead time to a record that starts at rest, by least squares.

    Args:
        time_s, duty, celsius: n samples each; duty held from its sample to the next.
        ambient_c: room temperature, °C, known from sensors at rest.

    Raises:
        UnfitRecord: fewer than 50 samples, times that do not rise, constant duty, no rise in temperature, or a fit that
            runs to one of its bounds.

    Where samples are further apart than :data:`HOLE` times the usual, the record has a hole: nothing in it counts. The
    output error is minimised over the logarithms of the parameters; the uncertainties come from
    a jackknife over stretches of the record. A second store is taken only where one store leaves much more than the
    noise and two leave much less.
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
    grid, drive, seen = even_record(time_s, duty, celsius, step_s=usual)
    driven = Drive.of(grid, drive)
    grid, drive, seen = _thinned(grid, drive, seen)
    known = _outside_holes(grid, time_s - time_s[0], HOLE * usual)
    start_c = float(np.mean(seen[:5]))
    # the holding duty after half the record gives a first guess of the gain, the climb of the lag
    top = float(np.max(seen)) - ambient_c
    late = slice(len(grid) // 2, None)
    guess_gain = max(top, (float(np.mean(seen[late])) - ambient_c) / max(0.02, float(np.mean(drive[late]))))
    slope = float(np.max(np.gradient(seen, grid[1] - grid[0]))) or 0.1
    guess = np.log([guess_gain, max(5.0, guess_gain * float(np.max(drive)) / slope), 2.0, 1.5])
    low, high = np.log(LOWEST), np.log(HIGHEST)

    def model_of(logs: Floats) -> HeaterModel:
        gain, lag, dead, second, *quick = (float(value) for value in np.exp(logs))
        return HeaterModel(gain, lag, dead, ambient_c, second, *quick)

    def error(logs: Floats) -> Floats:
        return (respond_to(model_of(logs), driven, grid, start_c) - seen) * known

    found = minimise(error, guess, low[:4], high[:4])
    noise = float(np.std(np.diff(seen, 2))) / math.sqrt(6)
    if _rms(found.residual) > MUCH_MORE * max(noise, LEAST_NOISE_C):
        two = [minimise(error, np.append(found.x, np.log([quick, 0.2])), low, high) for quick in QUICK_S]
        best = min(two, key=lambda each: _rms(each.residual))
        if _rms(best.residual) < MUCH_LESS * _rms(found.residual):
            found = Minimum(_ordered(best.x), best.residual)
    count = len(found.x)
    _must_not_be_bound(found.x, low[:count], high[:count])
    spread = _jackknife(error, found.x, low[:count], high[:count]) * np.exp(found.x)
    uncertainty = replace(model_of(np.log(np.maximum(spread, 1e-12))), ambient_c=0.0)
    return ModelFit(model_of(found.x), uncertainty, _rms(found.residual))


LOWEST = (1.0, 2.0, 0.05, 0.05, 5.0, 0.005)
HIGHEST = (1e5, 1e5, 60.0, 60.0, 1000.0, 0.9)
"""Bounds of gain, time constant, dead time, second lag, and of the second store's time and share."""

FEWEST_SAMPLES = 50
HOLE = 5.0
"""A step in time so many times the usual one is a hole."""

NAMES = ("gain", "time constant", "dead time", "second lag", "quick store", "quick store's share")
UNITS = ("°C", "s", "s", "s", "s", "")
AT_BOUND = 0.02
"""So near to a bound, by its logarithm, a parameter lies on it."""


def _must_not_be_bound(found: Floats, low: Floats, high: Floats) -> None:
    """Raises UnfitRecord when the fit lies on a bound: the record does not tell that parameter.

    A dead time or second lag at its lower bound is none, which is an answer; so is a quick store that is hardly there.
    """
    for at, (value, least, most) in enumerate(zip(found, low, high, strict=True)):
        too_low = value - least < AT_BOUND and at < 2
        if too_low or (most - value < AT_BOUND and at < 4):
            raise UnfitRecord(
                f"the {NAMES[at]} that fits best lies at the bound of {math.exp(least if too_low else most):g} "
                f"{UNITS[at]}: this record cannot tell it. It must show the climb and some switching on and off; are "
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


def _ordered(logs: Floats) -> Floats:
    """The same response with the longer of second lag and second store as the store: they are interchangeable when
    the zero between them stays where it is.
    """
    gain, lag, dead, second, quick, share = np.exp(logs).tolist()
    if quick >= second:
        return logs
    zero = share * lag + (1 - share) * quick
    return np.log([gain, lag, dead, quick, second, max(LOWEST[-1], (zero - second) / (lag - second))])


def _rms(residual: Floats) -> float:
    return float(np.sqrt(np.mean(residual**2)))


MOST_POINTS = 3000
"""Longer records are fitted on a coarser grid: a slow plant tells nothing between."""


def _thinned(grid: Floats, drive: Floats, seen: Floats) -> tuple[Floats, Floats, Floats]:
    """Every k-th point, its temperature the mean over the k points around it."""
    every = -(-len(grid) // MOST_POINTS)
    if every == 1:
        return grid, drive, seen
    kernel = np.ones(every) / every
    calm = np.convolve(np.pad(seen, (every // 2, every - 1 - every // 2), mode="edge"), kernel, "valid")
    return grid[::every], drive[::every], calm[::every]


JACKKNIFE_BLOCKS = 6


def _jackknife(error: Callable[[Floats], Floats], best: Floats, low: Floats, high: Floats) -> Floats:
    """Standard errors of the parameters when whole stretches of the record are left out in turn.

    The delete-a-group jackknife (Quenouille 1956; Shao & Tu 1995): residuals of a thermal record are
    correlated, and the plant is not quite linear, so that the textbook covariance promises too much.
    """
    count = len(error(best))
    owner = np.arange(count) * JACKKNIFE_BLOCKS // count
    found = np.array(
        [
            minimise(partial(_masked, error, owner != block), best, low, high, 1e-5).x
            for block in range(JACKKNIFE_BLOCKS)
        ]
    )
    scatter = np.sum((found - found.mean(axis=0)) ** 2, axis=0)
    return np.asarray(np.sqrt(scatter * (JACKKNIFE_BLOCKS - 1) / JACKKNIFE_BLOCKS))


def _masked(error: Callable[[Floats], Floats], kept: NDArray[np.bool_], x: Floats) -> Floats:
    return np.asarray(error(x) * kept)
