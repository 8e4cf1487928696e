"""What a line language may say: requests with their fields, and what readings hold."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from ublet.core.capabilities import Capability
from ublet.core.dialect.pattern import FieldKind

PART, NUMBER, WHOLE, FLAG, WORD, TEXT = FieldKind
PARTS: Mapping[str, FieldKind] = dict.fromkeys(("heater", "sensor", "fan", "axis", "motor", "input", "gain"), PART)
"""Fields that name a part of the machine; [names] has a table for each."""


NO_WORD = "-"
"""A text or a word that says nothing."""


def part_in(record: Iterable[str]) -> str:
    """The kind of part that a record names; empty: it speaks of the board."""
    names = set(record)
    return next((part for part in PARTS if part in names), "")


@dataclass(frozen=True)
class RequestKind:
    """A request: the fields that its line may carry, those that it must, and those of an answer.

    again: a line that got lost may be sent once more without doing anything twice.
    """

    help: str
    fields: Mapping[str, FieldKind]
    answer: Mapping[str, FieldKind] = field(default_factory=dict)
    again: bool = True


MOVED: Mapping[str, FieldKind] = {"seconds": NUMBER, "mm_s": NUMBER}
SPEED: Mapping[str, FieldKind] = {"mm_s": NUMBER}
REQUESTS: Mapping[str, RequestKind] = {
    "hold": RequestKind("hold a heater at a temperature", {"heater": PART, "celsius": NUMBER}),
    "cool": RequestKind("switch a heater off", {"heater": PART}),
    "relay": RequestKind(
        "let the board switch a heater between two duties around a temperature",
        {"heater": PART, "celsius": NUMBER, "hysteresis": NUMBER, "high": NUMBER, "low": NUMBER},
    ),
    "drive": RequestKind(
        "drive a heater at a duty, below a temperature", {"heater": PART, "duty": NUMBER, "celsius": NUMBER}
    ),
    "fan": RequestKind("run a fan", {"fan": PART, "duty": NUMBER}),
    "off": RequestKind("every heater and fan off", {}),
    "turn": RequestKind("turn one motor", {"motor": PART, "mm": NUMBER, "mm_s": NUMBER}, MOVED, False),
    "move": RequestKind("move an axis by a distance", {"axis": PART, "mm": NUMBER, "mm_s": NUMBER}, MOVED, False),
    "home": RequestKind("let an axis find its end", {"axis": PART}, {}, False),
    "line": RequestKind(
        "follow a straight line by distances along the axes, mm, pushing filament on the way",
        {**dict.fromkeys(("x", "y", "z", "filament", "mm_s", "mm_s2"), NUMBER)},
        {"mm_s": NUMBER, "room": WHOLE},
        False,
    ),
    "push": RequestKind("push filament, back when it is negative", {"mm": NUMBER, "mm_s": NUMBER}, SPEED, False),
    "touch": RequestKind("move Z until the probe triggers", {"mm": NUMBER, "mm_s": NUMBER}, SPEED, False),
    "lift": RequestKind(
        "turn one motor of an axis that keeps its place", {"motor": PART, "mm": NUMBER, "mm_s": NUMBER}, SPEED, False
    ),
    "stop": RequestKind("stop whatever moves", {}),
    "let-go": RequestKind("no motor holds any more", {}),
    "pin-down": RequestKind("the probe's pin down", {}),
    "pin-up": RequestKind("the probe's pin up", {}),
    "release": RequestKind("leave the halted state", {}),
}
"""Requests by the names of their tables in a dialect file."""

READS: Mapping[str, FieldKind] = {
    **PARTS,
    "celsius": NUMBER,
    "duty": NUMBER,
    "target_c": NUMBER,
    "pressed": FLAG,
    "edges": WHOLE,
    "mm": NUMBER,
    "shift_mm": NUMBER,
    "moving": FLAG,
    "room": WHOLE,
    "halted": FLAG,
    "boot": WHOLE,
    "time_s": NUMBER,
    "why": TEXT,
    "guard": TEXT,
}
"""Fields of readings."""

OF_PART: Mapping[str, frozenset[str]] = {
    "sensor": frozenset({"celsius"}),
    "heater": frozenset({"duty", "target_c"}),
    "fan": frozenset({"duty"}),
    "input": frozenset({"pressed", "edges"}),
    "axis": frozenset({"mm", "shift_mm", "why"}),
}
"""What a reading may say of a part that it names; without one it speaks of the board: moving, how many lines
more of a path it takes now (room), halted and why, the guard that tripped, boot, time_s.
"""
OF_BOARD = frozenset({"moving", "room", "halted", "guard", "boot", "time_s", "why"})

NEEDS: Mapping[Capability, tuple[frozenset[str], frozenset[str]]] = {
    "heat": (
        frozenset({"hold", "cool", "off", "fan"}),
        frozenset({"sensor.celsius", "heater.duty", "heater.target_c"}),
    ),
    "motion": (frozenset({"turn", "move", "home", "stop", "let-go"}), frozenset({"axis.mm", "moving"})),
    "programs": (frozenset({"move", "stop"}), frozenset({"axis.mm", "moving"})),
    "filament": (frozenset({"push"}), frozenset()),
    "lines": (frozenset({"line"}), frozenset({"room"})),
    "touch": (frozenset({"touch"}), frozenset({"input.pressed"})),
    "probe": (frozenset({"pin-down", "pin-up"}), frozenset({"input.pressed"})),
}
"""Requests and readings without which a capability is lacking."""

NEEDS_SETTINGS: Mapping[Capability, tuple[str, ...]] = {
    "mesh": ("mesh.heights_mm", "mesh.correction_mm", "mesh.follows", "mesh.from_x_mm", "mesh.to_x_mm"),
    "advance": ("extruder.advance_s",),
    "shaping": ("axes.x.shaper.kind", "axes.x.shaper.train"),
}
"""Settings without which one is."""
