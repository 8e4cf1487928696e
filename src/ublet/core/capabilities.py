"""What a board may be able to do, and what is said where one cannot."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Literal, get_args

from ublet.core.machine.schema import MachineFile

Capability = Literal[
    "heat",
    "motion",
    "programs",
    "filament",
    "lines",
    "touch",
    "loans",
    "probe",
    "image",
    "mesh",
    "swings",
    "shaping",
    "advance",
    "accelerometer",
    "coil",
]

ALL: frozenset[str] = frozenset(get_args(Capability))
OF_PROGRAMS: frozenset[Capability] = frozenset({"filament", "lines", "touch"})
"""What every board can that runs programs by itself; where the host makes programs of single lines, these are open."""

STREAMED: frozenset[Capability] = frozenset({"accelerometer", "coil"})
"""A board says by its streams that it has these."""

LACKING: Mapping[Capability, str] = {
    "heat": "drives no heaters and fans",
    "motion": "moves no motors",
    "programs": "runs no programs of motion",
    "filament": "pushes no filament by itself",
    "lines": "follows no straight lines of several axes and filament",
    "touch": "does not look at its probe by itself: its input is watched from here, in short steps at one speed",
    "loans": "lends no settings for the time of a session",
    "probe": "has no pin to deploy",
    "image": "takes no images over its line",
    "mesh": "runs an image without the module mesh: build it with it (station modules), and write it to the board",
    "swings": "cannot run the sine motion that a sweep needs",
    "shaping": (
        "runs an image without the module shaping: build it with it (station modules), and write it to the board"
    ),
    "advance": (
        "runs an image without the module advance: build it with it (station modules), and write it to the board"
    ),
    "accelerometer": (
        "has no accelerometer: no module of one answers at its bus sockets (plug it in, switch the board off and on)"
    ),
    "coil": "has no coil: no module of one answers at its bus sockets (plug it in, switch the board off and on)",
}
"""What is said of a board that lacks one."""

UNSPOKEN: Mapping[Capability, str] = {
    "mesh": "has no settings of a bed mesh in its language",
    "shaping": "has no settings of an input shaper in its language",
    "advance": "has no pressure advance that a print changes: its language has no lines, or no setting of it",
}
"""And of one that takes no images: no module can be built for it from here."""


Uses = Callable[[MachineFile], tuple[Capability, ...]]
"""What a board must be able to do for something, on a machine."""


def always(*uses: Capability) -> Uses:
    """The same on every machine."""
    return lambda machine: uses


def lacking_words(uses: Iterable[Capability], can: Iterable[str]) -> str:
    """What a board lacks of what is needed, as a sentence's end; empty: nothing."""
    there = set(can)
    implied = OF_PROGRAMS if "programs" not in there else frozenset()
    lacking = LACKING if "image" in there else {**LACKING, **UNSPOKEN}
    missing = [lacking[use] for use in uses if use not in there and use not in implied]
    return f"this board {' and '.join(missing)}" if missing else ""
