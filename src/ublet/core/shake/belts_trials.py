"""The trial of the station *resonance* for a CoreXY: each belt by its diagonal, which is slacker, by how much."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, preheat_words
from ublet.core.questions import Confirm
from ublet.core.run import Finding, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.shake.frame import Mode
from ublet.core.shake.hearing import GROWING, HEARD, SPECTRUM, TRANSFER, rows_of
from ublet.core.shake.mode_fit import fit_modes
from ublet.core.shake.resonance_trials import SweepParameters, amiss_of, sweep_needs, sweep_seconds, swept, unshaped
from ublet.core.shake.shaking import hands_off, stand_in_the_middle
from ublet.core.shake.spectra import averaged
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import duration, with_uncertainty

BELTS = ("x+y", "x-y")
NAMES = ("A", "B")
AXES = ("x", "y")
"""Diagonals; the belts that they pull; the axes below which these belts' motors are declared."""

PULL_U = 0.01
"""What masses of X and Y, and what lies outside the sweep, leave open of a ratio of tensions, standard."""

TIGHTENED, LEAVE = "tightened", "leave it"


class BeltsParameters(SweepParameters):
    """How alike they must be."""

    alike: float = setting("Tensions may differ by this share.", low=0.01, high=0.5, default=0.06)
    rounds: int = setting("Times that a belt is tightened, at the most.", low=0, high=6, default=3)


async def belts(bench: Bench, aim: BeltsParameters) -> TrialResult:
    """Sweep both diagonals, unshaped; have the slacker belt tightened until both pull alike."""
    bench.fact("moved")
    bench.fact("load")
    rounds = 0
    while True:
        found = await _measured(bench, aim, rounds)
        ratio, u = ratio_of(*found)
        findings = _findings(found, ratio, u, aim)
        bench.record.found(*findings)
        slack = 0 if ratio > 1 else 1
        less = min(ratio, 1 / ratio)
        told = f"Belt {NAMES[slack]} pulls {with_uncertainty(less, u * less)} times as hard as belt {NAMES[1 - slack]}"
        if 1 - less <= aim.alike:
            why = f"Both belts pull alike within {100 * (1 - less):.0f} %: {told[0].lower()}{told[1:]}."
            return TrialResult("proven", why, {}, findings)
        if rounds == aim.rounds:
            break
        hz = [effective_hz(modes) for modes in found]
        answer = await bench.builder.ask(
            Confirm(
                f"{told}. Tighten belt {NAMES[slack]} until its span hums {100 * (less**-0.5 - 1):.0f} % higher "
                f"(tension goes with the square: {100 * (1 / less - 1):.0f} % more). Diagonal {NAMES[slack]} is now at "
                f"{hz[slack]:.1f} Hz, the other at {hz[1 - slack]:.1f}.",
                (TIGHTENED, LEAVE),
                ("tighten belt", AXES[slack], f"{1 / less:.4f}"),
            )
        )
        if answer != TIGHTENED:
            break
        bench.tell("belt", AXES[slack])
        rounds += 1
    why = f"{told}; {100 * aim.alike:g} % are allowed. A head that is pulled askew rings along both axes."
    return TrialResult("failed", why, {}, findings)


async def _measured(bench: Bench, aim: BeltsParameters, rounds: int) -> tuple[Sequence[Mode], Sequence[Mode]]:
    """The modes of both diagonals."""
    await stand_in_the_middle(bench)
    await hands_off(bench, aim.hands_off_s)
    found = []
    async with bench.settings.borrowed(unshaped(bench)):
        for number, direction in enumerate(BELTS):
            shares = (number / 2, (number + 1) / 2)
            heard, repeats, _, _ = await swept(bench, aim, direction, shares)
            bands = averaged(repeats)
            bench.record.rows(TRANSFER.name, rows_of(bands), f"{direction} {rounds + 1}")
            if bad := amiss_of(heard, bands):
                raise TrialFailed(" ".join(bad))
            found.append(await bench.compute(fit_modes, bands))
    return found[0], found[1]


def effective_hz(modes: Sequence[Mode]) -> float:
    """The frequency that a belt would give the head alone: ``f^2 = sum p f^2``.

    The accelerations that a step of the belt gives the head at once are ``sum p w^2``: what the belt pulls with over
    the head's mass, whatever else hangs on the head, and whatever the other belt does.
    """
    whole = sum(mode.share for mode in modes)
    return math.sqrt(sum(mode.share * mode.frequency_hz**2 for mode in modes) / whole)


def ratio_of(first: Sequence[Mode], second: Sequence[Mode]) -> tuple[float, float]:
    """How hard the second belt pulls, times the first (tension goes with the square of the frequency), and its standard
    uncertainty.
    """
    ratio = (effective_hz(second) / effective_hz(first)) ** 2
    unsure = [2 * max(mode.frequency_u / mode.frequency_hz for mode in modes) for modes in (first, second)]
    return ratio, ratio * math.hypot(*unsure, PULL_U)


def _findings(
    found: tuple[Sequence[Mode], Sequence[Mode]], ratio: float, u: float, aim: BeltsParameters
) -> tuple[Finding, ...]:
    told = [Finding("tensions", ratio, u, words="tension of belt B over belt A", tolerance=aim.alike)]
    for name, modes in zip(NAMES, found, strict=True):
        hz = effective_hz(modes)
        told.append(Finding("diagonal", hz, None, "Hz", subject={"belt": name.lower()}, words=f"belt {name}"))
        told.append(Finding("peak", modes[0].frequency_hz, modes[0].frequency_u, "Hz", subject={"belt": name.lower()}))
    return tuple(told)


def is_corexy(machine: MachineFile) -> bool:
    """Whether two belts share X and Y."""
    return machine.machine.kinematics == "corexy"


def _needs(machine: MachineFile, aim: BeltsParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if not is_corexy(machine):
        return (Need("two belts that share X and Y: this machine has one for each axis", False),)
    return sweep_needs(machine, aim, read)


def _announce(machine: MachineFile, aim: BeltsParameters) -> str:
    return (
        f"Stands over the middle and shakes both diagonals from {aim.from_hz:g} to {aim.to_hz:g} Hz, {aim.repeats} "
        f"times each, unshaped: {duration(sweep_seconds(aim, 2))}; again after a belt was tightened. Hands off. "
        f"{preheat_words(machine, ('z',))}"
    )


def _figure(result: TrialResult) -> str:
    found = result.finding("tensions")
    return f"B {found.value:.2f} of A" if found is not None else "alike"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "belts",
        "resonance",
        "Both belts of a CoreXY by their diagonals: does one hang slack, and how far is it to be tightened?",
        BeltsParameters,
        belts,
        (HEARD, GROWING, SPECTRUM, TRANSFER),
        _announce,
        _needs,
        figure=_figure,
        uses=moving("programs", "swings", "accelerometer"),
        idle=lambda machine: "" if is_corexy(machine) else "each axis has a belt of its own",
        asks=lambda aim: aim.rounds > 0,
    ),
)
