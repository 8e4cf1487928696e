"""A heat record made anywhere: checked, then analysed for the plant's model and the gains that would hold it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.heat.candidates import Candidate, candidates, recommend
from ublet.core.heat.demands import HOTEND, SLOW
from ublet.core.heat.model import HeaterModel, respond
from ublet.core.heat.model_fit import FEWEST_SAMPLES, HOLE, ModelFit, UnfitRecord, even_record, fit_model, working_c
from ublet.core.heat.record import reading_noise_of
from ublet.core.heat.relay import Ultimate, smooth
from ublet.core.heat.report import step_situation
from ublet.core.run import TrialFailed
from ublet.core.units import with_uncertainty

SLOWEST_STEP_S = 15.0
"""Samples further apart than this show nothing of a heater, s."""

FASTEST_C_S = 25.0
"""No heater of a printer warms faster, °C/s."""

ROOMS_C, KELVIN = (-15.0, 55.0), (250.0, 330.0)
RANGE_C = (-60.0, 1200.0)
LOST_C = 0.5
"""A hole in which the temperature can have moved by more than this is not passed over, °C."""


@dataclass(frozen=True)
class HeatRecord:
    """The part of a record that can be used, n samples each, and what was noticed."""

    time_s: Floats
    duty: Floats
    celsius: Floats
    notes: tuple[str, ...] = ()


def believable(time_s: Floats, duty: Floats, celsius: Floats) -> HeatRecord:
    """The record as far as it can be used.

    Holes in time are holes: what the duty was meanwhile nobody knows. One so short that the temperature can hardly have
    moved is left out of the fit; at a longer one the record ends.

    Raises:
        UnfitRecord: a unit that is recognised as another one, a value that is none, or a hole before anything is
        reported.
    """
    _check_values(time_s, duty, celsius)
    steps = np.diff(time_s)
    usual = float(np.median(steps))
    _check_times(time_s, celsius, usual)
    holes = np.flatnonzero(steps > HOLE * usual)
    if not len(holes):
        return HeatRecord(time_s, duty, celsius)
    steepest = _steepest(time_s, celsius, usual)
    large = [int(at) for at in holes if not _quiet(time_s, duty, celsius, int(at), steepest)]
    first = int(holes[0])
    count = f"{len(holes)} hole{'s' * (len(holes) > 1)} in time"
    count += f", the first of {steps[first]:.3g} s after {time_s[first]:g} s"
    if not large:
        return HeatRecord(time_s, duty, celsius, (f"{count}: short enough to be left out of the fit",))
    end = large[0] + 1
    where = f"a hole of {steps[large[0]]:.3g} s after {time_s[large[0]]:g} s"
    if end < FEWEST_SAMPLES or float(np.ptp(duty[:end])) < 1e-3:
        raise UnfitRecord(
            f"{where}: what the duty was meanwhile nobody knows, and before it there is too little; record again "
            "without holes, or cut the file so that it begins at rest after it"
        )
    note = f"{where}: what comes after it is left out, since the duty meanwhile is not known"
    return HeatRecord(time_s[:end], duty[:end], celsius[:end], (note,))


def _check_values(time_s: Floats, duty: Floats, celsius: Floats) -> None:
    if float(duty.max()) > 1.0 + 1e-6 or float(duty.min()) < -1e-6:
        raise UnfitRecord(f"duty runs from {duty.min():g} to {duty.max():g}: it must lie in 0..1 (percent over 100)")
    if float(celsius.max()) > RANGE_C[1] or float(celsius.min()) < RANGE_C[0]:
        raise UnfitRecord(
            f"temperature_c runs from {celsius.min():g} to {celsius.max():g}: no heater's temperatures in °C"
        )
    start = float(np.median(celsius[:5]))
    if KELVIN[0] < start < KELVIN[1]:
        raise UnfitRecord(f"temperature_c begins at {start:.0f}: kelvin? Take 273.15 off, it must be °C")
    if not ROOMS_C[0] <= start <= ROOMS_C[1]:
        raise UnfitRecord(
            f"temperature_c begins at {start:.0f}: not a room in °C. Degrees Fahrenheit, or a warm start? It must be "
            "°C and begin at rest"
        )


def _check_times(time_s: Floats, celsius: Floats, usual: float) -> None:
    if usual > SLOWEST_STEP_S:
        raise UnfitRecord(
            f"time_s goes on by {usual:g} from sample to sample: milliseconds? Divide by 1000. If it really is "
            f"seconds, record at least every {SLOWEST_STEP_S:g} s"
        )
    steepest = _steepest(time_s, celsius, usual)
    if steepest > FASTEST_C_S:
        raise UnfitRecord(
            f"it warms by {steepest:.0f} °C in a second, as no heater does: is time_s in minutes? Multiply by 60"
        )


NEAR = 15
"""Samples over which a slope is taken, and a mean."""


def _quiet(time_s: Floats, duty: Floats, celsius: Floats, at: int, steepest: float) -> bool:
    """Whether nothing can have happened in the hole after a sample: it is too short for the temperature to have moved,
    or the duty is the same on both sides and the temperature goes on where it was going.
    """
    seconds = float(time_s[at + 1] - time_s[at])
    if seconds * steepest <= LOST_C:
        return True
    before, after = slice(max(0, at - NEAR + 1), at + 1), slice(at + 1, at + 1 + NEAR)
    if len(time_s[before]) < NEAR or len(time_s[after]) < NEAR or seconds > time_s[at] - time_s[before][0]:
        return False
    held = float(np.ptp(np.concatenate([duty[before], duty[after]]))) < 1e-6
    lines = [np.polyfit(time_s[part] - time_s[at], celsius[part], 1) for part in (before, after)]
    jump = abs(float(np.polyval(lines[1], seconds) - np.polyval(lines[0], seconds)))
    return held and jump <= LOST_C


def _steepest(time_s: Floats, celsius: Floats, usual: float) -> float:
    """The steepest climb or fall outside the holes, °C/s: between means, so that noise counts little."""
    if len(time_s) < 3 * NEAR:
        return 0.0
    calm = smooth(celsius, NEAR)[NEAR // 2 : -(NEAR // 2)]
    middle = time_s[NEAR // 2 : -(NEAR // 2)]
    slopes = np.abs((calm[NEAR:] - calm[:-NEAR]) / (middle[NEAR:] - middle[:-NEAR]))
    whole = time_s[2 * NEAR - 1 :] - time_s[: -(2 * NEAR - 1)]
    inside = whole[: len(slopes)] <= 1.5 * (2 * NEAR) * usual
    return float(np.max(slopes[inside], initial=0.0))


HOTTEST_BED_C = 130.0
"""A record around more than this is a hotend's."""


@dataclass(frozen=True)
class HeatAnalysis:
    """What a record shows: the record as far as it was used, the fit, the temperature it was about, candidates with
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
        UnfitRecord: the record does not determine a model; the message says why.
    """
    record = believable(time_s, duty, celsius)
    time_s, duty, celsius = record.time_s, record.duty, record.celsius
    notes = list(record.notes)
    room, room_u = room_of(time_s, duty, celsius)
    fit = fit_model(time_s, duty, celsius, room)
    _must_be_determined(fit)
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


MAX_UNCERTAINTY = 0.5
"""A gain or a time constant that is less sure than this share of it is not determined by the record."""


def _must_be_determined(fit: ModelFit) -> None:
    """Raises UnfitRecord when the record leaves the gain or the time constant open."""
    for name, value, uncertainty, unit in (
        ("gain", fit.model.held_gain_c, fit.uncertainty.held_gain_c, "°C"),
        ("time constant", fit.model.time_constant_s, fit.uncertainty.time_constant_s, "s"),
    ):
        if not uncertainty <= MAX_UNCERTAINTY * value:
            raise UnfitRecord(
                f"the {name} comes out as {with_uncertainty(value, uncertainty, unit)}: this record does not "
                "determine it. It must show the heat-up and some switching on and off around the working temperature"
            )


def room_of(time_s: Floats, duty: Floats, celsius: Floats) -> tuple[float, float]:
    """The room from the beginning of a record and its standard uncertainty, °C: the mean until the heater first acts,
    else the first reading. The sensor's own error is not in it: all else is cancelled against the same sensor.
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
    zero = model.sheet_lag_s if model.quick_fraction else 0.0
    if model.quick_fraction:
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
