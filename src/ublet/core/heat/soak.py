"""Soak: how a bed's surface follows its sensor, and how long after that it stands still."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.heat.model import HeaterModel, lagged
from ublet.core.heat.model_fit import ModelUncertainty, correlated_samples
from ublet.core.least_squares import minimise

SHORTEST_LAG_S, LONGEST_LAG_S = 2.0, 3600.0
LEAD_S = 30.0
"""The longest lead that is looked for, s."""

LAG_FORM = 0.012
"""The sensor in the bed lags too, and is taken for one that is merely late: the sheet's lag is uncertain by this share
of it. Read off beds made up at random by other physics, and checked on further ones by ``ublet bench``.
"""

STEP_S = 0.5
SLOPE_S = 15.0
"""A drift is read over this much before and after, s."""


@dataclass(frozen=True)
class SheetModel:
    """What lies on a bed: how far it lags the sensor, s, and its height above the room as a share of the sensor's when
    both stand still (1: not measured); with their standard uncertainties. lead_s: the sensor in the bed is late itself,
    by so much.
    """

    lag_s: float
    fraction: float = 1.0
    lag_u_s: float = 0.0
    fraction_u: float = 0.0
    lead_s: float = 0.0

    def follows(self, time_s: Floats, bed_c: Floats, room_c: float) -> Floats:
        """The surface, °C, for n even times (s) and readings of the bed (°C), from rest at the first one."""
        step = float(time_s[-1] - time_s[0]) / (len(time_s) - 1)
        behind = lagged(bed_c - room_c, step, self.lag_s, float(bed_c[0]) - room_c)
        return room_c + self.fraction * np.interp(time_s + self.lead_s, time_s, behind)


def fit_sheet(time_s: Floats, bed_c: Floats, surface_c: Floats, room_c: float) -> SheetModel | None:
    """The sheet behind n even times (s) and readings of bed and surface (°C) that begin at rest; None: none is seen.

    ``lag x' = (T_bed(t + lead) - room) - x``, ``T_surface = room + share x``: least squares over lag and lead with the
    share projected out (Golub & Pereyra 1973). Uncertainties from the covariance, times as many samples as the residual
    lasts, and for the lag what the form leaves open (:data:`LAG_FORM`).
    """
    if len(time_s) < 20 or float(np.ptp(surface_c)) < 1.0:
        return None
    step = float(time_s[-1] - time_s[0]) / (len(time_s) - 1)
    height, seen = bed_c - room_c, surface_c - room_c
    start = float(height[:3].mean())  # not quite the room's: what is on it is as warm as the bed, as near as one knows

    def behind(x: Floats) -> Floats:
        follows = lagged(height, step, math.exp(float(x[0])), start)
        return np.interp(time_s + LEAD_S * float(x[1]), time_s, follows)

    def fraction_of(x: Floats) -> float:
        return float(x @ seen) / max(1e-12, float(x @ x))

    def error(at: Floats) -> Floats:
        x = behind(at)
        return np.asarray(fraction_of(x) * x - seen)

    low, high = np.array([math.log(SHORTEST_LAG_S), 0.0]), np.array([math.log(LONGEST_LAG_S), 1.0])
    fitted = minimise(error, np.array([math.log(60.0), 0.2]), low, high)
    x, lag, fraction = behind(fitted.x), math.exp(float(fitted.x[0])), fraction_of(behind(fitted.x))
    near = 1e-3
    bends = [(behind(fitted.x + near * unit) - x) * fraction / near for unit in np.eye(2)]
    slopes = np.column_stack([bends[0] / lag, bends[1], x])
    variance = float(fitted.residual @ fitted.residual) / max(1, len(seen) - 3) * correlated_samples(fitted.residual)
    lag_u, _, fraction_u = np.sqrt(np.maximum(np.diag(np.linalg.pinv(slopes.T @ slopes)), 0) * variance).tolist()
    return SheetModel(lag, fraction, math.hypot(lag_u, LAG_FORM * lag), fraction_u, LEAD_S * float(fitted.x[1]))


def still_from(time_s: Floats, surface_c: Floats, drift_c_min: float) -> float:
    """The time from which a surface drifts by less than so much a minute for good, s: n even times and readings."""
    reach = max(1, round(SLOPE_S / float(time_s[1] - time_s[0])))
    slope = 60 * (surface_c[2 * reach :] - surface_c[: -2 * reach]) / (time_s[2 * reach :] - time_s[: -2 * reach])
    moving = np.flatnonzero(np.abs(slope) >= drift_c_min)
    return float(time_s[moving[-1] + reach]) if len(moving) else float(time_s[0])


def still_after(off_c: float, lag_s: float, drift_c_min: float) -> float:
    """Seconds until a surface that is so far off where it will stand, ``off exp(-t/lag)``, drifts by less than so much
    a minute.
    """
    first = 60 * abs(off_c) / lag_s
    return lag_s * math.log(first / drift_c_min) if first > drift_c_min else 0.0


@dataclass(frozen=True)
class TemperatureSlope:
    """A slope in °C/min with its standard uncertainty."""

    c_min: float
    uncertainty: float

    def surely_below(self, limit_c_min: float) -> bool:
        """Whether it is below a limit, with two standard uncertainties to spare."""
        return abs(self.c_min) + 2 * self.uncertainty <= limit_c_min


def drift_of(time_s: Floats, celsius: Floats) -> TemperatureSlope:
    """The slope through n readings by linear regression, °C/min."""
    at = (time_s - time_s.mean()) / 60
    spread = float(at @ at)
    slope = float(at @ celsius) / spread
    left = celsius - celsius.mean() - slope * at
    variance = float(left @ left) / max(1, len(at) - 2)
    return TemperatureSlope(slope, math.sqrt(variance / spread))


def predict_soak(
    model: HeaterModel, sheet: SheetModel, target_c: float, limit: float, drift_c_min: float
) -> float | None:
    """Seconds from the target reached until the surface drifts by less than drift_c_min, for a start at the room at
    full power; None when the target is not reached.
    """
    rise = target_c - model.ambient_c
    heat_up = model.heat_up_s(rise, limit)
    if heat_up is None:
        return None
    at = np.arange(0.0, heat_up + STEP_S, STEP_S)
    slow, quick = np.exp(-at / model.time_constant_s), np.exp(-at / model.quick_s) if model.quick_fraction else 0.0
    bed = (model.gain_c * limit + float(model.spared(rise))) * (
        1 - (1 - model.quick_fraction) * slow - model.quick_fraction * quick
    )
    surface = sheet.fraction * lagged(np.minimum(bed, rise), STEP_S, sheet.lag_s, 0.0)
    return still_after(sheet.fraction * rise - float(surface[-1]), sheet.lag_s, drift_c_min)


def sheet_of(model: HeaterModel, uncertainty: ModelUncertainty | None = None) -> SheetModel | None:
    """The sheet that a bed's own model shows by its second store; None when it has one store only.

    ``lag = q tau + (1 - q) tau_quick``; its uncertainty by the delta method, the three taken as independent.
    """
    if not model.sheet_lag_s:
        return None
    if uncertainty is None:
        return SheetModel(model.sheet_lag_s)
    parts = (
        model.quick_fraction * uncertainty.time_constant_s,
        (1 - model.quick_fraction) * uncertainty.quick_s,
        (model.time_constant_s - model.quick_s) * uncertainty.quick_fraction,
    )
    return SheetModel(model.sheet_lag_s, 1.0, math.hypot(*parts))
