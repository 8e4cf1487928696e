"""How an accelerometer is turned: its columns and the machine's axes, declared and found out."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.machine.layouts import AXES
from ublet.core.machine.schema import MachineFile

HELD: Mapping[str, float] = {"screwed": 2000.0, "glued": 900.0, "taped": 290.0}
"""What holds a sensor of some grams is a spring with it: where it rings by itself, Hz. Two-sided foam tape of 1 mm on
1 cm² has some 10 N/mm in shear, a thin film of glue ten times that.
"""

AMPLIFIED = 0.1


def held_to_hz(held: str) -> float:
    """Up to which frequency a sensor that is held so reads no more than a tenth too much, Hz: a mount that rings at f0
    amplifies by ``1 / (1 - (f/f0)^2)``.
    """
    return math.sqrt(AMPLIFIED / (1 + AMPLIFIED)) * HELD[held]


def held_words(rings_hz: float) -> str:
    """What a mount that rings there costs."""
    to_hz = math.sqrt(AMPLIFIED / (1 + AMPLIFIED)) * rings_hz
    return f"reads within {100 * AMPLIFIED:.0f} % up to {10 * round(to_hz / 10):.0f} Hz"


def beyond_words(machine: MachineFile, axis: str, frequencies_hz: Sequence[float]) -> str:
    """What is said of modes above what the sensor's mount shows truly; empty: there are none."""
    held = machine.accelerometer.held
    limit = held_to_hz(held)
    above = [hz for hz in frequencies_hz if hz > limit]
    if not above:
        return ""
    shown = ", ".join(f"{hz:.0f}" for hz in above)
    return (
        f"{axis.upper()} at {shown} Hz: a sensor that is {held} reads too much above {limit:.0f} Hz, so that its share "
        "there is less in truth. Screw it on to be sure."
    )


TAKE_OFF = "Take the accelerometer and its cable off before the next print."

FELT, CLEAR = 0.4, 2.0
"""A column feels a jerk along an axis when it shows at least this share of it, so many times as much as any other."""


def columns_of(words: tuple[str, str, str]) -> Floats:
    """What each column of the sensor reads of accelerations along the machine's axes (3 x 3), from words such as
    ``-y``: the axis along which it points.
    """
    matrix = np.zeros((3, 3))
    for column, word in enumerate(words):
        matrix[column, AXES.index(word[-1])] = -1.0 if word.startswith("-") else 1.0
    return matrix


def declared_columns(machine: MachineFile) -> tuple[str, str, str]:
    """How it is declared to be turned."""
    mount = machine.accelerometer
    return mount.x, mount.y, mount.z


def along_axes(values: Floats, words: tuple[str, str, str]) -> Floats:
    """Readings (n x 3) of a sensor that is turned so, along the machine's axes (n x 3)."""
    return np.asarray(values @ columns_of(words))


def is_turned_right(words: tuple[str, str, str]) -> bool:
    """Whether a sensor can be turned so: each axis once, and its three columns right-handed."""
    turned = columns_of(words)
    return bool(abs(np.abs(turned).sum(axis=0) - 1).max() == 0 and np.linalg.det(turned) > 0.5)


def column_that_feels(felt: Floats) -> tuple[int, int] | None:
    """Which column (0 to 2) feels a jerk, from what each shows of it (3), and with which sign; None: no clear one."""
    size = np.abs(felt)
    best = int(np.argmax(size))
    others = float(np.max(np.delete(size, best)))
    if size[best] < FELT or size[best] < CLEAR * others:
        return None
    return best, 1 if felt[best] > 0 else -1


def deduced(felt: Mapping[str, Floats], gravity: Floats) -> tuple[str, str, str] | None:
    """How it is turned, from what its columns show of a jerk along some axes, and of gravity, which a sensor at rest
    shows along the machine's Z; what is left is where a right hand has it. None: it contradicts itself.
    """
    at: dict[str, tuple[int, int]] = {}
    for axis, shown in felt.items():
        feeling = column_that_feels(shown)
        if feeling is None:
            return None
        at[axis] = feeling
    up = int(np.argmax(np.abs(gravity)))
    at["z"] = (up, 1 if gravity[up] > 0 else -1)
    if len({column for column, _ in at.values()}) != len(at):
        return None
    words = ["", "", ""]
    for axis, (column, sign) in at.items():
        words[column] = axis if sign > 0 else f"-{axis}"
    missing = [axis for axis in AXES if axis not in at]
    if missing:
        column = words.index("")
        for word in (missing[0], f"-{missing[0]}"):
            words[column] = word
            if is_turned_right((words[0], words[1], words[2])):
                break
    columns = (words[0], words[1], words[2])
    return columns if len(missing) <= 1 and is_turned_right(columns) else None
