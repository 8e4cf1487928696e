"""Plant models of a heater: gain, two lags, a dead time, a loss that curves; what they do under a duty."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ublet.core.arrays import Floats


@dataclass(frozen=True)
class HeaterModel:
    """Temperature response of a heater to duty, at a working temperature ``at_c`` and on the way there.

    About that temperature ``G(s) = gain_c * exp(-dead_time_s s) / ((time_constant_s s + 1)(second_lag_s s + 1))`` above
    ``ambient_c``. gain_c in °C per duty, times in s. A second lag of zero is first order plus dead time.

    A block loses more than in proportion when it gets hotter (radiation, convection). With x above the room, x0 that of
    ``at_c``, the loss in units of the slope at x0 is ``x - curve x (2 x0 - x)``, curve in 1/°C: gain and time constant
    are the tangent's at ``at_c``, and :attr:`held_gain_c`, the chord's, shows what duty holds it. 0: in proportion.

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
    quick_fraction: float = 0.0
    curve: float = 0.0
    at_c: float = 0.0

    @property
    def sheet_lag_s(self) -> float:
        """How far a sheet on the bed lags the sensor, s; 0 when there is but one store."""
        return self.quick_fraction * self.time_constant_s + (1 - self.quick_fraction) * self.quick_s

    @property
    def at_first_s(self) -> float:
        """The time constant of one store of the same gain that begins to climb as steeply, s: what a fast controller
        sees.
        """
        if not self.quick_fraction:
            return self.time_constant_s
        return 1 / ((1 - self.quick_fraction) / self.time_constant_s + self.quick_fraction / self.quick_s)

    @property
    def delay_s(self) -> float:
        """Dead time and second lag together, s: what a record shows of them."""
        return self.dead_time_s + self.second_lag_s

    @property
    def bend(self) -> float:
        """By what share the chord's loss is less steep than the tangent's at the working temperature."""
        return self.curve * (self.at_c - self.ambient_c)

    @property
    def held_gain_c(self) -> float:
        """Height above the room that a duty of one would hold, by the chord to the working temperature, °C."""
        return self.gain_c / (1 - self.bend)

    def spared(self, rise_c: Any) -> Any:
        """By how much less than its tangent a block loses, in °C of the tangent: ``curve x (2 x0 - x)`` (any shape)."""
        return self.curve * rise_c * (2 * (self.at_c - self.ambient_c) - rise_c)

    def levels_off_c(self, duty: float) -> float:
        """Height above the room at which a constant duty levels off, °C: ``K u = x - curve x (2 x0 - x)``."""
        push, slope = self.gain_c * duty, 1 - 2 * self.bend
        if abs(self.curve) < 1e-9:
            return push / slope
        inside = slope**2 + 4 * self.curve * push
        return (math.sqrt(inside) - slope) / (2 * self.curve) if inside >= 0 else math.inf

    def slope_c_s(self, rise_c: float, duty: float) -> float:
        """How fast it climbs at a height above the room under a constant duty, behind the lags, °C/s."""
        return (self.gain_c * duty - rise_c + float(self.spared(rise_c))) / self.at_first_s

    def heat_up_s(self, rise_c: float, duty: float) -> float | None:
        """Time that a constant duty takes from the room to so much above it, without the lags; None: never, s.

        The integral of ``tau dx / (K u - x + curve x (2 x0 - x))`` for one store; for two, whose rise is a sum of two
        exponentials under the chord to that height, by halving.
        """
        if self.levels_off_c(duty) <= rise_c:
            return None
        if rise_c <= 0:
            return 0.0
        if not self.quick_fraction:
            return self._pass_s(0.0, rise_c, duty)
        full = self.gain_c * duty + float(self.spared(rise_c))
        low, high = 0.0, self.time_constant_s * math.log(full / (full - rise_c))
        for _ in range(60):
            middle = (low + high) / 2
            slow, quick = math.exp(-middle / self.time_constant_s), math.exp(-middle / self.quick_s)
            reached = full * (1 - (1 - self.quick_fraction) * slow - self.quick_fraction * quick)
            low, high = (middle, high) if reached < rise_c else (low, middle)
        return high

    def cool_s(self, from_c: float, to_c: float) -> float:
        """Time to cool between two heights above the room while it is off, s."""
        return self._pass_s(from_c, to_c, 0.0)

    def _pass_s(self, from_c: float, to_c: float, duty: float) -> float:
        """Time between two heights at a constant duty: Gauss-Legendre over pieces, exact to a millisecond or so."""
        edges = np.linspace(from_c, to_c, PIECES + 1)
        nodes, weights = np.polynomial.legendre.leggauss(5)
        half = np.diff(edges)[:, None] / 2
        at = (edges[:-1, None] + edges[1:, None]) / 2 + half * nodes
        speed = (self.gain_c * duty - at + self.spared(at)) / self.time_constant_s
        return float(np.sum(half * weights / speed))

    def hold_duty(self, celsius: float) -> float:
        """Duty that holds a temperature."""
        rise = celsius - self.ambient_c
        return (rise - float(self.spared(rise))) / self.gain_c

    def with_loss(self, ratio: float) -> HeaterModel:
        """The same block losing ``ratio`` times the heat: gain and main lag shrink together."""
        return replace(self, gain_c=self.gain_c / ratio, time_constant_s=self.time_constant_s / ratio)


PIECES = 40


@dataclass(frozen=True)
class DutyIntegral:
    """The duty of a record as its area: n rising times (s) and the duty's integral up to each (s)."""

    time_s: Floats
    area: Floats

    @classmethod
    def of(cls, time_s: Floats, duty: Floats) -> DutyIntegral:
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
    over the sample interval (zero-order hold) where the loss is in proportion; a curved one is found by repeating with
    the temperatures of the time before (Picard's iteration), until they change by less than a thousandth of a degree.
    """
    driven = DutyIntegral.of(time_s, duty)
    response = respond_to(model, driven, time_s, start_c, np.zeros_like(time_s))
    if abs(model.curve) < 1e-9:
        return response
    for _ in range(MOST_ROUNDS):
        before, response = response, respond_to(model, driven, time_s, start_c, response - model.ambient_c)
        if float(np.max(np.abs(response - before))) < SAME_C:
            break
    return response


MOST_ROUNDS, SAME_C = 40, 1e-3


def respond_to(model: HeaterModel, duty: DutyIntegral, time_s: Floats, start_c: float, rise_c: Floats) -> Floats:
    """The same on an even grid that may be coarser than the record of the duty.

    rise_c: heights above the room (n) at the sensor, by which the curved part of the loss is determined; of no account
    where the loss is in proportion.
    """
    step = float(time_s[1] - time_s[0])
    offset = start_c - model.ambient_c
    drive = duty.delayed(time_s, model.dead_time_s) * model.gain_c
    if model.curve:
        # the block is ahead of its sensor by the second lag; the dead time delays the whole response alike
        spared = model.spared(np.interp(time_s + model.second_lag_s, time_s, rise_c))
        drive[1:] += (spared[1:] + spared[:-1]) / 2
    block = _store(drive, step, model.time_constant_s, offset)
    if model.quick_fraction:
        block = (1 - model.quick_fraction) * block + model.quick_fraction * _store(drive, step, model.quick_s, offset)
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
_LATER = np.subtract.outer(np.arange(PIECE), np.arange(PIECE)).T
_POWER = np.where(_LATER >= 0, _LATER, PIECE + 1)
"""Which power of what is kept an input has in a later value of its piece; the last one stands for none."""


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
    powers = np.append(keep ** np.arange(PIECE + 1), 0.0)
    within = padded.reshape(pieces, PIECE) @ powers[_POWER]
    carried, last = np.empty(pieces), start
    fades = float(powers[PIECE])
    for number, end in enumerate(within[:, -1].tolist()):
        carried[number] = last
        last = fades * last + end
    whole = within + np.outer(carried, powers[1:-1])
    return np.concatenate([[start], whole.ravel()[:count]])
