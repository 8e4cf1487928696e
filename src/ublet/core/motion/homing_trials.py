"""The trial that homes: each axis alone, then all in the declared order, then again for their repeatability."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, home_axis, homing_order, moving, preheat_words
from ublet.core.remedy import ByHand
from ublet.core.run import Finding, Progress, Stream, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes, backs_s


@dataclass(frozen=True)
class Spread:
    """How well an end repeats: n readings, sample standard deviation and range in mm, and the former's uncertainty."""

    count: int
    deviation_mm: float
    range_mm: float

    @property
    def uncertainty_mm(self) -> float:
        """Standard uncertainty of the standard deviation of n normal readings, mm.

        Two of them reach up to where the true deviation still gives so little in 2.3 % of cases: the quantile of chi
        squared over its n - 1 degrees of freedom by Wilson and Hilferty (1931). It tends to ``s / sqrt(2 (n - 1))``
        for many readings; for the few of a homing that covers too seldom, because small spreads are the likely ones.
        """
        ninth = 2 / (9 * (self.count - 1))
        low = (1 - ninth - 2 * math.sqrt(ninth)) ** 3
        return self.deviation_mm * (1 / math.sqrt(low) - 1) / 2


def spread_of(shifts_mm: Sequence[float]) -> Spread:
    """The spread of an end from how much the position was off at each repeat, mm.

    Each shift is the difference of two triggers, the one before and this one: its variance is twice an end's.

    Raises:
        ValueError: fewer than two.
    """
    count = len(shifts_mm)
    if count < LEAST_SHIFTS:
        raise ValueError("a spread needs two repeats")
    # the ends themselves, from the first on: each is where the former one was, plus the shift
    ends, at = [0.0], 0.0
    for shift in shifts_mm:
        at += shift
        ends.append(at)
    mean = sum(ends) / len(ends)
    deviation = math.sqrt(sum((end - mean) ** 2 for end in ends) / (len(ends) - 1))
    return Spread(len(ends), deviation, max(ends) - min(ends))


SPREAD_LIMIT_MM = 0.05
"""An end that repeats worse than this is not good enough to print with, mm."""


LEAST_SHIFTS = 2


class HomingParameters(Part):
    """How often each axis homes."""

    repeats: int = setting("Homings of each axis for its spread.", low=3, high=20, default=6)


async def homing(bench: Bench, aim: HomingParameters) -> TrialResult:
    """Home every axis in the declared order, and again for the spread of each end."""
    order = homing_order(bench.machine)
    for number, name in enumerate(order):
        bench.progress(Progress(f"axis {name.upper()}", 0.3 * number / len(order), None, "for the first time", name))
        await home_axis(bench, name)
    findings = []
    bad = []
    unknown = []
    for number, name in enumerate(order):
        shifts = []
        for repeat in range(aim.repeats - 1):
            fraction = 0.3 + 0.7 * (number + repeat / aim.repeats) / len(order)
            bench.progress(Progress(f"axis {name.upper()}", fraction, None, f"{repeat + 2} of {aim.repeats}", name))
            shift = await home_axis(bench, name)
            if shift is not None:
                shifts.append(shift)
                bench.record.row("shifts", (float("xyz".index(name)), shift))
        if len(shifts) < LEAST_SHIFTS:  # a board whose language does not say it
            unknown.append(name.upper())
            continue
        spread = spread_of(shifts)
        axis = {"axis": name}
        findings.append(
            Finding("spread", spread.deviation_mm, spread.uncertainty_mm, "mm", SPREAD_LIMIT_MM, subject=axis)
        )
        findings.append(Finding("range", spread.range_mm, None, "mm", subject=axis))
        bench.record.found(*findings[-2:])
        if spread.deviation_mm > SPREAD_LIMIT_MM:
            bad.append(f"{name.upper()} repeats only to {spread.deviation_mm:.3f} mm: look at its switch and mount.")
    if bad:
        loose = ByHand("tighten switch and mount; take up play")
        return TrialResult("failed", " ".join(bad), {}, tuple(findings), remedies=(loose,))
    why = "Every axis finds its end, and finds it again."
    if unknown:
        why += f" How well {' and '.join(unknown)} repeats is not known: the board does not say how far off an end was."
    return TrialResult("proven", why, {}, tuple(findings))


def motion_needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    """What a trial that homes must find: an end for every axis."""
    axes = [axis_of(machine, name) for name in ("x", "y", "z")]
    ends = sum(axis.has_end for axis in axes)
    return (Need(f"{ends} of 3 axes have an end declared", ends == 3),)


def _announce(machine: MachineFile, aim: HomingParameters) -> str:
    ends = []
    for name in homing_order(machine):
        axis = axis_of(machine, name)
        end = "down onto the bed with the probe" if axis.homing.end == "probe" else f"to its {axis.homing.end} end"
        ends.append(f"{name.upper()} {end} at {axis.homing.fast_mm_s:g} mm/s")
    sentence = f"Homes {', '.join(ends)}, {aim.repeats} times each."
    warm = preheat_words(machine, ("x", "y", "z"))
    return f"{sentence} Inputs and directions proven before, a hand on F8. {warm}"


async def home_all(bench: Bench, aim: Part) -> TrialResult:
    """Home every axis once, in the declared order."""
    order = homing_order(bench.machine)
    for number, name in enumerate(order):
        bench.progress(Progress(f"axis {name.upper()}", number / len(order), None, "homing", name))
        await home_axis(bench, name)
    return TrialResult("proven", "Every axis is homed.")


def _announce_home(machine: MachineFile, aim: Part) -> str:
    order = ", ".join(name.upper() for name in homing_order(machine))
    return f"Homes {order}, once each. {preheat_words(machine, ('x', 'y', 'z'))}"


HOME = TrialSpec("home", "homing", "Every axis homed once.", Part, home_all, (), _announce_home, motion_needs)
"""Homing on the way to something else: it concludes nothing, so it is neither listed nor entered in the ledger."""


def _worst_spread(result: TrialResult) -> str:
    worst = max((finding.value for finding in result.all_of("spread")), default=0.0)
    return f"{worst:.3f} mm"


A_HOMING_Z_S = 4.5
"""Homing Z once more from near its end, s."""


def _lasts(machine: MachineFile, aim: HomingParameters, times: TrialTimes) -> float:
    again_s = sum(backs_s(axis_of(machine, name)) for name in ("x", "y")) + A_HOMING_Z_S
    return times.home_s(machine) + (aim.repeats - 1) * again_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "homing",
        "homing",
        "Every axis to its end in the declared order, and again for the spread of each end.",
        HomingParameters,
        homing,
        (Stream("shifts", ("axis", "shift_mm"), ("", "mm")),),
        _announce,
        motion_needs,
        figure=_worst_spread,
        lasts=_lasts,
        uses=moving(),
        facts=facts("moved"),
    ),
)
