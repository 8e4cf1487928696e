"""The main demonstration without the planted faults of its wires, switches and lead: as it is after the leg Move."""

from __future__ import annotations

FAULTS = (
    ('[switches.x]\nsocket = "I2"', '[switches.x]\nsocket = "I1"'),
    ('[switches.y]\nsocket = "I1"', '[switches.y]\nsocket = "I2"'),
    ('socket = "I3"\nnormally_closed = true', 'socket = "I3"\nnormally_closed = false'),
    ("turn_mm = 40\nreversed = true", "turn_mm = 40"),
    ("turn_mm = 8", "turn_mm = 4"),
    ("low_mm = -9\n", ""),
)
"""Planted faults that concern motion, and how it is without them."""

LIFTS = (('"z.back"', '"z.?"'), ('"z.right"', '"z.back"'), ('"z.?"', '"z.right"'))
OLD_IMAGE = ("[image.probe]\noffset_x_mm = -36.5\n", "[image.axes.x]\nmaximum_mm = 276\n")


def well_wired(text: str) -> str:
    """The scenario's text with right plugs, switches, screws and image; what the leg Level finds is still planted."""
    for before, after in (*FAULTS, *LIFTS, *((old, "") for old in OLD_IMAGE)):
        text = text.replace(before, after)
    return text
