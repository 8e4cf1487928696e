"""The trial of the station *input shaper* that checks it: sharp stops with and without the shaper, what rings after."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal

import numpy as np

from ublet.core.arrays import Complex, Floats
from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, preheat_words
from ublet.core.motion.program import Dwell, Program, Segment, Timetable, To
from ublet.core.remedy import ChangeParameter, GoTo, StartAgain
from ublet.core.run import Finding, Outcome, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import Part, setting
from ublet.core.shake.frame import Mode
from ublet.core.shake.ringdown import WINDOW_S, ResidualVibration, amplitudes, left_of, moved_by
from ublet.core.shake.shaking import MeasuredResponse, hands_off, response_to, sensor_on, sits_on, stand_in_the_middle
from ublet.core.shake.shaper_trials import AXES, known_modes, predicted_u
from ublet.core.shake.shapers import ImpulseSequence, live_impulses, residual
from ublet.core.shake.sweep_response import RESPONSE
from ublet.core.shake.sweeping import sweep_needs, unshaped
from ublet.core.trial import TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import with_uncertainty
from ublet.core.words import several

MOVES = ((9.0, 120.0), (11.5, 85.0), (14.0, 60.0), (16.5, 100.0), (19.0, 145.0))
"""Moves, mm and mm/s, are of different lengths and speeds: a brake that lasts a whole period leaves nothing ringing."""

STILL_S = 0.75
"""After each stop it stands so long that nothing rings on into the next."""

BOUND_U = 0.005
"""Less than this is not distinguished from nothing, standard."""

RINGING = Stream("ringing", ("time_s", "acceleration_m_s2"), ("s", "m/s²"), None, "f4")
"""What rings after one of the stops, by axis, before and after: time since the stop."""


MOVED = 0.03
"""A frequency that differs by more than this share is another."""

MOST_LEFT = 0.1
"""More than this share of the ringing left shows in a print, whatever was predicted."""


class ShaperVerifyParameters(Part):
    """Which axes, and how often."""

    axis: Literal["both", "x", "y"] = setting("Axis to check.", default="both")
    rounds: int = setting("Stops of each length, there and back.", low=1, high=6, default=2)
    hands_off_s: float = setting("Countdown before it moves.", unit="s", low=0, high=60, default=3.0)

    @property
    def axes(self) -> tuple[str, ...]:
        """The axes."""
        return AXES if self.axis == "both" else (self.axis,)


async def shaper_verify(bench: Bench, aim: ShaperVerifyParameters) -> TrialResult:
    """Stop sharply, so often without the shaper and as often with it: what is left of the ringing, and is it as much as
    was predicted?

    Raises:
        TrialFailed: no axis is shaped, or how they ring is not known.
    """
    frame = known_modes(bench)
    sequences = {
        axis: impulses for axis in aim.axes if (impulses := live_impulses(bench.settings.live, axis)) is not None
    }
    if not sequences:
        raise TrialFailed(
            "No axis is shaped on the board: choose a shaper and keep it first (key k).",
            GoTo("input shaper", "choose a shaper and keep it", "input-shaper"),
        )
    if unknown := [axis.upper() for axis in sequences if axis not in frame]:
        raise TrialFailed(
            f"How {several(unknown)} rings is not known: sweep it first (station resonance).",
            GoTo("resonance", f"sweep {several(unknown)}", "resonance"),
        )
    await stand_in_the_middle(bench)
    findings: list[Finding] = []
    words: list[str] = []
    bad: list[str] = []
    for number, (axis, impulses) in enumerate(sequences.items()):
        modes = frame[axis]
        await sensor_on(bench, sits_on(bench, axis))
        await hands_off(bench, aim.hands_off_s)
        ring_downs, shown, unshaped_response = [], None, None
        for shaped in (False, True):
            part = (2 * number + shaped) / (2 * len(sequences))
            async with bench.settings.borrowed({} if shaped else unshaped(bench)):
                table = bench.motion.timetable(stops(bench, axis, aim.rounds))
                of, word = f"{axis} {'after' if shaped else 'before'}", "with the shaper" if shaped else "without"
                phase = f"{axis.upper()} {word}"
                response = await response_to(
                    bench, table, of, phase, (part, part + 0.5 / len(sequences)), lambda gone: "sharp stops"
                )
            unshaped_response = unshaped_response or response
            ring_downs.append(ring_down_after(response, axis, table, modes, impulses if shaped else None))
            shown = shown if shown is not None else loudest(response, axis, table)
            bench.record.rows(RINGING.name, after_stop(response, axis, shown), of)
        left = left_of(ring_downs[0], ring_downs[1], modes)
        if not math.isfinite(left.fraction):
            raise TrialFailed(
                f"{axis.upper()} does not ring enough without the shaper to be measured.",
                GoTo("resonance", f"sweep {axis.upper()} again", "resonance"),
                ChangeParameter("rounds", "more rounds"),
            )
        read = [mode for mode, fraction in zip(frame[axis], left.modes, strict=True) if fraction is not None]
        predicted = residual(impulses, read)
        prediction_u = math.hypot(predicted_u(impulses, read), BOUND_U)
        findings += about(
            {"axis": axis},
            (
                Finding("left", left.fraction, left.uncertainty, words="ringing left, measured"),
                Finding("predicted", predicted, prediction_u, words="ringing left, predicted"),
            ),
        )
        bench.record.found(*findings)
        agrees = abs(left.fraction - predicted) <= 2 * math.hypot(left.uncertainty, prediction_u)
        sentence = (
            f"{axis.upper()}: {with_uncertainty(100 * left.fraction, 100 * left.uncertainty)} % of the ringing is "
            "left, "
            f"{with_uncertainty(100 * predicted, 100 * prediction_u)} % were predicted"
        )
        words.append(f"{sentence}.")
        if agrees:
            continue
        assert unshaped_response is not None
        moved = await bench.compute(
            moved_by, unshaped_response.time_s, unshaped_response.along(axis), modes, _ends(table)
        )
        reason, good = _otherwise(axis, *moved, left, predicted)
        (words if good else bad).append(reason)
    ways_out = (
        GoTo("resonance", "sweep it again", "resonance"),
        GoTo("input shaper", "a shaper for it", "input-shaper"),
    )
    outcome: Outcome = "failed" if bad else "proven"
    why = " ".join([*words, *bad])
    return TrialResult(outcome, why, {}, tuple(findings), remedies=ways_out if bad else ())


def _otherwise(axis: str, moved: float, moved_u: float, left: ResidualVibration, commanded: float) -> tuple[str, bool]:
    """Why another share is left than was predicted, by whether its frequency is still what it was; and whether that is
    good enough.
    """
    name, per_cent = axis.upper(), f"{100 * abs(moved):.0f} %"
    if abs(moved) > max(MOVED, 3 * moved_u):
        lighter = "lighter, or its belt tighter" if moved > 0 else "heavier, or its belt slacker"
        return (
            f"{name} rings {per_cent} {'higher' if moved > 0 else 'lower'} than was found: it is {lighter}, or it "
            "stands elsewhere; sweep it again.",
            False,
        )
    same = f"{name} rings at the frequencies that were found, so neither belt nor load has changed"
    if left.fraction <= commanded:
        return f"{same}: less is left than was predicted.", True
    friction = (
        f"{same}: after a stop its motion is small, and friction in its guides then holds it more than during the "
        "sweep. A print shows what was measured"
    )
    if left.fraction - 2 * left.uncertainty <= MOST_LEFT:
        return f"{friction}.", True
    return f"{friction}; for less of it take a calmer shaper (two-hump-ei), or allow a larger drift.", False


def stops(bench: Bench, axis: str, rounds: int) -> Program:
    """Moves there and back about the middle, each followed by a rest."""
    with bench.aside():
        here = bench.motion.position(axis)
    if here is None:
        raise TrialFailed(f"{axis.upper()} is not homed any more: start again.", StartAgain())
    segments: list[Segment] = [Dwell(0.2, "sharp stops")]
    for _ in range(rounds):
        for mm, mm_s in MOVES:
            segments += [To({axis: here + mm}, mm_s), Dwell(STILL_S), To({axis: here}, mm_s), Dwell(STILL_S)]
    return Program(f"stops {axis}", tuple(segments))


def _ends(table: Timetable) -> list[float]:
    """When its moves stop, s since it began."""
    segments = zip(table.program.segments, table.segments, strict=True)
    return [timed.begins_s + timed.seconds for segment, timed in segments if isinstance(segment, To)]


def ring_down_after(
    response: MeasuredResponse, axis: str, table: Timetable, modes: Sequence[Mode], impulses: ImpulseSequence | None
) -> list[tuple[Complex, Floats]]:
    """How each mode rings after every stop; with a shaper, after its last impulse."""
    along = response.along(axis)
    late = impulses.duration_s if impulses is not None else 0.0
    amplitudes_at = [amplitudes(response.time_s, along, modes, stop + late) for stop in _ends(table)]
    return [amplitude for amplitude in amplitudes_at if amplitude is not None]


def loudest(response: MeasuredResponse, axis: str, table: Timetable) -> float:
    """The stop after which it rings most, s since the program began."""
    along = response.along(axis)

    def rings(stop: float) -> float:
        inside = (response.time_s >= stop) & (response.time_s <= stop + WINDOW_S)
        return float(np.std(along[inside])) if inside.any() else 0.0

    return max(_ends(table), key=rings)


def after_stop(response: MeasuredResponse, axis: str, stop: float) -> list[tuple[float, float]]:
    """What is measured around a stop: time since it, s, and acceleration about its mean, m/s²."""
    along = response.along(axis)
    inside = (response.time_s >= stop - 0.05) & (response.time_s <= stop + WINDOW_S)
    still = float(np.mean(along[(response.time_s > stop + WINDOW_S) & (response.time_s < stop + STILL_S)]))
    return list(zip((response.time_s[inside] - stop).tolist(), (along[inside] - still).tolist(), strict=True))


def _announce(machine: MachineFile, aim: ShaperVerifyParameters) -> str:
    axes, furthest = " and ".join(axis.upper() for axis in aim.axes), max(mm for mm, _ in MOVES)
    return (
        f"Stands over the middle, then moves {axes} to and fro by up to {furthest:g} mm with sharp stops, "
        f"first without the shaper, then with it. Hands off. {preheat_words(machine, ('z',))}"
    )


def _figure(result: TrialResult) -> str:
    left = [finding.value for finding in result.all_of("left")]
    return f"{100 * max(left):.1f} % left" if left else "as predicted"


A_SERIES_S = 20.5
"""Sharp stops of one axis without and with its shaper, for each round, s."""


def _lasts(machine: MachineFile, aim: ShaperVerifyParameters, times: TrialTimes) -> float:
    return times.home_s(machine) + 2 * (aim.hands_off_s + A_SERIES_S * aim.rounds)


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "shaper-verify",
        "input shaper",
        "Sharp stops with and without the shaper: is as little ringing left as was predicted?",
        ShaperVerifyParameters,
        shaper_verify,
        (RESPONSE, RINGING),
        _announce,
        sweep_needs,
        figure=_figure,
        lasts=_lasts,
        uses=moving("programs", "shaping", "accelerometer"),
        facts=facts("moved", "load"),
    ),
)
