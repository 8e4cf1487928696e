"""Segments of a program as they stand on the wire (docs/protocol.md, "Programs")."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from ublet.core.machine.layouts import AXES
from ublet.core.motion.program import Dwell, Lift, Park, ProbeMove, Push, Segment, SweepMove, To, Warm

KINDS = ("to", "push", "rest_s", "warm", "touch", "lift", "swing")
"""Keys by which segments are told apart."""


def told_park(park: Park) -> dict[str, Any]:
    """How a program parks, for the wire."""
    return {"lift_mm": park.lift_mm, "at": dict(park.at), "mm_s": park.mm_s}


def park_from(told: object) -> Park:
    """How a program parks, as it came over the wire.

    Raises:
        ValueError: it is no such thing; the message says why.
    """
    if not isinstance(told, dict) or "lift_mm" not in told or "at" not in told:
        raise ValueError("park must be an object with lift_mm, at and mm_s")
    at = _places(told, "at")
    if "z" in at:
        raise ValueError("park: at is of x and y; Z is lifted by lift_mm")
    return Park(_from_zero(told, "lift_mm"), at, _above(told, "mm_s"))


def told_segment(segment: Segment) -> dict[str, Any]:
    """A segment for the wire."""
    place = {"place": segment.place} if segment.place else {}
    match segment:
        case To():
            filament = {"filament": segment.filament} if segment.filament else {}
            gentle = {"mm_s2": segment.mm_s2} if segment.mm_s2 else {}
            return {"to": dict(segment.at), "mm_s": segment.mm_s, **filament, **gentle, **place}
        case Push():
            return {"push": segment.filament, "mm_s": segment.mm_s, **place}
        case Dwell():
            return {"rest_s": segment.seconds, **place}
        case Warm():
            return {"warm": segment.heater, "within_c": segment.within_c, **place}
        case ProbeMove():
            return {"touch": dict(segment.at), "mm_s": segment.mm_s, **place}
        case SweepMove():
            hz = {"from_hz": segment.from_hz, "to_hz": segment.to_hz}
            return {
                "swing": dict(segment.way),
                **hz,
                "seconds": segment.seconds,
                "per_hz_m_s2": segment.per_hz_m_s2,
                **place,
            }
        case Lift():
            return {"lift": dict(segment.motors), "mm_s": segment.mm_s, **place}


def segment_from(told: object) -> Segment:
    """A segment from the wire.

    Raises:
        ValueError: it is none; the message says what is wrong with it.
    """
    if not isinstance(told, dict):
        raise ValueError("a segment must be an object")
    kinds = [key for key in KINDS if key in told]
    if len(kinds) != 1:
        raise ValueError(f"a segment has one of {', '.join(KINDS)}")
    kind, place = kinds[0], told.get("place", "")
    if not isinstance(place, str):
        raise ValueError("place must be a word")
    match kind:
        case "to":
            filament, gentle = (
                _number(told.get("filament", 0.0), "filament"),
                _from_zero({"mm_s2": 0.0, **told}, "mm_s2"),
            )
            return To(_places(told, kind), _above(told, "mm_s"), filament, place, gentle)
        case "push":
            return Push(_number(told[kind], kind), _above(told, "mm_s"), place)
        case "rest_s":
            return Dwell(_from_zero(told, kind), place)
        case "warm":
            if not isinstance(told[kind], str):
                raise ValueError("warm must be the name of a heater")
            return Warm(told[kind], _above({"within_c": 2.0, **told}, "within_c"), place)
        case "touch":
            return ProbeMove(_places(told, kind), _above(told, "mm_s"), place)
        case "swing":
            return _swing(told, place)
        case _:
            return Lift(_table(told, kind), _above(told, "mm_s"), place)


def _swing(told: Mapping[str, Any], place: str) -> SweepMove:
    way = _places(told, "swing")
    if abs(math.hypot(*way.values()) - 1) > 1e-6:
        raise ValueError("swing must be a direction of length 1")
    low, high, seconds = (_above(told, key) for key in ("from_hz", "to_hz", "seconds"))
    if high <= low:
        raise ValueError("to_hz must be above from_hz")
    return SweepMove(way, low, high, seconds, _above(told, "per_hz_m_s2"), place)


def _table(told: Mapping[str, Any], key: str) -> dict[str, float]:
    table = told[key]
    if not isinstance(table, dict) or not table:
        raise ValueError(f"{key} must be an object with at least one number")
    return {str(name): _number(value, f"{key}.{name}") for name, value in table.items()}


def _places(told: Mapping[str, Any], key: str) -> dict[str, float]:
    table = _table(told, key)
    if unknown := [axis for axis in table if axis not in AXES]:
        raise ValueError(f"{key}: no axis “{unknown[0][:20]}”; known: {', '.join(AXES)}")
    return table


def _number(value: object, key: str) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
        raise ValueError(f"{key} must be a finite number")
    return float(value)


def _above(told: Mapping[str, Any], key: str) -> float:
    if key not in told or (value := _number(told[key], key)) <= 0:
        raise ValueError(f"{key} must be a number above 0")
    return value


def _from_zero(told: Mapping[str, Any], key: str) -> float:
    if (value := _number(told[key], key)) < 0:
        raise ValueError(f"{key} must be a number from 0")
    return value
