"""Segments of a program as they stand on the wire (docs/protocol.md, "Programs")."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from ublet.core.machine.layouts import AXES
from ublet.core.motion.program import Dwell, Lift, Park, ProbeMove, Push, Segment, SetAdvance, SweepMove, To, Warm

KINDS = ("to", "push", "advance_s", "rest_s", "warm", "touch", "lift", "swing")
MOST_ADVANCE_S = 3.0
"""The key of a segment that says what kind it is."""


def park_fields(park: Park) -> dict[str, Any]:
    """How a program parks, for the wire."""
    return {"lift_mm": park.lift_mm, "at": dict(park.at), "mm_s": park.mm_s}


def park_from(fields: object) -> Park:
    """How a program parks, as it came over the wire.

    Raises:
        ValueError: it is no such thing; the message says why.
    """
    if not isinstance(fields, dict) or "lift_mm" not in fields or "at" not in fields:
        raise ValueError("park must be an object with lift_mm, at and mm_s")
    at = _places(fields, "at")
    if "z" in at:
        raise ValueError("park: at is of x and y; Z is lifted by lift_mm")
    return Park(_from_zero(fields, "lift_mm"), at, _above(fields, "mm_s"))


def segment_fields(segment: Segment) -> dict[str, Any]:
    """A segment for the wire."""
    place = {"place": segment.place} if segment.place else {}
    match segment:
        case To():
            filament = {"filament": segment.filament} if segment.filament else {}
            gentle = {"mm_s2": segment.mm_s2} if segment.mm_s2 else {}
            return {"to": dict(segment.at), "mm_s": segment.mm_s, **filament, **gentle, **place}
        case Push():
            return {"push": segment.filament, "mm_s": segment.mm_s, **place}
        case SetAdvance():
            return {"advance_s": segment.seconds, **place}
        case Dwell():
            return {"rest_s": segment.seconds, **place}
        case Warm():
            return {"warm": segment.heater, "within_c": segment.within_c, **place}
        case ProbeMove():
            return {"touch": dict(segment.at), "mm_s": segment.mm_s, **place}
        case SweepMove():
            hz = {"from_hz": segment.from_hz, "to_hz": segment.to_hz}
            return {
                "swing": dict(segment.direction),
                **hz,
                "seconds": segment.seconds,
                "per_hz_m_s2": segment.per_hz_m_s2,
                **place,
            }
        case Lift():
            return {"lift": dict(segment.motors), "mm_s": segment.mm_s, **place}


def segment_from(fields: object) -> Segment:
    """A segment from the wire.

    Raises:
        ValueError: it is none; the message says what is wrong with it.
    """
    if not isinstance(fields, dict):
        raise ValueError("a segment must be an object")
    kinds = [key for key in KINDS if key in fields]
    if len(kinds) != 1:
        raise ValueError(f"a segment has one of {', '.join(KINDS)}")
    kind, place = kinds[0], fields.get("place", "")
    if not isinstance(place, str):
        raise ValueError("place must be a word")
    match kind:
        case "to":
            filament, gentle = (
                _number(fields.get("filament", 0.0), "filament"),
                _from_zero({"mm_s2": 0.0, **fields}, "mm_s2"),
            )
            return To(_places(fields, kind), _above(fields, "mm_s"), filament, place, gentle)
        case "push":
            return Push(_number(fields[kind], kind), _above(fields, "mm_s"), place)
        case "advance_s":
            if (seconds := _from_zero(fields, kind)) > MOST_ADVANCE_S:
                raise ValueError(f"advance_s must be a number from 0 to {MOST_ADVANCE_S:g}")
            return SetAdvance(seconds, place)
        case "rest_s":
            return Dwell(_from_zero(fields, kind), place)
        case "warm":
            if not isinstance(fields[kind], str):
                raise ValueError("warm must be the name of a heater")
            return Warm(fields[kind], _above({"within_c": 2.0, **fields}, "within_c"), place)
        case "touch":
            return ProbeMove(_places(fields, kind), _above(fields, "mm_s"), place)
        case "swing":
            return _sweep_move(fields, place)
        case _:
            return Lift(_table(fields, kind), _above(fields, "mm_s"), place)


def _sweep_move(fields: Mapping[str, Any], place: str) -> SweepMove:
    way = _places(fields, "swing")
    if abs(math.hypot(*way.values()) - 1) > 1e-6:
        raise ValueError("swing must be a direction of length 1")
    low, high, seconds = (_above(fields, key) for key in ("from_hz", "to_hz", "seconds"))
    if high <= low:
        raise ValueError("to_hz must be above from_hz")
    return SweepMove(way, low, high, seconds, _above(fields, "per_hz_m_s2"), place)


def _table(fields: Mapping[str, Any], key: str) -> dict[str, float]:
    table = fields[key]
    if not isinstance(table, dict) or not table:
        raise ValueError(f"{key} must be an object with at least one number")
    return {str(name): _number(value, f"{key}.{name}") for name, value in table.items()}


def _places(fields: Mapping[str, Any], key: str) -> dict[str, float]:
    table = _table(fields, key)
    if unknown := [axis for axis in table if axis not in AXES]:
        raise ValueError(f"{key}: no axis “{unknown[0][:20]}”; known: {', '.join(AXES)}")
    return table


def _number(value: object, key: str) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
        raise ValueError(f"{key} must be a finite number")
    return float(value)


def _above(fields: Mapping[str, Any], key: str) -> float:
    if key not in fields or (value := _number(fields[key], key)) <= 0:
        raise ValueError(f"{key} must be a number above 0")
    return value


def _from_zero(fields: Mapping[str, Any], key: str) -> float:
    if (value := _number(fields[key], key)) < 0:
        raise ValueError(f"{key} must be a number from 0")
    return value
