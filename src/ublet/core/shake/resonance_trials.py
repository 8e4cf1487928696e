"""The trial of the station *resonance*: each axis swept with the accelerometer, and the ways in which it rings."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, preheat_words
from ublet.core.motion.homing_trials import motion_needs
from ublet.core.motion.program import SWING_LEADS_S, Swing
from ublet.core.run import Finding, TrialResult, about
from ublet.core.settings import Part, Value, setting
from ublet.core.shake.frame import FEET_HZ, Floats, Mode
from ublet.core.shake.hearing import GROWING, HEARD, SPECTRUM, SWEPT, TRANSFER, Growing, bands_of, rows_of
from ublet.core.shake.live_shaper import NONE, shaper_path
from ublet.core.shake.mode_fit import fit_modes
from ublet.core.shake.shaking import (
    DIRECTIONS,
    Heard,
    bound,
    hands_off,
    sensor_on,
    shaken,
    sits_on,
    stand_in_the_middle,
)
from ublet.core.shake.spectra import Bands, averaged
from ublet.core.shake.sweep import Sweep
from ublet.core.shake.symptoms import CLIPPED_SHARE, LEAST_COHERENCE, heard_words, symptoms
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import duration, with_uncertainty
from ublet.core.words import several

PLACES = ("main", "second", "third", "fourth")
"""Modes by their share, the largest first."""

CHANGED = 0.02
"""An axis rings otherwise than before when its main frequency differs by more than this share."""

GENTLER, NEAR = 0.5, 0.05
"""Every second sweep is so strong, times the others; a mode is the same when its frequency differs by less."""

BENT = 1.5
"""What a frame does otherwise when it is shaken half as hard, it may do again, so many times over, standard: for motion
that is smaller still, and for a print.
"""

ELSEWHERE = 2.0
"""So many times more along another axis than along the one that is swept: the sensor is turned otherwise."""

WANDERS = 0.02
"""Repeats whose main frequencies differ by more than this share, and more than they are unsure, do not agree."""


class SweepParameters(Part):
    """How a sweep goes."""

    from_hz: float = setting("Where the sweep begins.", unit="Hz", low=2, high=60, default=5.0)
    to_hz: float = setting("Where it ends.", unit="Hz", low=40, high=200, default=130.0)
    seconds: float = setting("How long it takes.", unit="s", low=10, high=300, default=60.0)
    repeats: int = setting("Sweeps along each direction.", low=1, high=6, default=2)
    strength_m_s2_hz: float = setting(
        "Largest acceleration for each hertz; the axes' limits may make it less.",
        unit="m/s²/Hz",
        low=0.001,
        high=1,
        default=0.04,
    )
    hands_off_s: float = setting("Countdown before it shakes.", unit="s", low=0, high=60, default=5.0)


class ResonanceParameters(SweepParameters):
    """Which axes, and how they are swept."""

    axis: Literal["both", "x", "y"] = setting("Axis to sweep.", default="both")

    @property
    def axes(self) -> tuple[str, ...]:
        """The axes."""
        return ("x", "y") if self.axis == "both" else (self.axis,)


def unshaped(bench: Bench) -> Mapping[str, Value]:
    """Live settings with which motion is not shaped."""
    with bench.aside():
        kinds = {shaper_path(axis, "kind"): NONE for axis in ("x", "y")}
        return {path: none for path, none in kinds.items() if bench.settings.shown(path) not in (None, none)}


async def swept(
    bench: Bench, aim: SweepParameters, direction: str, shares: tuple[float, float], before: int = 0
) -> tuple[list[Heard], list[Bands], Sweep, str]:
    """Sweep along a direction, so often as is asked for, every second time half as hard: what rings otherwise then is
    not as simple as a frame of springs. shares: of the whole trial, from and to; before: sweeps along it before.

    Returns what was heard, its transfers, the sweep, and what bounds its strength.
    """
    hardest = bound(bench, direction, aim.from_hz, aim.to_hz, aim.strength_m_s2_hz)
    heard: list[Heard] = []
    bands: list[Bands] = []
    for number in range(aim.repeats):
        of, strength = f"{direction} {before + number + 1}", hardest.per_hz_m_s2 * (GENTLER if number % 2 else 1.0)
        swing = Swing(DIRECTIONS[direction], aim.from_hz, aim.to_hz, aim.seconds, strength, direction)
        sweep = Sweep(direction, aim.from_hz, aim.to_hz, aim.seconds, strength)
        growing = Growing(sweep)

        def grow(times: Floats, values: Floats, growing: Growing = growing, of: str = of) -> None:
            rows = growing.take(times, values)
            if rows is not None:
                bench.record.row(GROWING.name, rows[0], of)
                bench.record.row(SPECTRUM.name, rows[1], of)

        step = (shares[1] - shares[0]) / aim.repeats
        part = (shares[0] + step * number, shares[0] + step * (number + 0.95))
        phase = f"{axis_words(direction)}, sweep {number + 1} of {aim.repeats}"
        heard.append(await shaken(bench, swing, of, phase, part, grow))
        told = (sweep.from_hz, sweep.to_hz, sweep.duration_s, sweep.per_hz_m_s2)
        bench.record.rows(SWEPT.name, [(heard[-1].begun_s, *told)], of)
        bands.append(await bench.compute(bands_of, heard[-1], sweep, heard[0].rate_hz))
    whole = Sweep(direction, aim.from_hz, aim.to_hz, aim.seconds, hardest.per_hz_m_s2)
    return heard, bands, whole, hardest.by


async def resonance(bench: Bench, aim: ResonanceParameters) -> TrialResult:
    """Sweep each axis, unshaped, and tell from what it does against what it was told how it rings."""
    bench.fact("moved")
    bench.fact("load")
    await stand_in_the_middle(bench)
    findings: list[Finding] = []
    good, wrong = [], []
    with bench.aside():
        before = bench.record.earlier("resonance")
    for axis in ({"x", "y"} - set(aim.axes)) if before is not None else ():  # what another run found still holds
        assert before is not None
        findings += [each for each in before.findings if each.subject.get("axis") == axis]
    async with bench.settings.borrowed(unshaped(bench)):
        for number, axis in enumerate(aim.axes):
            await sensor_on(bench, sits_on(bench, axis))
            await hands_off(bench, aim.hands_off_s)
            shares = (number / len(aim.axes), (number + 1) / len(aim.axes))
            heard, repeats, sweep, by = await swept(bench, aim, axis, shares)
            bands = averaged(repeats)
            bench.record.rows(TRANSFER.name, rows_of(bands), axis)
            modes = await bench.compute(fit_modes, bands)
            each = [await bench.compute(fit_modes, one) for one in repeats] if len(repeats) > 1 else [modes]
            modes = widened(modes, each)
            told = findings_of(modes, axis, bands, sweep, by, each)
            findings += told
            bench.record.found(*told)
            good.append(modes_words(axis_words(axis), modes))
            wrong += _otherwise(axis, modes, before)
            wrong += [*_amiss(axis, heard, each), *_sentences(heard_words(bands))]
            wrong += _sentences(symptoms(axis_words(axis), modes, sweep))
            bad = amiss_of(heard, bands, axis)
            if bad:
                return TrialResult("failed", " ".join([*bad, *good, *wrong]), _conditions(bench), tuple(findings))
    return TrialResult("proven", " ".join([*good, *wrong]), _conditions(bench), tuple(findings))


def findings_of(
    modes: Sequence[Mode], axis: str, bands: Bands, sweep: Sweep, by: str, each: Sequence[Sequence[Mode]]
) -> tuple[Finding, ...]:
    """What was found of an axis: every mode, how strongly it was swept, and how well the repeats agree."""
    found: list[Finding] = []
    for place, mode in zip(PLACES, modes, strict=False):
        found += about(
            {"mode": place},
            (
                Finding("frequency", mode.frequency_hz, mode.frequency_u, "Hz", tolerance=0.02 * mode.frequency_hz),
                Finding("damping", mode.damping_ratio, mode.damping_u, tolerance=0.3 * mode.damping_ratio),
                Finding("share", mode.share, None, tolerance=0.1),
            ),
        )
    found.append(Finding("swept", sweep.per_hz_m_s2, None, "m/s²/Hz", words=f"swept with, bounded {by}"))
    found.append(Finding("coherence", float(np.median(bands.coherence)), words="coherence"))
    if len(each) > 1:
        found.append(Finding("repeats", wander(each), None, limit=WANDERS, words="repeats differ by"))
    return about({"axis": axis}, found)


def widened(modes: Sequence[Mode], each: Sequence[Sequence[Mode]]) -> tuple[Mode, ...]:
    """Modes with what hard and gentle sweeps (by turns) tell apart added to their uncertainties: friction that is no
    damper makes damping, and a little the frequency, depend on the size of the motion.
    """
    if len(each) < 2:
        return tuple(modes)
    found = []
    for mode in modes:
        near = [nearest(told, mode.frequency_hz) for told in each]
        hard, gentle = near[0::2], near[1::2]
        hz = _mean([one.frequency_hz for one in hard]) - _mean([one.frequency_hz for one in gentle])
        z = _mean([one.damping_ratio for one in hard]) - _mean([one.damping_ratio for one in gentle])
        hz_u, z_u = math.hypot(mode.frequency_u, BENT * hz), math.hypot(mode.damping_u, BENT * z)
        known = abs(hz) < NEAR * mode.frequency_hz  # else a sweep alone did not show it
        found.append(replace(mode, frequency_u=hz_u, damping_u=z_u) if known else mode)
    return tuple(found)


def nearest(modes: Sequence[Mode], hz: float) -> Mode:
    """The mode whose frequency is nearest."""
    return min(modes, key=lambda mode: abs(mode.frequency_hz - hz))


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values)


def wander(each: Sequence[Sequence[Mode]]) -> float:
    """By what share the main frequencies of repeats differ."""
    hz = [modes[0].frequency_hz for modes in each]
    return (max(hz) - min(hz)) / (sum(hz) / len(hz))


def modes_of(result: TrialResult, axis: str) -> tuple[Mode, ...]:
    """The modes that a result tells of an axis, the largest share first."""
    found = []
    for place in PLACES:
        hz, z, share = (result.finding(what, axis=axis, mode=place) for what in ("frequency", "damping", "share"))
        if hz is not None and z is not None and share is not None:
            found.append(Mode(hz.value, z.value, share.value, hz.uncertainty or 0.0, z.uncertainty or 0.0))
    return tuple(found)


def axis_words(direction: str) -> str:
    """A direction as people call it."""
    return {"x+y": "diagonal A", "x-y": "diagonal B"}.get(direction, direction.upper())


def modes_words(of: str, modes: Sequence[Mode]) -> str:
    """How it rings, as a sentence."""
    main, *others = modes
    words = (
        f"{of} rings at {with_uncertainty(main.frequency_hz, main.frequency_u)} Hz, damping "
        f"{with_uncertainty(main.damping_ratio, main.damping_u)}"
    )
    if others:
        also = several([_also(mode) for mode in others])
        words += f" ({100 * main.share:.0f} %); also at {also}"
    return f"{words}."


def _also(mode: Mode) -> str:
    """A further mode, as words."""
    feet = ", the machine on its feet" if mode.frequency_hz < FEET_HZ else ""
    return f"{mode.frequency_hz:.1f} Hz ({100 * mode.share:.0f} %{feet})"


def amiss_of(heard: Sequence[Heard], bands: Bands, direction: str) -> list[str]:
    """What makes sweeps worth nothing, as sentences."""
    wrong = []
    shook = np.mean([each.values.std(axis=0) for each in heard], axis=0)
    best = "xyz"[int(np.argmax(shook))]
    if best not in direction and float(shook.max()) > ELSEWHERE * float(
        np.mean([e.along(direction).std() for e in heard])
    ):
        wrong.append(
            f"What shook along {axis_words(direction)} shows on what is declared as the sensor's {best.upper()}: find "
            "out how it is turned (station accelerometer), or whether it sits on the part that moves."
        )
        return wrong
    if any(each.ends > CLIPPED_SHARE for each in heard):
        wrong.append("The readings stand at the ends of the sensor's range: it was shaken too hard; sweep more gently.")
    if float(np.median(bands.coherence)) < LEAST_COHERENCE:
        wrong.append(
            "Less than half of what was heard follows the sweep: a loose mount that rattles, a cable that drags, or "
            "too gentle a sweep. Tighten the sensor, tie the cable loosely, and sweep again."
        )
    return wrong


def _amiss(axis: str, heard: Sequence[Heard], each: Sequence[Sequence[Mode]]) -> list[str]:
    told = []
    lost = sum(one.lost for one in heard)
    if lost:
        told.append(f"{axis.upper()}: {lost} readings were lost on the line; the gaps were bridged.")
    unsure = max(modes[0].frequency_u / modes[0].frequency_hz for modes in each)
    if len(each) > 1 and wander(each) > max(WANDERS, 4 * unsure):
        hz = " and ".join(f"{modes[0].frequency_hz:.1f}" for modes in each)
        told.append(
            f"{axis.upper()} wanders between repeats ({hz} Hz): the sensor's cable drags, or something is loose. Tie "
            "the cable so that it hangs free, look for play, and sweep again."
        )
    return told


def _otherwise(axis: str, modes: Sequence[Mode], before: TrialResult | None) -> list[str]:
    """By what it rings otherwise than it did the time before: another load, a belt, another place."""
    known = modes_of(before, axis) if before is not None else ()
    if not known:
        return []
    now, then = modes[0], known[0]
    apart = now.frequency_hz - then.frequency_hz
    if abs(apart) <= max(CHANGED * then.frequency_hz, 3 * math.hypot(now.frequency_u, then.frequency_u)):
        return []
    lighter = "carries less, or its belt is tighter" if apart > 0 else "carries more, or its belt is slacker"
    return [
        f"{axis.upper()} rang at {then.frequency_hz:.1f} Hz the time before: it {lighter}, or the machine stands "
        f"otherwise. If it is the load, allow a drift of {100 * abs(apart) / then.frequency_hz:.0f} % for its shaper."
    ]


def _sentences(words: Sequence[str]) -> list[str]:
    return [f"{each[0].upper()}{each[1:]}." for each in words]


def _conditions(bench: Bench) -> dict[str, Value]:
    with bench.aside():
        return {f"at_{axis}_mm": bench.motion.position(axis) for axis in ("x", "y")}


def sweep_needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    """What shaking and listening needs."""
    return (*motion_needs(machine, aim, read), Need("the accelerometer mounted, its cable loose", True))


def sweep_seconds(aim: SweepParameters, directions: int) -> float:
    """How long the sweeps take, s."""
    return directions * (aim.repeats * (aim.seconds + SWING_LEADS_S + 0.7) + aim.hands_off_s)


def _announce(machine: MachineFile, aim: ResonanceParameters) -> str:
    moves = " The bed is swept along Y: you will be asked to move the sensor there." if machine.bed.moves == "y" else ""
    axes, takes = several([axis.upper() for axis in aim.axes]), duration(sweep_seconds(aim, len(aim.axes)))
    return (
        f"Homes what is not homed, stands over the middle, then shakes {axes} from {aim.from_hz:g} to {aim.to_hz:g} Hz "
        f"by less than a few millimetres, {aim.repeats} times, unshaped: {takes}. It gets loud. Hands off.{moves} "
        f"{preheat_words(machine, ('z',))}"
    )


def _figure(result: TrialResult) -> str:
    hz = [
        f"{axis.upper()} {found.value:.1f}"
        for axis in ("x", "y")
        if (found := result.finding("frequency", axis=axis, mode="main")) is not None
    ]
    return f"{', '.join(hz)} Hz"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "resonance",
        "resonance",
        "Each axis swept with the accelerometer: at which frequencies it rings, how long, how much.",
        ResonanceParameters,
        resonance,
        (HEARD, SWEPT, GROWING, SPECTRUM, TRANSFER),
        _announce,
        sweep_needs,
        figure=_figure,
        uses=moving("programs", "swings", "accelerometer"),
        asks=lambda aim: False,
    ),
)
