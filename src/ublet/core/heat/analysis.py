"""A heat record made anywhere, analysed: the plant's model and the gains that would hold it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ublet.core.heat.candidates import Candidate, candidates, recommend
from ublet.core.heat.demands import HOTEND, SLOW
from ublet.core.heat.model import HeaterModel, respond
from ublet.core.heat.model_fit import ModelFit, UnfitRecord, even_record, fit_model, working_c
from ublet.core.heat.record import reading_noise_of
from ublet.core.heat.recorded_heat import HeatRecord, believable
from ublet.core.heat.relay import Ultimate
from ublet.core.heat.report import step_situation
from ublet.core.least_squares import Floats
from ublet.core.run import TrialFailed
from ublet.core.units import with_uncertainty

HOTTEST_BED_C = 130.0
"""A record around more than this is a hotend's."""


@dataclass(frozen=True)
class HeatAnalysis:
    """What a record tells: the record as far as it was used, the fit, the temperature it was about, candidates with
    the recommended one, notes.
    """

    record: HeatRecord
    fit: ModelFit
    target_c: float
    made: Mapping[str, Candidate]
    choice: str
    why: str
    notes: tuple[str, ...]
    ambient_u_c: float


def analyse_heat(time_s: Floats, duty: Floats, celsius: Floats) -> HeatAnalysis:
    """Model and gains from n samples of time (s), duty (0..1, held until the next) and temperature (°C).

    The record must begin at rest: the room is taken from its beginning, before the heater acts.

    Raises:
        UnfitRecord: the record cannot tell a model; the message says why.
    """
    record = believable(time_s, duty, celsius)
    time_s, duty, celsius = record.time_s, record.duty, record.celsius
    notes = list(record.notes)
    room, room_u = room_of(time_s, duty, celsius)
    fit = fit_model(time_s, duty, celsius, room)
    _must_be_told(fit)
    if abs(room - float(celsius[0])) < 1e-9 and float(duty[0]) > 0:
        notes.append("the heater was on from the first sample: the first temperature is taken for the room's")
    target = round(working_c(time_s, celsius), 1)
    demands = HOTEND if target > HOTTEST_BED_C else SLOW
    limit = min(1.0, float(duty.max()))
    try:
        situation = step_situation(fit.model, target, room, reading_noise_of(celsius), None, limit, demands)
    except TrialFailed as error:
        raise UnfitRecord(str(error)) from error
    made = candidates(fit.model, ultimate_of(fit.model), None, situation, demands)
    if not made:
        raise UnfitRecord("no gains of any rule hold this plant steadily: is the record that of a heater?")
    choice, why = recommend(made, demands)
    return HeatAnalysis(record, fit, target, made, choice, why, tuple(notes), room_u)


MOST_UNSURE = 0.5
"""A gain or a time constant that is less sure than this share of it is not told by the record."""


def _must_be_told(fit: ModelFit) -> None:
    """Raises UnfitRecord when the record leaves the gain or the time constant open."""
    for name, value, unsure, unit in (
        ("gain", fit.model.held_gain_c, fit.uncertainty.held_gain_c, "°C"),
        ("time constant", fit.model.time_constant_s, fit.uncertainty.time_constant_s, "s"),
    ):
        if not unsure <= MOST_UNSURE * value:
            raise UnfitRecord(
                f"the {name} comes out as {with_uncertainty(value, unsure, unit)}: this record cannot tell it. It must "
                "show the climb and some switching on and off around the working temperature"
            )


def room_of(time_s: Floats, duty: Floats, celsius: Floats) -> tuple[float, float]:
    """The room from the beginning of a record and its standard uncertainty, °C: the mean until the heater first acts,
    else the first reading. The sensor's own error is not in it: all else is told against the same sensor.
    """
    on = np.flatnonzero(duty > 1e-3)
    quiet = max(1, int(on[0]) if len(on) else 0)
    return float(np.mean(celsius[:quiet])), max(reading_noise_of(celsius), 0.01) / math.sqrt(quiet)


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


def fitted_response(analysis: HeatAnalysis) -> tuple[Floats, Floats, Floats]:
    """Even times, duty and the fitted model's temperatures over the record, for drawing beside it."""
    time_s, duty, celsius = analysis.record.time_s, analysis.record.duty, analysis.record.celsius
    grid, drive, seen = even_record(time_s, duty, celsius, step_s=float(np.median(np.diff(time_s))))
    return grid, drive, respond(analysis.fit.model, grid, drive, float(np.mean(seen[:5])))
