"""The trial of the station *resonance*: each axis swept with the accelerometer, and the ways in which it rings."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal

import numpy as np

from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, preheat_words
from ublet.core.remedies import ACCELEROMETER
from ublet.core.remedy import GoTo
from ublet.core.run import Finding, TrialResult, about
from ublet.core.settings import Value, setting
from ublet.core.shake.complaints import response_words, symptoms
from ublet.core.shake.frame import FEET_HZ, Mode
from ublet.core.shake.loaded import swept_loaded
from ublet.core.shake.mode_fit import FrameFit
from ublet.core.shake.mount import beyond_words
from ublet.core.shake.repeats import modes_in, wander
from ublet.core.shake.shaking import (
    MeasuredResponse,
    hands_off,
    sensor_on,
    sits_on,
    stand_in_the_middle,
)
from ublet.core.shake.spectra import Bands, averaged
from ublet.core.shake.sweep import Sweep
from ublet.core.shake.sweep_response import FREQUENCY_RESPONSE, GROWING, RESPONSE, SPECTRUM, SWEPT, rows_of
from ublet.core.shake.sweeping import SweepParameters, amiss_of, axis_words, sweep_needs, sweep_seconds, swept, unshaped
from ublet.core.trial import TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import duration, with_uncertainty
from ublet.core.words import several

PLACES = ("main", "second", "third", "fourth")
"""Modes by their share, the largest first."""

CHANGED = 0.02
"""An axis rings otherwise than before when its main frequency differs by more than this share."""


WANDERS = 0.02
"""Repeats whose main frequencies differ by more than this share, and more than they are uncertain, do not agree."""


class ResonanceParameters(SweepParameters):
    """Which axes, and how they are swept."""

    axis: Literal["both", "x", "y"] = setting("Axis to sweep.", default="both")
    load_kg: float = setting(
        "A bed that moves is swept once more with such a load on it; 0: only empty.",
        unit="kg",
        low=0,
        high=20,
        default=0.0,
        zero="only empty",
    )

    @property
    def axes(self) -> tuple[str, ...]:
        """The axes."""
        return ("x", "y") if self.axis == "both" else (self.axis,)

    def loads(self, machine: MachineFile) -> tuple[str, ...]:
        """The axes that are swept with a load as well."""
        return tuple(axis for axis in self.axes if self.load_kg and machine.bed.moves == axis)


TOWER = GoTo("resonance", "measure it from a print", "ringing-tower")


async def resonance(bench: Bench, aim: ResonanceParameters) -> TrialResult:
    """Sweep each axis, unshaped, and determine its modes from the response to what was commanded."""
    await stand_in_the_middle(bench)
    findings: list[Finding] = []
    good: list[str] = []
    wrong: list[str] = []
    with bench.aside():
        before = bench.record.earlier("resonance")
    for axis in ({"x", "y"} - set(aim.axes)) if before is not None else ():  # what another run found still holds
        assert before is not None
        findings += [finding for finding in before.findings if finding.subject.get("axis") == axis]
    async with bench.settings.borrowed(unshaped(bench)):
        loads = aim.loads(bench.machine)
        whole, done = len(aim.axes) + len(loads), 0
        for axis in aim.axes:
            await sensor_on(bench, sits_on(bench, axis))
            await hands_off(bench, aim.hands_off_s)
            fractions, done = (done / whole, (done + 1) / whole), done + 1
            response, repeats, sweep, by = await swept(bench, aim, axis, fractions)
            bands = averaged(repeats)
            bench.record.rows(FREQUENCY_RESPONSE.name, rows_of(bands), axis)
            fit, repeat_modes = await modes_in(bench, repeats, bands)
            modes = fit.modes
            amiss = [*_amiss(axis, response, repeat_modes), *_sentences(response_words(bands))]
            bad = await bench.compute(amiss_of, response, bands, axis) or _not_whole(axis, fit)
            if bad:  # no figure of this axis can be trusted
                why = " ".join([*bad, *good, *amiss])
                ways_out = (ACCELEROMETER, TOWER)
                return TrialResult("failed", why, _conditions(bench), tuple(findings), remedies=ways_out)
            axis_findings = findings_of(modes, axis, bands, sweep, by, repeat_modes)
            findings += axis_findings
            bench.record.found(*axis_findings)
            good.append(modes_words(axis_words(axis), modes))
            wrong += [*_otherwise(axis, modes, before), *amiss]
            wrong += _sentences(symptoms(axis_words(axis), modes, sweep))
            if beyond := beyond_words(bench.machine, axis, [mode.frequency_hz for mode in modes]):
                wrong.append(beyond)
            if axis in loads:
                fractions, done = (done / whole, (done + 1) / whole), done + 1
                axis_findings, words = await swept_loaded(bench, aim, aim.load_kg, axis, modes, fractions)
                findings += axis_findings
                good += words
    return TrialResult("proven", " ".join([*good, *wrong]), _conditions(bench), tuple(findings))


def findings_of(
    modes: Sequence[Mode], axis: str, bands: Bands, sweep: Sweep, by: str, repeat_modes: Sequence[Sequence[Mode]]
) -> tuple[Finding, ...]:
    """What was found of an axis: every mode, how strongly it was swept, and how well the repeats agree."""
    findings: list[Finding] = []
    for place, mode in zip(PLACES, modes, strict=False):
        findings += about(
            {"mode": place},
            (
                Finding("frequency", mode.frequency_hz, mode.frequency_u, "Hz", tolerance=0.02 * mode.frequency_hz),
                Finding("damping", mode.damping_ratio, mode.damping_u, tolerance=0.3 * mode.damping_ratio),
                Finding("share", mode.modal_share, None, tolerance=0.1),
            ),
        )
    findings.append(Finding("swept", sweep.per_hz_m_s2, None, "m/s²/Hz", words=f"swept with, bounded {by}"))
    findings.append(Finding("coherence", float(np.median(bands.coherence)), words="coherence"))
    if len(repeat_modes) > 1:
        findings.append(Finding("repeats", wander(repeat_modes), None, limit=WANDERS, words="repeats differ by"))
    return about({"axis": axis}, findings)


def modes_of(result: TrialResult, axis: str) -> tuple[Mode, ...]:
    """The modes that a result shows of an axis, the largest share first."""
    modes = []
    for place in PLACES:
        hz, z, fraction = (result.finding(what, axis=axis, mode=place) for what in ("frequency", "damping", "share"))
        if hz is not None and z is not None and fraction is not None:
            modes.append(Mode(hz.value, z.value, fraction.value, hz.uncertainty or 0.0, z.uncertainty or 0.0))
    return tuple(modes)


def modes_words(of: str, modes: Sequence[Mode]) -> str:
    """How it rings, as a sentence."""
    main, *others = modes
    words = (
        f"{of} rings at {with_uncertainty(main.frequency_hz, main.frequency_u)} Hz, damping "
        f"{with_uncertainty(main.damping_ratio, main.damping_u)}"
    )
    if main.bounds_hz is not None:
        words += f", one for two that cannot be separated, from {main.bounds_hz[0]:.1f} to {main.bounds_hz[1]:.1f} Hz"
    if others:
        also = several([_also(mode) for mode in others])
        words += f" ({100 * main.modal_share:.0f} %); also at {also}"
    return f"{words}."


def _also(mode: Mode) -> str:
    """A further mode, as words."""
    feet = ", the machine on its feet" if mode.frequency_hz < FEET_HZ else ""
    return f"{mode.frequency_hz:.1f} Hz ({100 * mode.modal_share:.0f} %{feet})"


def _amiss(axis: str, response: Sequence[MeasuredResponse], repeat_modes: Sequence[Sequence[Mode]]) -> list[str]:
    complaints = []
    lost = sum(one.lost for one in response)
    if lost:
        complaints.append(f"{axis.upper()}: {lost} readings were lost on the way; the gaps were bridged.")
    uncertain = max(modes[0].frequency_u / modes[0].frequency_hz for modes in repeat_modes)
    if len(repeat_modes) > 1 and wander(repeat_modes) > max(WANDERS, 4 * uncertain):
        hz = " and ".join(f"{modes[0].frequency_hz:.1f}" for modes in repeat_modes)
        complaints.append(
            f"{axis.upper()} wanders between repeats ({hz} Hz): the sensor's cable drags, or something is loose. Tie "
            "the cable so that it hangs free, look for play, and sweep again."
        )
    return complaints


def _not_whole(axis: str, fit: FrameFit) -> list[str]:
    """What is said where the modes that were found are not all that moves, or more than that."""
    if fit.is_whole:
        return []
    return [
        f"{axis.upper()}: the shares of what was found sum to {with_uncertainty(fit.whole, fit.whole_u)}, not to "
        "one: modes cannot be separated, or some lie outside the sweep. Sweep longer (the parameter seconds), with "
        "more "
        "repeats, and further; look whether the sensor sits tight."
    ]


def _otherwise(axis: str, modes: Sequence[Mode], before: TrialResult | None) -> list[str]:
    """How its main frequency differs from the time before: another load, a belt, another place."""
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
    return [f"{word[0].upper()}{word[1:]}." for word in words]


def _conditions(bench: Bench) -> dict[str, Value]:
    with bench.aside():
        return {f"at_{axis}_mm": bench.motion.position(axis) for axis in ("x", "y")}


def _announce(machine: MachineFile, aim: ResonanceParameters) -> str:
    moves = " The bed is swept along Y: you will be asked to move the sensor there." if machine.bed.moves == "y" else ""
    loads = aim.loads(machine)
    moves += f" Have {aim.load_kg:g} kg at hand to lay on the bed." if loads else ""
    axes = several([axis.upper() for axis in aim.axes])
    takes = duration(sweep_seconds(aim, len(aim.axes) + len(loads)))
    return (
        f"Homes axes not yet homed, moves to the bed centre, then sweeps {axes} from {aim.from_hz:g} to {aim.to_hz:g} "
        f"Hz by less than a few millimetres, {aim.repeats} times, input shaping off: {takes}. Loud. Hands off.{moves} "
        f"{preheat_words(machine, ('z',))}"
    )


def _figure(result: TrialResult) -> str:
    hz = [
        finding.value
        for axis in ("x", "y")
        if (finding := result.finding("frequency", axis=axis, mode="main")) is not None
    ]
    digits = 0 if len(hz) > 1 else 1  # of both axes the route has room for no more
    return f"{', '.join(f'{frequency:.{digits}f}' for frequency in hz)} Hz"


SETTLING_S, AROUND_S = 3.0, 2.0
"""Going to the middle and standing still, and what is recorded around a sweep, s."""


def _lasts(machine: MachineFile, aim: ResonanceParameters, times: TrialTimes) -> float:
    sweeps = (len(aim.axes) + len(aim.loads(machine))) * aim.repeats
    hands_s = (len(aim.axes) + len(aim.loads(machine))) * (aim.hands_off_s + SETTLING_S)
    return times.home_s(machine) + sweeps * (aim.seconds + AROUND_S) + hands_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "resonance",
        "resonance",
        "Each axis swept with the accelerometer: at which frequencies it rings, how long, how much.",
        ResonanceParameters,
        resonance,
        (RESPONSE, SWEPT, GROWING, SPECTRUM, FREQUENCY_RESPONSE),
        _announce,
        sweep_needs,
        figure=_figure,
        lasts=_lasts,
        uses=moving("programs", "swings", "accelerometer"),
        asks=lambda aim: aim.load_kg > 0,
        facts=facts("moved", "load"),
    ),
)
