"""The trial of the station *input shaper*: from how the axes ring to impulse trains, what each leaves and rounds."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Literal

import numpy as np

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.machine.schema import MachineFile
from ublet.core.remedy import GoTo
from ublet.core.run import Finding, Option, Proposal, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import Part, Value, setting
from ublet.core.shake.choosing import OPTIMISED, Limits, ShaperCandidate, ShaperChoice, choose, judged
from ublet.core.shake.frame import Mode, in_print, rings_mm
from ublet.core.shake.loaded import loaded_drift
from ublet.core.shake.mode_fit import LEAST_FRACTION
from ublet.core.shake.resonance_trials import modes_of
from ublet.core.shake.shapers import NAMED, OWN, ImpulseSequence, named, residual, shaper_path
from ublet.core.trial import Need, TrialSpec
from ublet.core.words import several

AXES = ("x", "y")
RECOMMENDED = "recommended"
DIGITS_S, DIGITS = 7, 9
"""Times and shares of a train are kept to so many digits."""

IMPULSES = Stream("impulses", ("time_s", "amplitude"), ("s", ""))
"""The impulses of each shaper, by axis and shaper."""

TUNED = Stream("tuned", ("frequency_hz", "damping_ratio"), ("Hz", ""))
"""What each shaper is made for, by axis and shaper."""

LEFT = Stream("left", ("hz", "residual"), ("Hz", ""))
"""What a shaper leaves of ringing, by frequency."""

SPAN, POINTS = 0.5, 161
"""What is left is drawn from so much below a frame's lowest mode to as much above its highest, as a share."""


class ShaperParameters(Part):
    """What is wanted of a shaper, and which one."""

    residual: float = setting("Largest share of ringing that may be left.", low=0.005, high=0.5, default=0.05)
    rounding_mm: float = setting("Largest corner rounding.", unit="mm", low=0.01, high=2, default=0.15)
    drift: float = setting(
        "Frequencies may move by this share: a loaded bed, a warm belt.", low=0, high=0.4, default=0.1
    )
    acceleration_mm_s2: float = setting(
        "Acceleration at which corners are rounded; 0: each axis's own.",
        unit="mm/s²",
        low=0,
        high=100_000,
        default=0.0,
        zero="each axis's own",
    )
    shaper: Literal["recommended", "zv", "zvd", "ei", "two-hump-ei", "three-hump-ei", "optimised"] = setting(
        "Kind to be taken; or what is recommended for each axis.", default="recommended"
    )
    frequency_x_hz: float = setting(
        "Frequency for X's shaper, a named one, chosen by hand; 0: the best.",
        unit="Hz",
        low=0,
        high=200,
        default=0.0,
        zero="the best",
    )
    frequency_y_hz: float = setting("And for Y's.", unit="Hz", low=0, high=200, default=0.0, zero="the best")
    damping: float = setting(
        "Damping for named shapers, chosen by hand; 0: as found.", low=0, high=0.5, default=0.0, zero="as found"
    )


UNSEEN_MM = 0.005
"""Waves beside an edge that are lower than this are not seen, mm."""

UNFOUND_U = LEAST_FRACTION / math.sqrt(12)
"""A mode that is not reported has a share anywhere from none to the least that is reported; standard."""


async def input_shaper(bench: Bench, aim: ShaperParameters) -> TrialResult:
    """Weigh every shaper over the frame as it was found, and recommend one for each axis.

    Raises:
        TrialFailed: nothing is known of how the axes ring.
    """
    frame = known_modes(bench)
    if not frame:
        raise TrialFailed(
            "How the axes ring is not known yet: sweep them (station resonance), or print a ringing tower and read it.",
            GoTo("resonance", "sweep the axes, or read a printed tower"),
        )
    swept = bench.record.earlier("resonance")
    choices: dict[str, tuple[ShaperChoice, Limits]] = {}
    findings: list[Finding] = []
    pays: list[str] = []
    for axis, all_modes in frame.items():
        modes = in_print(all_modes)
        own = getattr(bench.machine.axes, axis).acceleration_mm_s2
        gentle = bench.machine.motion.print_acceleration_mm_s2
        limits = limits_for(aim, own, gentle, loaded_drift(swept, axis))
        choice = await bench.compute(choose, modes, limits)
        choice = by_hand(choice, modes, limits, aim, axis)
        choices[axis] = (choice, limits)
        taken = taken_of(choice, aim.shaper)
        findings += about({"axis": axis}, shaper_findings(taken, modes, limits))
        unshaped = rings_mm(modes, limits.acceleration_mm_s2)
        findings += about({"axis": axis}, [Finding("unshaped", *unshaped, "mm", words="rings without a shaper by")])
        pays.append(pays_words(axis, unshaped[0], limits))
        _drawn(bench, axis, choice, modes)
        bench.record.found(*findings)
    options = options_of(bench, choices)
    name = aim.shaper if any(option.name == aim.shaper for option in options) else RECOMMENDED
    words = [_words(axis, taken_of(choice, aim.shaper), choice, aim) for axis, (choice, _) in choices.items()]
    words += [
        f"{axis.upper()} is allowed to drift by {100 * limits.drift:.0f} %, as the load on the bed moved it."
        for axis, (_, limits) in choices.items()
        if limits.drift > aim.drift
    ]
    words += [said for axis, (choice, _) in choices.items() if (said := unused_by_hand(axis, choice, aim))]
    words += pays
    missing = [axis.upper() for axis in AXES if axis not in frame]
    if missing:
        words.append(f"{several(missing)} was not swept: it is left as it is.")
    conditions: dict[str, Value] = {
        f"at_{axis}_mm_s2": chosen.acceleration_mm_s2 for axis, (_, chosen) in choices.items()
    }
    return TrialResult("proven", " ".join(words), conditions, tuple(findings), options, name)


def known_modes(bench: Bench) -> dict[str, tuple[Mode, ...]]:
    """How the axes ring: as they were swept, or else as was read off a printed tower."""
    return modes_known(bench.record.earlier)


def modes_known(earlier: Callable[[str], TrialResult | None]) -> dict[str, tuple[Mode, ...]]:
    """The same by the newest results of trials, which are looked up by their names."""
    frames: dict[str, tuple[Mode, ...]] = {}
    for trial in ("resonance", "ringing-tower"):
        if len(frames) == len(AXES):
            break
        result = earlier(trial)
        for axis in AXES:
            if axis not in frames and result is not None and (modes := modes_of(result, axis)):
                frames[axis] = modes if trial == "resonance" else _as_damped_as_may_be(modes)
    return frames


def _as_damped_as_may_be(modes: Sequence[Mode]) -> tuple[Mode, ...]:
    """Modes whose damping is only known as a range, as its two ends."""
    damped = []
    for mode in modes:
        for direction in (-2, 2):
            z = max(0.01, mode.damping_ratio + direction * mode.damping_u)
            damped.append(Mode(mode.frequency_hz, z, mode.modal_share / 2, mode.frequency_u, 0.0))
    return tuple(damped)


def limits_for(aim: ShaperParameters, own_mm_s2: float, gentle_mm_s2: float, drift: float) -> Limits:
    """What is wanted for one axis; rounding is computed at the acceleration that printing has there.

    own_mm_s2: of the axis; gentle_mm_s2: of moves that print, 0: the axis's; drift: what a load was found to move its
    frequency by, as a share.
    """
    acceleration = aim.acceleration_mm_s2 or (min(own_mm_s2, gentle_mm_s2) if gentle_mm_s2 else own_mm_s2)
    return Limits(aim.residual, aim.rounding_mm, max(aim.drift, drift), acceleration)


def by_hand(
    choice: ShaperChoice, modes: Sequence[Mode], limits: Limits, aim: ShaperParameters, axis: str
) -> ShaperChoice:
    """The same choice with the shaper that is wanted at a frequency or damping that was set by hand (0: as it is); the
    others are as they were.
    """
    hz, damping = getattr(aim, f"frequency_{axis}_hz"), aim.damping
    if not hz and not damping:
        return choice
    wanted = taken_of(choice, aim.shaper).name
    shapers = []
    for candidate in choice.shapers:
        if candidate.name in NAMED and candidate.name == wanted:
            at, z = hz or candidate.frequency_hz, damping or candidate.damping_ratio
            candidate = judged(candidate.name, at, named(candidate.name, at, z), modes, limits, z)
        shapers.append(candidate)
    chosen = next((shaper for shaper in shapers if shaper.name == choice.chosen.name), choice.chosen)
    return ShaperChoice(tuple(shapers), chosen, choice.why)


def unused_by_hand(axis: str, choice: ShaperChoice, aim: ShaperParameters) -> str:
    """What is said where a frequency or a damping is set by hand for a train that has none; else nothing."""
    taken = taken_of(choice, aim.shaper)
    if taken.name in NAMED or not (getattr(aim, f"frequency_{axis}_hz") or aim.damping):
        return ""
    return (
        f"{axis.upper()}: {taken.name} has no frequency and no damping to set by hand; name a shaper that has them "
        "(the parameter shaper)."
    )


def pays_words(axis: str, amplitude_mm: float, limits: Limits) -> str:
    """What an axis would do without a shaper, and whether one is worth its rounding."""
    rings = f"{axis.upper()} without one rings by {1000 * amplitude_mm:.0f} µm at {limits.acceleration_mm_s2:g} mm/s²"
    if amplitude_mm >= UNSEEN_MM:
        return f"{rings}."
    return f"{rings}: nobody sees that in a print. A shaper pays only for faster ones; without it corners stay sharp."


def taken_of(choice: ShaperChoice, wanted: str) -> ShaperCandidate:
    """The shaper that is wanted; the recommended one, where there is none of that name."""
    return next((shaper for shaper in choice.shapers if shaper.name == wanted), choice.chosen)


def shaper_findings(taken: ShaperCandidate, modes: Sequence[Mode], limits: Limits) -> tuple[Finding, ...]:
    """What a shaper is predicted to leave and to round."""
    return (
        Finding(
            "residual", taken.residual, predicted_u(taken.impulses, modes), "", limits.residual, words="ringing left"
        ),
        Finding("drifted", taken.drifted, None, "", 2 * limits.residual, words="ringing left when it drifts"),
        Finding("rounding", taken.rounds(limits), None, "mm", limits.rounding_mm, words="corners rounded by"),
        Finding(
            "highest", taken.impulses.highest_mm_s2(limits.rounding_mm), None, "mm/s²", words="acceleration for that"
        ),
    )


def predicted_u(impulses: ImpulseSequence, modes: Sequence[Mode]) -> float:
    """Standard uncertainty of what a train leaves, from those of frequencies and dampings (by differences), and for
    modes of a share too small to be reported, which it may leave whole.
    """
    total = UNFOUND_U**2
    for at, mode in enumerate(modes):
        for hz, z in ((mode.frequency_u, 0.0), (0.0, mode.damping_u)):
            ends = []
            for direction in (-1.0, 1.0):
                moved = Mode(
                    mode.frequency_hz + direction * hz, max(1e-3, mode.damping_ratio + direction * z), mode.modal_share
                )
                ends.append(residual(impulses, [*modes[:at], moved, *modes[at + 1 :]]))
            middle = residual(impulses, modes)
            total += max(abs(end - middle) for end in ends) ** 2
    return math.sqrt(total)


def impulse_rows(impulses: ImpulseSequence) -> tuple[tuple[float, float], ...]:
    """A train as a setting holds it: rows of time and share, from 0, the shares summing to one."""
    times = [round(time_s, DIGITS_S) for time_s in impulses.times.tolist()]
    fractions = [round(fraction, DIGITS) for fraction in impulses.amplitudes.tolist()]
    fractions[-1] = round(1.0 - sum(fractions[:-1]), DIGITS)
    return tuple(zip(times, fractions, strict=True))


def values_of(shaper: ShaperCandidate) -> Mapping[str, Value]:
    """A shaper's settings by their keys."""
    if shaper.name == OPTIMISED:
        return {"kind": OWN, "train": impulse_rows(shaper.impulses)}
    values = {"frequency_hz": round(shaper.frequency_hz, 2), "damping": round(shaper.damping_ratio, 4)}
    return {"kind": shaper.name, **values}


def proposals_of(
    axis: str, shaper: ShaperCandidate, limits: Limits, live: Callable[[str], Value | None]
) -> tuple[Proposal, ...]:
    """A shaper's settings for an axis, as far as the live ones are others."""
    left, rounds = 100 * shaper.residual, shaper.rounds(limits)
    effect = f"leaves {left:.1f} % of {axis.upper()}'s ringing, rounds {rounds:.3f} mm"
    proposals = []
    for key, after in values_of(shaper).items():
        path = shaper_path(axis, key)
        before = live(path)
        if before != after:
            proposals.append(Proposal(path, before, after, "Hz" if key == "frequency_hz" else "", effect))
    return tuple(proposals)


def options_of(bench: Bench, choices: Mapping[str, tuple[ShaperChoice, Limits]]) -> tuple[Option, ...]:
    """The recommended shapers, and every kind for all axes."""
    kinds = [RECOMMENDED, *(shaper.name for shaper in next(iter(choices.values()))[0].shapers)]
    options = []
    for kind in kinds:
        proposals: list[Proposal] = []
        worst: dict[str, float | None] = {"residual": 0.0, "drifted": 0.0, "rounding": 0.0}
        for axis, (choice, limits) in choices.items():
            taken = taken_of(choice, kind)
            proposals += proposals_of(axis, taken, limits, bench.settings.shown)
            figures = {"residual": taken.residual, "drifted": taken.drifted, "rounding": taken.rounds(limits)}
            worst = {what: max(worst[what] or 0.0, value) for what, value in figures.items()}
        note = "each axis its own" if kind == RECOMMENDED else "for all axes"
        options.append(Option(kind, f"{note}, then verify", tuple(proposals), worst))
    return tuple(options)


def _words(axis: str, taken: ShaperCandidate, choice: ShaperChoice, aim: ShaperParameters) -> str:
    if taken is choice.chosen and not getattr(aim, f"frequency_{axis}_hz") and not aim.damping:
        return f"{axis.upper()}: {taken.name} {choice.why}."
    return (
        f"{axis.upper()}: {taken.name} at {taken.frequency_hz:.1f} Hz leaves {100 * taken.residual:.1f} %, "
        f"{100 * taken.drifted:.1f} % when the frame drifts."
    )


def _drawn(bench: Bench, axis: str, choice: ShaperChoice, modes: Sequence[Mode]) -> None:
    """Record each shaper: what it is made for, its impulses, and what it leaves over the frequency."""
    low, high = min(m.frequency_hz for m in modes), max(m.frequency_hz for m in modes)
    hz = np.linspace((1 - SPAN) * low, (1 + SPAN) * high, POINTS)
    for shaper in choice.shapers:
        left = left_over(shaper.impulses, hz, modes[0].damping_ratio)
        of, impulses = f"{axis} {shaper.name}", shaper.impulses
        bench.record.rows(LEFT.name, list(zip(hz.tolist(), left, strict=True)), of)
        bench.record.rows(
            IMPULSES.name, list(zip(impulses.times.tolist(), impulses.amplitudes.tolist(), strict=True)), of
        )
        bench.record.rows(TUNED.name, [(shaper.frequency_hz, shaper.damping_ratio)], of)


def left_over(impulses: ImpulseSequence, hz: Sequence[float] | np.ndarray, damping: float) -> list[float]:
    """What a train leaves of one mode, at each of many frequencies: ``V`` for all at once."""
    w = 2 * np.pi * np.asarray(hz)[:, None]
    turns = np.exp((damping * w + 1j * w * math.sqrt(1 - damping**2)) * (impulses.times - impulses.times[-1]))
    residual_parts: list[float] = np.abs(turns @ impulses.amplitudes).tolist()
    return residual_parts


def step_of(impulses: ImpulseSequence) -> list[tuple[float, float]]:
    """A step of the speed as a train makes it: corners of it, s and share."""
    rows = [(0.0, 0.0)]
    now = 0.0
    for time_s, fraction in zip(impulses.times.tolist(), impulses.amplitudes.tolist(), strict=True):
        rows += [(time_s, now), (time_s, now + fraction)]
        now += fraction
    return rows


def _needs(machine: MachineFile, aim: ShaperParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (Need("calculation only: nothing moves or heats", True),)


def _announce(machine: MachineFile, aim: ShaperParameters) -> str:
    return "Computes which shaper suits the frame as it was found. Nothing moves, nothing heats."


def _figure(result: TrialResult) -> str:
    left = [finding.value for finding in result.all_of("residual")]
    return f"{100 * max(left):.1f} % left" if left else "chosen"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "input-shaper",
        "input shaper",
        "Which impulse train keeps each axis from ringing: what it leaves, what it rounds, what is given up.",
        ShaperParameters,
        input_shaper,
        (LEFT, IMPULSES, TUNED),
        _announce,
        _needs,
        figure=_figure,
        verify="shaper-verify",
        uses=always("shaping"),
    ),
)
