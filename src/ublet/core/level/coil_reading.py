"""Reading a coil: listened to for a while at rest, its mean frequency, loudness and warmth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ublet.core.bench import Bench
from ublet.core.level.coil import CoilCurve, kept_curve
from ublet.core.level.surface import Floats
from ublet.core.machine.level_parts import CoilProbe
from ublet.core.machine.schema import MachineFile
from ublet.core.run import TrialFailed

COIL = "coil"
RATE_HZ = 400.0
SETTLE_S = 0.15
NO_COIL = "this machine’s probe is no coil"


ALIKE = 20
"""So many readings in a row that are exactly alike are none: its noise changes every few of them."""


@dataclass(frozen=True)
class CoilReading:
    """Mean of count readings: frequency over the reference and its deviation, Hz; amplitude, V; warmth, °C."""

    hz: float
    deviation_hz: float
    count: int
    volts: float
    celsius: float


def coil_of(machine: MachineFile) -> CoilProbe:
    """The declared coil.

    Raises:
        TrialFailed: there is none.
    """
    probe = machine.probe
    if probe is None or probe.kind != "coil" or probe.coil is None:
        raise TrialFailed(f"{NO_COIL[0].upper()}{NO_COIL[1:]}: nothing to find out here.")
    return probe.coil


def no_coil(machine: MachineFile) -> str:
    """Why there is nothing to do for a coil; empty: there is one."""
    return "" if machine.probe is not None and machine.probe.kind == "coil" else NO_COIL


async def read_coil(bench: Bench, seconds: float = 0.4) -> CoilReading:
    """Listen while nothing moves.

    Raises:
        TrialFailed: the board has no coil, or nothing comes from it.
    """
    if COIL not in bench.streams.kinds():
        raise TrialFailed("The board tells nothing of a coil: look at its plug, and whether the firmware knows it.")
    await bench.clock.rest(SETTLE_S)
    wanted, rows = round(seconds * RATE_HZ), []
    async with bench.streams.open(COIL, RATE_HZ) as listening:
        async for chunk in listening:
            rows.append(chunk.values)
            if sum(len(each) for each in rows) >= wanted:
                break
    values = np.concatenate(rows)
    must_go_on_reading(values)
    mean = values.mean(axis=0)
    if not values[:, 0].std():
        raise TrialFailed(
            f"The coil reads {mean[0]:.0f} Hz over its reference without the least scatter: that is the end of what "
            "its sensor can tell. It hangs too near to metal, or is another coil: mount it higher."
        )
    if not mean[1]:
        raise TrialFailed("The coil does not ring at all: a broken wire, or no drive current.")
    return CoilReading(float(mean[0]), float(values[:, 0].std(ddof=1)), len(values), float(mean[1]), float(mean[2]))


def must_go_on_reading(values: Floats) -> None:
    """Readings (n x columns) of a coil scatter and ring: a stretch exactly alike, or without amplitude, is none.

    Raises:
        TrialFailed: they stand still, or the coil stops ringing, while they are taken.
    """
    silent = int(np.sum(values[:, 1] <= 0))
    if 0 < silent < len(values):
        raise TrialFailed(
            f"The coil stopped ringing while it was read: {silent} of {len(values)} readings have no amplitude. Look "
            "at its cable and plug; nothing is concluded."
        )
    alike = np.concatenate([[False], np.all(values[1:, :2] == values[:-1, :2], axis=1), [False]])
    edges = np.flatnonzero(alike[1:] != alike[:-1])
    longest = int(max(edges[1::2] - edges[::2], default=0))
    if ALIKE <= longest < len(values) - 1:
        raise TrialFailed(
            f"The coil's readings stand still: {longest + 1} in a row are exactly alike. Look at its cable and plug, "
            "and at the board; nothing is concluded."
        )


def curve_of(machine: MachineFile) -> CoilCurve:
    """The curve that is kept.

    Raises:
        TrialFailed: none is.
    """
    coil = coil_of(machine)
    try:
        return kept_curve(coil.curve_low_mm, coil.curve_top_mm, coil.curve_hz)
    except ValueError as error:
        raise TrialFailed(f"The coil cannot tell heights: {error}. Run “coil-curve” first, and keep it.") from error
