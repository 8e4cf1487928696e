"""What a heater will do next, by the model that its tuning found: time to a target, and whether its gains fit there."""

from __future__ import annotations

from ublet.core.heat.model import HeaterModel

FAR_SHARE = 0.15
"""Gains are far from where they were found when the target's height above the room differs by more than this share."""


def time_to(model: HeaterModel, now_c: float, target_c: float, limit: float) -> float | None:
    """Seconds until a heater at full power reaches a target; 0 when it is there, None when it never does.

    The stretch between the two of a climb from the room (:meth:`HeaterModel.climb_s`), behind the lags.
    """
    if now_c >= target_c:
        return 0.0
    whole = model.climb_s(target_c - model.ambient_c, limit)
    done = model.climb_s(max(0.0, now_c - model.ambient_c), limit)
    if whole is None or done is None:
        return None
    return model.delay_s + whole - done


def slowest_rise(model: HeaterModel, target_c: float, drift_c: float, window_s: float, limit: float) -> float:
    """The least that a good heater rises in a window at full power while the guard watches it, °C.

    That is at the end of the climb, where the guard stops to watch (drift_c below the target):
    the window times :meth:`HeaterModel.slope_c_s` there.
    """
    return max(0.0, window_s * model.slope_c_s(target_c - drift_c - model.ambient_c, limit))


def time_to_cool(model: HeaterModel, now_c: float, to_c: float) -> float | None:
    """Seconds until a heater that is off has cooled to a temperature; None when the room is warmer than that."""
    if now_c <= to_c:
        return 0.0
    if to_c <= model.ambient_c:
        return None
    return model.cool_s(now_c - model.ambient_c, to_c - model.ambient_c)


def far_from(target_c: float, tuned_c: float, room_c: float) -> bool:
    """Whether a target is far from the temperature at which the gains were found."""
    return abs(target_c - tuned_c) > FAR_SHARE * (tuned_c - room_c)
