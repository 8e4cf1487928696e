"""The trial of the station *probe spread*: the same place touched again and again."""

from __future__ import annotations

from dataclasses import replace
from itertools import groupby
from typing import Literal

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.level.probe.probing import (
    TOUCHES,
    Probing,
    TouchSettings,
    approach_of,
    probe_needs,
    probe_of,
    probing,
    probing_uses,
)
from ublet.core.level.reach import NO_PROBE, ProbeArea, reach_of, senses
from ublet.core.level.scatter import Scatter, jump_of, not_worse, scatter_of
from ublet.core.level.warmth import BedWarmUp, conditions, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.remedies import LINK
from ublet.core.remedy import ByHand, GoTo, StartAgain
from ublet.core.run import Finding, Option, Outcome, Progress, Proposal, TrialFailed, TrialResult, about
from ublet.core.settings import setting
from ublet.core.trial import TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.words import counted, several

HEATERS_OFF = "probe.heaters_off"


class SpreadParameters(BedWarmUp):
    """Where, how often and how it is touched."""

    held_off: bool = setting("Bed warm: also with the heaters held off while touching.", default=True)
    touches: int = setting("Touches at each place.", low=5, high=100, default=12)
    places: Literal["middle", "five"] = setting("The middle alone, or the corners too.", default="middle")
    redeploys: bool = setting("A pin goes up and down for each touch.", default=False)
    speed_mm_s: float = setting(
        "Speed towards the bed; 0: as declared.", zero="as declared", unit="mm/s", low=0, high=50, default=0.0
    )
    limit_mm: float = setting(
        "Largest standard deviation: a first layer needs better than a tenth of its height.",
        unit="mm",
        low=0.001,
        high=0.2,
        default=0.015,
    )


FEWEST_ALIKE = 5
"""Consecutive identical touches, at least half of all, from which they are no readings."""


def places_of(reach: ProbeArea, which: str) -> dict[str, Point]:
    """The places that are touched, by their names."""
    (left, right), (front, back) = reach.x, reach.y
    corners = {
        "left front": (left, front),
        "right front": (right, front),
        "right back": (right, back),
        "left back": (left, back),
    }
    return {"middle": reach.middle, **(corners if which == "five" else {})}


async def probe_spread(bench: Bench, aim: SpreadParameters) -> TrialResult:
    """Touch a place again and again: how far the readings scatter, whether they drift, which are none of them."""
    _, warm = await warm_up(bench, aim)
    findings: list[Finding] = []
    scatters: dict[str, Scatter] = {}
    knocked = ""
    async with probing(bench, _approach(bench, aim), 0.0, warm) as probe:
        places = places_of(probe.reach, aim.places)
        for number, (name, place) in enumerate(places.items()):
            heights = await _series(bench, probe, place, number, len(places), aim.touches)
            alike, at = max((len(tuple(run)), height) for height, run in groupby(heights))
            if alike >= max(FEWEST_ALIKE, len(heights) / 2):
                raise TrialFailed(
                    f"{alike} of {len(heights)} touches one after the other read exactly {at:.4f} mm: no probe repeats "
                    "like that. The position that the board reports stands still: look at the raw dialogue (w), and "
                    "at what the board reports of a touch.",
                    LINK,
                )
            if (jump := jump_of(heights)) is not None:
                knocked = (
                    f"From touch {jump.number + 1} on at {probe.reach.words(place)} the bed stands {abs(jump.mm):.3f} "
                    f"mm {'higher' if jump.mm > 0 else 'lower'}: it was knocked, or a mount slipped. What was measured "
                    "before it, too, may no longer hold: start again."
                )
                break
            scatters[name] = scatter_of(heights)
            findings += about({"place": name}, _findings(scatters[name], aim.limit_mm))
            bench.record.found(*findings)
        held_off = None if knocked or not warm or not aim.held_off else await _held_off(bench, probe, aim)
    if knocked:
        raise TrialFailed(knocked, ByHand("find what moved: a mount, a spring, the sheet"), StartAgain())
    bad = [name for name, scatter in scatters.items() if scatter.deviation_mm > aim.limit_mm]
    loose = (
        ByHand("look for a loose probe, a slack spring, plastic on the sheet"),
        GoTo("probe spread", "touches that repeat better", "probe-speed"),
    )
    outcome: Outcome = "failed" if bad else "proven"
    words = _words(scatters, bad, aim)
    result = TrialResult(outcome, words, conditions(bench), tuple(findings), remedies=loose if bad else ())
    return result if held_off is None else _with_heaters(bench, result, scatters["middle"], held_off)


async def _held_off(bench: Bench, probe: Probing, aim: SpreadParameters) -> Scatter | None:
    """How the middle scatters with the heaters' current held off while touching; None where the board cannot, or does
    so already.
    """
    if bench.settings.shown(HEATERS_OFF) is not False:
        return None
    async with bench.settings.borrowed({HEATERS_OFF: True}):
        bench.progress(Progress("heaters held off", 0.95, None, f"{aim.touches} touches"))
        return scatter_of(await _series(bench, probe, probe.reach.middle, 0, 1, aim.touches))


def _with_heaters(bench: Bench, result: TrialResult, on: Scatter, off: Scatter) -> TrialResult:
    """The same with what the heaters' current adds; holding it off is proposed where that is clear."""
    finding = Finding("deviation_off", off.deviation_mm, off.deviation_u_mm, "mm", words="spread, heaters held off")
    findings = (*result.findings, finding)
    if not_worse(off, on):
        why = f"{result.why} With the heaters held off they scatter by {off.deviation_mm:.4f} mm: no clear difference."
        return replace(result, why=why, findings=findings)
    why = f"{result.why} With the heaters held off while touching they scatter by only {off.deviation_mm:.4f} mm."
    proposal = Proposal(HEATERS_OFF, False, True, "", "the heaters' current no longer disturbs a touch")
    option = Option("heaters held off", "then again, to confirm", (proposal,), {})
    return replace(result, why=why, findings=findings, options=(option,), recommended=option.name)


async def _series(bench: Bench, probe: Probing, place: Point, number: int, of: int, touches: int) -> list[float]:
    heights: list[float] = []
    while len(heights) < touches:
        fraction = (number + len(heights) / touches) / of
        bench.progress(
            Progress(f"touch {len(heights) + 1}", fraction, None, f"of {touches} at {probe.reach.words(place)}")
        )
        heights += await probe.touches_at(place, 1, stays=len(heights) + 1 < touches)
    return heights


def _approach(bench: Bench, aim: SpreadParameters) -> TouchSettings:
    declared = approach_of(bench)
    return replace(declared, mm_s=aim.speed_mm_s or declared.mm_s, redeploys=aim.redeploys)


def _findings(scatter: Scatter, limit_mm: float) -> list[Finding]:
    return [
        Finding("deviation", scatter.deviation_mm, scatter.deviation_u_mm, "mm", limit_mm, words="standard deviation"),
        Finding("spread_range", scatter.range_mm, None, "mm", words="range of the touches"),
        Finding("drift", scatter.drift_mm, scatter.drift_u_mm, "mm", words="drift for each touch"),
        Finding("outliers", float(len(scatter.outliers))),
    ]


def _words(scatters: dict[str, Scatter], bad: list[str], aim: SpreadParameters) -> str:
    worst = max(scatters.values(), key=lambda scatter: scatter.deviation_mm)
    said = [
        f"Touches scatter by {worst.deviation_mm:.4f} ±{2 * worst.deviation_u_mm:.4f} mm (standard "
        f"deviation), {1000 * worst.range_mm:.0f} µm from the lowest to the highest; {1000 * aim.limit_mm:g} µm are "
        "good enough."
    ]
    if drifting := [name for name, scatter in scatters.items() if scatter.drifts]:
        drift = max((scatters[name].drift_mm for name in drifting), key=abs)
        said.append(
            f"At {several(drifting)} they drift by {1000 * drift:+.1f} µm a touch: something still warms up or settles."
        )
    if outliers := sum(len(scatter.outliers) for scatter in scatters.values()):
        said.append(f"{counted(outliers, 'touch')} of {aim.touches * len(scatters)} fell far out and is left out.")
    if bad:
        said.append(
            "Look for a loose probe or carriage, plastic on the sheet, a pin that sticks; then try it slower, and with "
            "the pin redeployed for each touch."
        )
    return " ".join(said)


def _announce(machine: MachineFile, aim: SpreadParameters) -> str:
    try:
        probe, places = probe_of(machine), places_of(reach_of(machine), aim.places)
    except TrialFailed as missing:
        return str(missing)
    speed = aim.speed_mm_s or probe.approach_mm_s
    where = "at the middle of what it reaches" if len(places) == 1 else "at the middle and near each corner"
    return (
        f"Homes axes not yet homed, then touches the bed {aim.touches} times {where}, at {speed:g} mm/s. "
        f"{warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    worst = max((finding.value for finding in result.all_of("deviation")), default=0.0)
    return f"{worst:.4f} mm"


def _lasts(machine: MachineFile, aim: SpreadParameters, times: TrialTimes) -> float:
    places = 5 if aim.places == "five" else 1
    once_s = times.touches_s(machine, places, aim.touches, 100.0)
    again_s = (
        times.touches_s(machine, 1, aim.touches, 0.0)
        if aim.held_off and not (machine.probe and machine.probe.heaters_off)
        else 0.0
    )
    return times.home_s(machine) + warming_s(machine, aim, times) + once_s + again_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "probe-spread",
        "probe spread",
        "The same place touched again and again: scatter, drift, outliers, against what a first layer needs.",
        SpreadParameters,
        probe_spread,
        (TOUCHES,),
        _announce,
        probe_needs,
        figure=_figure,
        idle=lambda machine: "" if senses(machine) else NO_PROBE,
        lasts=_lasts,
        uses=probing_uses,
        facts=facts("probe"),
    ),
)
