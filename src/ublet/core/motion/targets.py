"""Typed targets of a jog: "x120", "+5", "y-3 z+0.5mm", "y=-3"."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.units import NotAQuantity, parse, spelt_out

_WORD = re.compile(r"([xyz]?)\s*(=?)\s*([+-]?)\s*([0-9.,]+\s*(?:[a-wµ\"]*))", re.IGNORECASE)
EXAMPLES = "type for example x120 (go there), +5 (the last axis by 5 mm), y-3 z+0.5, or y=-3 (go to -3)"


@dataclass(frozen=True)
class Target:
    """By how much one axis is to move, mm."""

    axis: str
    by_mm: float


def parse_targets(
    text: str, last_axis: str, position: Mapping[str, float | None], bare: str = "mm"
) -> tuple[Target, ...]:
    """Read a typed target. A number with a sign moves by so much, one without (or after =) goes there; without an axis
    the last one is meant. ``position`` is where the axes stand, mm (None: not homed); ``bare`` is the unit of a number
    without one.

    >>> parse_targets("x120 +5", "y", {"x": 100.0, "y": 0.0, "z": 0.0})
    (Target(axis='x', by_mm=20.0), Target(axis='x', by_mm=5.0))

    Raises:
        NotAQuantity: it cannot be read, or an axis that is not homed is sent to a place.
    """
    words = _WORD.findall(text)
    if not words or re.sub(r"\s", "", "".join("".join(word) for word in words)) != re.sub(r"\s", "", text):
        raise NotAQuantity(f"“{text.strip()}” is no target: {EXAMPLES}")
    axis, targets, stands = last_axis, [], dict(position)
    for named, equals, sign, number in words:
        axis = named.lower() or axis
        try:
            value = parse(spelt_out(sign + number, "mm", bare), "mm")
        except NotAQuantity as error:
            raise NotAQuantity(f"{axis.upper()}: {error}") from error
        here = stands.get(axis)
        by = value
        if equals or not sign:
            if here is None:
                number_text = number.strip()
                raise NotAQuantity(
                    f"{axis.upper()} is not homed: home it first, or move it by a length: {axis}+{number_text}"
                )
            by = value - here
        if here is not None:
            stands[axis] = here + by
        targets.append(Target(axis, by))
    return tuple(targets)
