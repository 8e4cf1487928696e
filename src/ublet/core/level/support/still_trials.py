"""The trial of the station *soak time* that measures it: the probe touches one place once a minute until it stands."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np

from ublet.core.bench import Bench
from ublet.core.heat.demands import beds
from ublet.core.heat.start import reach
from ublet.core.level.probe.probing import TOUCHES, Probing, approach_of, probe_needs, probing, probing_uses
from ublet.core.level.reach import NO_PROBE, senses
from ublet.core.level.warmth import WarmUp, conditions
from ublet.core.machine.schema import MachineFile
from ublet.core.remedy import ByHand, ChangeParameter
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import number_or, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import duration

FEWEST, MOST = 4, 8
"""A drift is read over so many touches."""

ROUND_S = 10.0
SOAK = "bed.soak_s"

STILL = Stream("still", ("time_s", "height_mm", "drift_um_min"), ("s", "mm", "µm/min"))
"""Every minute: since the target was reached, the bed's height there, and how fast it moves."""


class StillParameters(WarmUp):
    """How warm, and what counts as standing still."""

    bed_c: float = setting("Bed temperature.", unit="°C", low=30, high=150, default=60.0)
    drift_mm_min: float = setting(
        "It stands when it moves by less than this.", unit="mm/min", low=0.001, high=0.1, default=0.005
    )
    every_s: float = setting("Time between touches.", unit="s", low=20, high=300, default=60.0)
    samples: int = setting("Touches each time.", low=1, high=10, default=3)
    longest_s: float = setting("Longest wait at the target.", unit="s", low=300, high=10800, default=3600.0)


async def bed_still(bench: Bench, aim: StillParameters) -> TrialResult:
    """Hold the bed at its target and touch its middle again and again until what moves is the probe's scatter.

    Raises:
        TrialFailed: it still moves after the longest wait.
    """
    machine = bench.machine
    heater = beds(machine)[0]
    middle = (machine.bed.width_mm / 2, machine.bed.depth_mm / 2)
    with bench.aside():
        earlier = bench.record.earlier("bed-soak", heater=heater)
        model = earlier.finding("soak") if earlier is not None else None
        before = number_or(bench.settings.shown(SOAK), 0.0)
    await bench.heat.warm(heater, aim.bed_c)
    await reach(bench, heater, aim.bed_c, 0.1)
    began = bench.clock.now_s()
    heights: list[tuple[float, float]] = []
    async with probing(bench, approach_of(bench, aim.samples), 0.0, {}) as probe:
        place = probe.reach.nearest(middle)
        while True:
            due = began + len(heights) * aim.every_s
            await bench.clock.rest(max(0.0, due - bench.clock.now_s()))
            heights.append(await _touch(bench, probe, place, aim, began))
            slope, u = drift(heights)
            moves = 1000 * slope * 60 if len(heights) > 1 else 0.0
            bench.record.row(STILL.name, (*heights[-1], moves))
            if len(heights) >= FEWEST and 60 * (abs(slope) + 2 * u) <= aim.drift_mm_min:
                break
            if heights[-1][0] > aim.longest_s:
                raise TrialFailed(
                    f"After {duration(heights[-1][0])} at {aim.bed_c:g} °C the bed still moves {moves:+.1f} µm a "
                    "minute: "
                    "keep draughts away, look for a loose bed or probe, or allow more.",
                    ByHand("keep draughts away; look for a loose bed or probe"),
                    ChangeParameter("drift_mm_min", "allow more"),
                )
            words = f"moves {moves:+.1f} µm a minute" if len(heights) >= FEWEST else f"touch {len(heights)}"
            bench.progress(Progress("soaking", min(0.95, heights[-1][0] / aim.longest_s), None, words))
    return _concluded(bench, aim, heights, model, before)


async def _touch(
    bench: Bench, probe: Probing, place: tuple[float, float], aim: StillParameters, began: float
) -> tuple[float, float]:
    """When, since the target was reached, and the bed's height there."""
    heights = await probe.agreeing_at(place, aim.samples)
    return bench.clock.now_s() - began, sum(heights) / len(heights)


def _read_over(heights: Sequence[tuple[float, float]]) -> Sequence[tuple[float, float]]:
    """The touches that a drift is read over: the later half, within bounds."""
    return heights[-min(MOST, max(FEWEST, len(heights) // 2)) :]


def drift(heights: Sequence[tuple[float, float]]) -> tuple[float, float]:
    """Slope of the last touches (times in s, heights in mm) and its standard uncertainty, mm/s; by least squares, from
    what the line leaves.
    """
    last = np.array(_read_over(heights))
    if len(last) < 3:
        return math.inf, math.inf
    at = last[:, 0] - last[:, 0].mean()
    slope = float(at @ last[:, 1] / (at @ at))
    left = last[:, 1] - last[:, 1].mean() - slope * at
    return slope, math.sqrt(float(left @ left) / (len(last) - 2) / float(at @ at))


def _concluded(
    bench: Bench, aim: StillParameters, heights: Sequence[tuple[float, float]], model: Finding | None, before: float
) -> TrialResult:
    slope, u = drift(heights)
    since_s = _read_over(heights)[0][0]
    moved = heights[-1][1] - heights[0][1]
    soak_u = aim.every_s / math.sqrt(3)
    findings = [
        Finding("still_after", since_s, soak_u, "s", words="the bed stands still after"),
        Finding("drift", 60 * slope, 60 * u, "mm/min", aim.drift_mm_min, words="it moves by"),
        Finding("moved", moved, 60 * u, "mm", words="it moved since it was at its target"),
    ]
    why = (
        f"From {duration(since_s)} after {aim.bed_c:g} °C were reached the bed moves by less than "
        f"{1000 * aim.drift_mm_min:g} µm a minute; it had moved by {moved:+.3f} mm."
    )
    if model is not None:
        findings.append(Finding("model", model.value, model.uncertainty, "s", words="by its warmth it would be"))
        later = since_s - model.value
        if abs(later) <= 2 * math.hypot(soak_u, model.uncertainty or 0.0):
            why += f" Temperature alone gives {duration(model.value)}: they agree."
        elif later > 0:
            alone = f" Temperature alone gives {duration(model.value)}:"
            why += f"{alone} frame and probe still moved after the sheet was warm."
        else:
            why += f" Temperature alone gives {duration(model.value)}: what still warms then moves the bed no more."
    after = math.ceil(since_s / ROUND_S) * ROUND_S
    if abs(after - before) <= max(ROUND_S, 2 * soak_u):
        return TrialResult("proven", f"{why} The wait stays as it is.", conditions(bench), tuple(findings))
    proposal = Proposal(SOAK, before, after, "s", f"at {aim.bed_c:g} °C the bed stands still, as the probe feels it")
    option = Option("wait", "then the mesh", (proposal,), {"still_after": since_s})
    return TrialResult("proven", why, conditions(bench), tuple(findings), (option,), option.name)


def _needs(machine: MachineFile, aim: StillParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    if not beds(machine):
        return (Need('no heater has part = "bed"', False),)
    return probe_needs(machine, aim, read)


def _announce(machine: MachineFile, aim: StillParameters) -> str:
    return (
        f"Heats the bed to {aim.bed_c:g} °C, homes what is not homed, then touches the middle of the bed every "
        f"{aim.every_s:g} s, {aim.samples} times each, until it moves by less than {1000 * aim.drift_mm_min:g} µm a "
        f"minute: some 10 to 40 min, at most {duration(aim.longest_s)}."
    )


def _figure(result: TrialResult) -> str:
    still = result.finding("still_after")
    return duration(still.value) if still is not None else ""


def _idle(machine: MachineFile) -> str:
    return "asked whenever you want to measure it" if senses(machine) and beds(machine) else NO_PROBE


def _lasts(machine: MachineFile, aim: StillParameters, times: TrialTimes) -> float:
    if not beds(machine):
        return 0.0
    watched_s = (FEWEST - 1) * aim.every_s + times.touches_s(machine, 1, aim.samples, 0.0)
    return times.home_s(machine) + times.heat_s(beds(machine)[0], aim.bed_c) + watched_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "bed-still",
        "soak time",
        "How long until the bed stands still, as the probe feels it: one place once a minute.",
        StillParameters,
        bed_still,
        (STILL, TOUCHES),
        _announce,
        _needs,
        figure=_figure,
        idle=_idle,
        lasts=_lasts,
        uses=lambda machine: (*probing_uses(machine), "heat"),
        facts=facts("surface", "moved"),
    ),
)
