"""The trial of the station *accelerometer* that finds out how it is turned: a jerk along each axis that it can feel."""

from __future__ import annotations

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, preheat_words
from ublet.core.motion.program import SweepMove
from ublet.core.remedy import ByHand, StartAgain
from ublet.core.run import Finding, Option, Proposal, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.shake.mount import column_that_feels, columns_of, declared_columns, deduced
from ublet.core.shake.shaking import (
    DIRECTIONS,
    HEAD,
    MeasuredResponse,
    bound,
    hands_off,
    sensor_on,
    shaken,
    sits_on,
    stand_in_the_middle,
)
from ublet.core.shake.sweep import Sweep
from ublet.core.shake.sweep_response import RESPONSE
from ublet.core.shake.sweeping import sweep_needs
from ublet.core.trial import TrialSpec
from ublet.core.trial_times import TrialTimes
from ublet.core.words import several

JERKS_FROM_HZ, JERKS_TO_HZ, JERKS_S, JERKS_PER_HZ = 7.0, 14.0, 1.5, 0.2
"""A few jerks to and fro, far below what rings."""

RATTLES, FEWEST_AT_REST = 0.15, 50
"""What a column reads beyond the jerk and beyond what it reads at rest, over what follows the jerk, as powers: sound
mounts are below 0.05, for what rings and friction; a mount above this rattles.
"""

MOUNT = "accelerometer"


class TurnedParameters(Part):
    """How long before it moves."""

    hands_off_s: float = setting("Countdown before it jerks.", unit="s", low=0, high=60, default=3.0)


async def accelerometer_turned(bench: Bench, aim: TurnedParameters) -> TrialResult:
    """Jerk each axis that the sensor can feel, and deduce from what shows where, and from gravity, how it is turned."""
    machine = bench.machine
    declared = declared_columns(machine)
    await stand_in_the_middle(bench)
    await sensor_on(bench, HEAD)
    await hands_off(bench, aim.hands_off_s)
    axes = [axis for axis in ("x", "y") if sits_on(bench, axis) == HEAD]
    felt: dict[str, Floats] = {}
    gravity = np.zeros(3)
    findings, loose = [], []
    for number, axis in enumerate(axes):
        hardest = bound(bench, axis, JERKS_FROM_HZ, JERKS_TO_HZ, JERKS_PER_HZ)
        sweep_move = SweepMove(DIRECTIONS[axis], JERKS_FROM_HZ, JERKS_TO_HZ, JERKS_S, hardest.per_hz_m_s2, axis)
        fractions = (number / len(axes), (number + 1) / len(axes))
        response = await shaken(bench, sweep_move, axis, f"jerks along {axis.upper()}", fractions)
        raw = response.values @ columns_of(declared).T
        gravity = raw.mean(axis=0)
        felt[axis], rattle = felt_of(response, raw, sweep_move)
        best = int(np.argmax(np.abs(felt[axis])))
        findings.append(Finding("felt", float(abs(felt[axis][best])), subject={"axis": axis}, words=f"felt of {axis}"))
        beyond = Finding(
            "rattle", float(rattle[best]), None, "", RATTLES, words="beyond the jerk", subject={"axis": axis}
        )
        findings.append(beyond)
        if rattle[best] > RATTLES and column_that_feels(felt[axis]) is not None:
            loose.append(axis.upper())
    if loose:
        raise TrialFailed(
            f"Along {several(loose)} much of its reading is not the jerk: its mount rattles, or its cable whips. Screw "
            "or clamp it down (no tape, no foam), tie the cable so that it hangs loose, and start again.",
            ByHand("screw the sensor down; let its cable hang loose"),
            StartAgain(),
        )
    faint = [axis.upper() for axis, shown in felt.items() if column_that_feels(shown) is None]
    if faint:
        raise TrialFailed(
            f"A jerk along {several(faint)} shows on no axis of the sensor: it does not sit on the part that "
            "moves, or it is mounted at an angle. Mount it flat on the head, its edges along the machine's axes, "
            "and start again.",
            ByHand("mount the sensor flat on the head, its edges along the machine's axes"),
            StartAgain(),
        )
    words = deduced(felt, gravity)
    if words is None:
        raise TrialFailed(
            "What it shows contradicts itself: two axes of the machine show on one of the sensor, or it would be left-"
            "handed. Mount it flat, its edges along the machine's axes, and start again.",
            ByHand("mount the sensor flat on the head, its edges along the machine's axes"),
            StartAgain(),
        )
    points = [f"{own.upper()} to {_direction(word)}" for own, word in zip("xyz", words, strict=True)]
    shown = f"sensor X points to machine {_direction(words[0])}, {several(points[1:])}"
    if words == declared:
        return TrialResult("proven", f"Mounted as declared: {shown}.", {}, tuple(findings))
    proposals = tuple(
        Proposal(
            f"{MOUNT}.{own}", before, after, "", f"a jerk showed it: its {own.upper()} points along {_direction(after)}"
        )
        for own, before, after in zip("xyz", declared, words, strict=True)
        if before != after
    )
    option = Option("as it is turned", "then every sweep is read right", proposals, {})
    why = f"Mounted differently than declared: {shown}. Keep that, or turn the sensor."
    return TrialResult("failed", why, {}, tuple(findings), (option,), option.name)


def felt_of(response: MeasuredResponse, raw: Floats, sweep_move: SweepMove) -> tuple[Floats, Floats]:
    """By how much each column of a sensor shows a jerk (3; 1: all of it), and the power of what it reads beyond the
    jerk and beyond what it reads before it, over that of the jerk (3). raw: its own columns (n x 3).
    """
    sweep = Sweep("x", sweep_move.from_hz, sweep_move.to_hz, sweep_move.seconds, sweep_move.per_hz_m_s2)
    inside = (response.time_s >= 0) & (response.time_s <= sweep_move.seconds)
    commanded, swept_s = sweep.at(response.time_s[inside]), raw[inside] - raw[inside].mean(axis=0)
    shows = commanded @ swept_s / float(commanded @ commanded)
    follows = shows**2 * float(commanded @ commanded) / len(commanded)
    before = raw[response.at_rest]
    rest = before.var(axis=0) if len(before) >= FEWEST_AT_REST else np.zeros(3)
    beyond = np.maximum(0.0, np.mean((swept_s - commanded[:, None] * shows) ** 2, axis=0) - rest)
    return np.asarray(shows), np.asarray(beyond / np.maximum(follows, 1e-12))


def _direction(word: str) -> str:
    return f"{'−' if word.startswith('-') else ''}{word[-1].upper()}"


def _announce(machine: MachineFile, aim: TurnedParameters) -> str:
    axes = "X" if machine.bed.moves == "y" else "X, then Y"
    return (
        f"Homes axes not yet homed, stands over the middle, counts down {aim.hands_off_s:g} s, then jerks {axes} to "
        f"and fro by some millimetres for {JERKS_S:g} s. {preheat_words(machine, ('z',))}"
    )


A_JERK_S = 4.4
"""Jerks along one axis, and what is listened around them, s."""


def _lasts(machine: MachineFile, aim: TurnedParameters, times: TrialTimes) -> float:
    return times.home_s(machine) + aim.hands_off_s + (1 if machine.bed.moves == "y" else 2) * A_JERK_S


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "accelerometer-turned",
        "accelerometer",
        "A jerk along each axis: on which of the sensor's axes does it show, and is its mount tight?",
        TurnedParameters,
        accelerometer_turned,
        (RESPONSE,),
        _announce,
        sweep_needs,
        figure=lambda result: "as declared",
        verify="accelerometer-turned",
        mends=True,
        lasts=_lasts,
        uses=moving("programs", "swings", "accelerometer"),
    ),
)
