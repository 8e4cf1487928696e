"""The trial of the station *resonance* for a CoreXY: each belt by its diagonal, which is slacker, by how much."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from ublet.core.acts import TightenBelt
from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, preheat_words
from ublet.core.questions import Confirm
from ublet.core.remedies import ACCELEROMETER
from ublet.core.remedy import ByHand, GoTo, StartAgain
from ublet.core.run import Finding, Stream, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.shake.frame import Mode
from ublet.core.shake.mode_fit import fit_modes, fit_tension
from ublet.core.shake.shaking import hands_off, stand_in_the_middle
from ublet.core.shake.spectra import averaged
from ublet.core.shake.sweep_response import FREQUENCY_RESPONSE, GROWING, RESPONSE, SPECTRUM, SWEPT, rows_of
from ublet.core.shake.sweeping import SweepParameters, amiss_of, sweep_needs, sweep_seconds, swept, unshaped
from ublet.core.small_samples import student
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import duration, with_uncertainty

BELTS = ("x+y", "x-y")
NAMES = ("A", "B")
AXES = ("x", "y")
"""Diagonals; the belts that they pull; the axes below which these belts' motors are declared."""

TENSION_U = 0.003
"""What masses of X and Y, and what lies outside the sweep, leave open of a ratio of tensions, standard."""

ONCE_U = 0.01
"""What one sweep of each diagonal leaves open of the ratio, where no repeat shows it, standard."""

TIGHTENED, LEAVE = "tightened", "leave it"


@dataclass(frozen=True)
class BeltTension:
    """How hard a belt pulls the head over its mass, Hz², with its standard uncertainty; and where its diagonal peaks.

    What a step of the belt gives the head at once is ``sum p w^2`` of its diagonal's modes: the belt's stiffness over
    the head's mass, whatever masses X and Y carry besides, whatever hangs on the head, whatever the other belt does.
    """

    hz2: float
    hz2_u: float
    peak: Mode
    repeats: tuple[float, ...] = ()
    """The same of each sweep by itself, hard and gentle ones by turns, Hz²."""

    @property
    def hz(self) -> float:
        """The frequency that the belt would give the head alone."""
        return math.sqrt(self.hz2)


SURELY = 3.0
"""A pull that is not so many times its uncertainty is none."""

TENSIONS = Stream("pulls", ("round", "a_hz", "b_hz", "ratio", "ratio_u"), ("", "Hz", "Hz", "", ""))
"""After each round: the frequency that each belt would give the head alone, and how hard B pulls, times A."""


class BeltsParameters(SweepParameters):
    """How alike they must be."""

    alike: float = setting("Tensions may differ by this share.", low=0.01, high=0.5, default=0.06)
    rounds: int = setting("Times that a belt is tightened, at the most.", low=0, high=6, default=3)


async def belts(bench: Bench, aim: BeltsParameters) -> TrialResult:
    """Sweep both diagonals, unshaped; have the slacker belt tightened until both pull alike.

    Raises:
        TrialFailed: there are no two belts to be compared, or the sweeps do not show how they pull.
    """
    if not share_belts(bench.machine):
        raise TrialFailed(
            "Each axis of this machine has a belt of its own: there are no two that pull together. Nothing was moved.",
            GoTo("resonance", "sweep each axis by itself", "resonance"),
        )
    rounds = 0
    while True:
        tensions = await _measured(bench, aim, rounds)
        ratio, u = ratio_of(*tensions)
        findings = _findings(tensions, ratio, u, aim)
        bench.record.row(TENSIONS.name, (rounds + 1, tensions[0].hz, tensions[1].hz, ratio, u))
        bench.record.found(*findings)
        slack = 0 if ratio > 1 else 1
        less = min(ratio, 1 / ratio)
        ratio_words = with_uncertainty(less, u * less)
        ratio_sentence = f"Tension of belt {NAMES[slack]} is {ratio_words} times that of belt {NAMES[1 - slack]}"
        if 1 - less <= aim.alike:
            why = (
                f"Both belts pull alike within {100 * (1 - less):.0f} %: "
                f"{ratio_sentence[0].lower()}{ratio_sentence[1:]}."
            )
            return TrialResult("proven", why, {}, findings)
        if rounds == aim.rounds:
            break
        hz = [tension.hz for tension in tensions]
        answer = await bench.builder.ask(
            Confirm(
                f"{ratio_sentence}. Tighten belt {NAMES[slack]} until the pitch of its span is "
                f"{100 * (less**-0.5 - 1):.0f} % "
                f"higher (tension goes with the square: {100 * (1 / less - 1):.0f} % more). Diagonal {NAMES[slack]} is "
                f"now at {hz[slack]:.1f} Hz, the other at {hz[1 - slack]:.1f}.",
                (TIGHTENED, LEAVE),
                TightenBelt(AXES[slack], 1 / less),
            )
        )
        if answer != TIGHTENED:
            break
        bench.report_fact("belt", AXES[slack])
        rounds += 1
    why = (
        f"{ratio_sentence}; {100 * aim.alike:g} % are allowed. A head that is racked by unequal belts vibrates "
        "along both axes."
    )
    tighten = ByHand(f"tighten belt {NAMES[slack]}, then start again")
    return TrialResult("failed", why, {}, findings, remedies=(tighten,))


async def _measured(bench: Bench, aim: BeltsParameters, rounds: int) -> tuple[BeltTension, BeltTension]:
    """How both belts pull."""
    await stand_in_the_middle(bench)
    await hands_off(bench, aim.hands_off_s)
    tensions = []
    async with bench.settings.borrowed(unshaped(bench)):
        for number, direction in enumerate(BELTS):
            fractions = (number / 2, (number + 1) / 2)
            response, repeats, _, _ = await swept(bench, aim, direction, fractions, rounds * aim.repeats)
            bands = averaged(repeats)
            for row in rows_of(bands):  # one by one: they are looked at while a belt is tightened
                bench.record.row(FREQUENCY_RESPONSE.name, row, f"{direction} {rounds + 1}")
            if bad := await bench.compute(amiss_of, response, bands, direction):
                raise TrialFailed(" ".join(bad), ACCELEROMETER, StartAgain())
            modes = await bench.compute(fit_modes, bands)
            repeats_of = [(await bench.compute(fit_tension, one))[0] for one in repeats] if len(repeats) > 1 else []
            tension = BeltTension(*await bench.compute(fit_tension, bands), modes[0], tuple(repeats_of))
            if tension.hz2 <= SURELY * tension.hz2_u:
                raise TrialFailed(
                    f"The response along diagonal {NAMES[number]} does not follow what the belt did: is the sensor "
                    "on the head, and turned as it is declared (station accelerometer)?",
                    ACCELEROMETER,
                )
            tensions.append(tension)
    return tensions[0], tensions[1]


def ratio_of(first: BeltTension, second: BeltTension) -> tuple[float, float]:
    """How hard the second belt pulls, times the first, and its standard uncertainty: by each fit, and by how far sweeps
    by themselves differ, hard and gentle ones, pooled over both belts (guides that rub bend what a sweep shows).
    """
    ratio = second.hz2 / first.hz2
    fits = math.hypot(first.hz2_u / first.hz2, second.hz2_u / second.hz2, TENSION_U)
    return ratio, ratio * math.hypot(fits, _repeats_u(first, second))


def _repeats_u(first: BeltTension, second: BeltTension) -> float:
    """What repeats leave open of a ratio of tensions, as a fraction, standard."""
    off = [hz2 / (sum(bands.repeats) / len(bands.repeats)) - 1 for bands in (first, second) for hz2 in bands.repeats]
    freedom = len(off) - 2
    if freedom < 1:
        return ONCE_U
    one = math.sqrt(sum(deviation**2 for deviation in off) / freedom) * student(freedom)
    return one * math.sqrt(1 / len(first.repeats) + 1 / len(second.repeats))


def _findings(
    tensions: tuple[BeltTension, BeltTension], ratio: float, u: float, aim: BeltsParameters
) -> tuple[Finding, ...]:
    findings = [Finding("tensions", ratio, u, words="tension of belt B over belt A", tolerance=aim.alike)]
    for name, tension in zip(NAMES, tensions, strict=True):
        alone, belt = tension.hz2_u / (2 * tension.hz), {"belt": name.lower()}
        findings.append(Finding("diagonal", tension.hz, alone, "Hz", subject=belt, words=f"belt {name} alone"))
        findings.append(Finding("peak", tension.peak.frequency_hz, tension.peak.frequency_u, "Hz", subject=belt))
    return tuple(findings)


def share_belts(machine: MachineFile) -> bool:
    """Whether two belts carry X and Y together, so that each pulls along a diagonal."""
    return machine.machine.layout.shared == AXES


def _needs(machine: MachineFile, aim: BeltsParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if not share_belts(machine):
        return (Need("two belts that share X and Y: this machine has one for each axis", False),)
    return sweep_needs(machine, aim, read)


def _announce(machine: MachineFile, aim: BeltsParameters) -> str:
    return (
        f"Stands over the middle and shakes both diagonals from {aim.from_hz:g} to {aim.to_hz:g} Hz, {aim.repeats} "
        f"times each, unshaped: {duration(sweep_seconds(aim, 2))}; again after a belt was tightened. Hands off. "
        f"{preheat_words(machine, ('z',))}"
    )


def _figure(result: TrialResult) -> str:
    finding = result.finding("tensions")
    return f"B {finding.value:.2f} of A" if finding is not None else "alike"


def _lasts(machine: MachineFile, aim: BeltsParameters, times: TrialTimes) -> float:
    return times.home_s(machine) + 2 * aim.repeats * (aim.seconds + 2.0) + aim.hands_off_s + 3.0


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "belts",
        "resonance",
        "Both belts of a CoreXY by their diagonals: does one hang slack, and how far is it to be tightened?",
        BeltsParameters,
        belts,
        (RESPONSE, SWEPT, GROWING, SPECTRUM, FREQUENCY_RESPONSE, TENSIONS),
        _announce,
        _needs,
        figure=_figure,
        prepares=True,
        lasts=_lasts,
        uses=moving("programs", "swings", "accelerometer"),
        idle=lambda machine: "" if share_belts(machine) else "each axis has a belt of its own",
        asks=lambda aim: aim.rounds > 0,
        facts=facts("moved", "load"),
    ),
)
