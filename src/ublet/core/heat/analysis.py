"""A heat record made anywhere, analysed: the plant's model and the gains that would hold it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ublet.core.heat.candidates import Candidate, candidates, recommend
from ublet.core.heat.demands import HOTEND, SLOW
from ublet.core.heat.model import HeaterModel, ModelFit, UnfitRecord, even_record, fit_model, respond
from ublet.core.heat.record import reading_noise_of
from ublet.core.heat.relay import Ultimate
from ublet.core.heat.report import step_situation
from ublet.core.least_squares import Floats
from ublet.core.trial import TrialFailed

HOTTEST_BED_C = 130.0
"""A record around more than this is a hotend's."""

SETTLED_SHARE = 0.3
"""The working temperature is the middle one over the last share of the record."""


@dataclass(frozen=True)
class HeatAnalysis:
    """What a record tells: the fit, the temperature it was about, candidates with the recommended one, notes."""

    fit: ModelFit
    target_c: float
    made: Mapping[str, Candidate]
    choice: str
    why: str
    notes: tuple[str, ...]


def analyse_heat(time_s: Floats, duty: Floats, celsius: Floats) -> HeatAnalysis:
    """Model and gains from n samples of time (s), duty (0..1, held until the next) and temperature (°C).

    The record must begin at rest: the room is taken from its beginning, before the heater acts.

    Raises:
        UnfitRecord: the record cannot tell a model; the message says why.
    """
    if float(duty.max()) > 1.0 + 1e-6 or float(duty.min()) < -1e-6:
        raise UnfitRecord(f"duty runs from {duty.min():g} to {duty.max():g}: it must lie in 0..1 (percent over 100)")
    notes = []
    room = room_of(time_s, duty, celsius)
    fit = fit_model(time_s, duty, celsius, room)
    if abs(room - float(celsius[0])) < 1e-9 and float(duty[0]) > 0:
        notes.append("the heater was on from the first sample: the first temperature is taken for the room's")
    late = celsius[time_s > time_s[-1] - SETTLED_SHARE * (time_s[-1] - time_s[0])]
    target = round(float(np.median(late)), 1)
    demands = HOTEND if target > HOTTEST_BED_C else SLOW
    limit = min(1.0, float(duty.max()))
    try:
        situation = step_situation(fit.model, target, room, reading_noise_of(celsius), None, limit, demands)
    except TrialFailed as error:
        raise UnfitRecord(str(error)) from error
    made = candidates(fit.model, ultimate_of(fit.model), None, situation, demands)
    choice, why = recommend(made, demands)
    return HeatAnalysis(fit, target, made, choice, why, tuple(notes))


def room_of(time_s: Floats, duty: Floats, celsius: Floats) -> float:
    """The room from the beginning of a record, °C: the mean until the heater first acts, else the first reading."""
    on = np.flatnonzero(duty > 1e-3)
    quiet = int(on[0]) if len(on) else 0
    return float(np.mean(celsius[: max(1, quiet)]))


def ultimate_of(model: HeaterModel) -> Ultimate:
    """The ultimate point of a model: the gain and period at which a proportional controller would just oscillate.

    The frequency is where the phase ``atan(w tau1) + atan(w tau2) + w theta`` (with two stores: and that of their
    other pole less that of their zero) reaches pi, found by halving.
    """
    lags = [model.time_constant_s, model.second_lag_s]
    zero = model.sheet_lag_s if model.quick_share else 0.0
    if model.quick_share:
        lags.append(model.quick_s)

    def phase(w: float) -> float:
        return sum(math.atan(w * lag) for lag in lags) - math.atan(w * zero) + w * model.dead_time_s

    low, high = 1e-6, 1e3
    for _ in range(100):
        middle = math.sqrt(low * high)
        low, high = (middle, high) if phase(middle) < math.pi else (low, middle)
    damped = math.prod(math.hypot(1, low * lag) for lag in lags) / math.hypot(1, low * zero)
    return Ultimate(damped / model.gain_c, 2 * math.pi / low, 0.0, 0.0, 0.0, 0)


def fitted_response(
    analysis: HeatAnalysis, time_s: Floats, duty: Floats, celsius: Floats
) -> tuple[Floats, Floats, Floats]:
    """Even times, duty and the fitted model's temperatures over a record, for drawing beside it."""
    grid, drive, seen = even_record(time_s, duty, celsius, step_s=float(np.median(np.diff(time_s))))
    return grid, drive, respond(analysis.fit.model, grid, drive, float(np.mean(seen[:5])))
