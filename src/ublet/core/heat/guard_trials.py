"""The guards' drill: each fault is made on purpose, and the board must notice it by itself, in time."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

from ublet.core.heat.drills import (
    LEAST_CLIMB_C,
    RAIL_S,
    Allowance,
    Drill,
    Late,
    drills_for,
    late_of,
    live_heater,
    silence_window_s,
    warming_s,
)
from ublet.core.heat.part_limits import lowest_limit, part_limits
from ublet.core.machine.schema import Heater, MachineFile
from ublet.core.settings import Part, setting
from ublet.core.trial import Bench, Finding, Need, Progress, Question, TrialFailed, TrialResult, TrialSpec

FAR_C = 100.0
"""A climb aims so far above where the fault happens, °C."""

CLEAR_C = 12.0
"""A climb begins so far below where the fault happens that it tells how the sensor lags, °C."""

LONGEST_HEAT_S = 900.0
REST_S = 3.0
AFTER_S = 12.0
"""The temperature is watched for so long after a trip, s."""

LINK_PATIENCE = 4.0


DRILLED = ("number", "noticed_s", "allowed_s", "peak_c", "limit_c")
"""A row of the raw data: one drill, by its place in the list."""


class GuardParameters(Part):
    """Which heater is drilled."""

    heater: str = setting("Heater to drill.", default="hotend")


async def guards_drill(bench: Bench, aim: GuardParameters) -> TrialResult:
    """Every guard of one heater: heat gently, make the fault, wait for the board to trip, put it right, release.

    On a real machine only the harmless drills are done; what hands would have to break is left to the simulated one.
    """
    heater = bench.machine.heaters.get(aim.heater)
    if heater is None:
        raise TrialFailed(f"No heater “{aim.heater}” is declared; known: {', '.join(bench.machine.heaters)}.")
    heater = live_heater(aim.heater, heater, bench.setting)
    drills = drills_for(bench.simulated)
    count, findings, bad, made_of = len(drills) + 2, [], [], []
    limit_c, part = lowest_limit(heater.maximum_c, part_limits(bench.machine, aim.heater))
    for number, drill in enumerate(drills):
        bench.progress(Progress(drill.name, number / count, None, f"{number + 1} of {count}"))
        seconds, guard, peak, allowed = await _drill(bench, aim.heater, heater, drill)
        findings += _findings(drill.name, seconds, allowed.seconds, peak, limit_c)
        row = (float(number), seconds, allowed.seconds, math.nan if peak is None else peak, limit_c)
        bench.show("drills", DRILLED, row)
        bad += _complaints(drill.name, seconds, allowed, guard, drill.guards, peak, limit_c, part)
        if "no rise" in drill.guards:
            made_of.append(f"For “{drill.name}” {allowed.seconds:.1f} s are allowed: {allowed.words}.")
    for number, (name, work) in enumerate((("over maximum", _over_maximum), ("link cut", _link_cut))):
        bench.progress(Progress(name, (len(drills) + number) / count, None, f"{len(drills) + number + 1} of {count}"))
        seconds, guard, window = await work(bench, aim.heater, heater)
        allowed = Allowance((("the guard's window", window),))
        findings.append(Finding(f"{name} noticed after", seconds, None, "s", window))
        expected = ("link lost",) if name == "link cut" else ("over maximum",)
        bad += _complaints(name, seconds, allowed, guard, expected, None, limit_c, part)
    if bad:
        return TrialResult("failed", " ".join(bad), {}, tuple(findings))
    left = "" if bench.simulated else " The drills that could harm a real machine were left out."
    slowest = max(finding.value for finding in findings if finding.unit == "s")
    why = f"{count} guards of the {aim.heater} trip by themselves, the slowest after {slowest:.1f} s.{left}"
    why = " ".join([why, *made_of])
    return TrialResult("proven", why, {}, tuple(findings))


async def _drill(bench: Bench, name: str, heater: Heater, drill: Drill) -> tuple[float, str, float | None, Allowance]:
    """Seconds until it tripped, the guard's name (empty: none), the highest reading afterwards, what is allowed."""
    late = await _heat_to(bench, name, heater, drill.hold_c, drill.climb)
    allowed = drill.allowance(heater.guards, warming_s(drill, heater), late).and_news(bench.news_s)
    what = {"sensor": heater.sensor, "heater": name}
    made = Question(drill.do_words.format(**what), ("done", "stop here"), ("fault", drill.do, name))
    mended = Question(drill.undo_words.format(**what), ("done",), ("fault", drill.undo, name))
    async with bench.by_hand(made, mended) as answer:
        if answer != "done":
            raise TrialFailed("Stopped: the remaining guards were not drilled.")
        seconds, guard = await _wait_for_trip(bench, 3 * allowed.seconds + 10)
        peak = bench.celsius(heater.sensor)
    watched = 0.0
    while watched < AFTER_S:
        await bench.rest(0.5)
        watched += 0.5
        now = bench.celsius(heater.sensor)
        peak = now if peak is None else max(peak, now if now is not None else peak)
    await bench.release()
    await bench.rest(REST_S)
    return seconds, guard, peak, allowed


async def _over_maximum(bench: Bench, name: str, heater: Heater) -> tuple[float, str, float]:
    """The maximum itself is lowered below what the heater has: nothing gets too hot."""
    await _heat_to(bench, name, heater, 50.0, False)
    async with bench.borrowed({f"heaters.{name}.maximum_c": 42.0}):
        seconds, guard = await _wait_for_trip(bench, 10.0)
    await bench.release()
    await bench.rest(REST_S)
    return seconds, guard, RAIL_S + bench.news_s


async def _link_cut(bench: Bench, name: str, heater: Heater) -> tuple[float, str, float]:
    """The host falls silent, while the heater is held."""
    await _heat_to(bench, name, heater, 50.0, False)
    window = bench.heartbeat_window_s
    bench.fall_silent(LINK_PATIENCE * window)
    seconds, guard = await _wait_for_trip(bench, LINK_PATIENCE * window)
    bench.fall_silent(0.0)
    await bench.release()
    await bench.rest(REST_S)
    return seconds, guard, silence_window_s(window)


async def _heat_to(bench: Bench, name: str, heater: Heater, celsius: float, climb: bool) -> Late | None:
    """Warm until there; a climb goes on at full power, a hold stays. Returns how the sensor lagged in the climb."""
    start = bench.celsius(heater.sensor)
    if climb and start is not None:
        celsius = max(celsius, start + LEAST_CLIMB_C + CLEAR_C)
    driven, times, seen = bench.time_s(), [], []
    await bench.target(name, min(celsius + FAR_C, heater.maximum_c - 1) if climb else celsius)
    waited = 0.0
    while (now := bench.celsius(heater.sensor)) is None or now < celsius - 1:
        if waited > LONGEST_HEAT_S:
            raise TrialFailed(f"The {name} did not reach {celsius:g} °C: its guards cannot be drilled.")
        await bench.rest(0.5)
        waited += 0.5
        if now is not None:
            times.append(bench.time_s())
            seen.append(bench.celsius(heater.sensor) or now)
        if (trip := bench.tripped())[0]:
            raise TrialFailed(f"The guard “{trip[1]}” tripped while the {name} was only warmed: mend that first.")
    if not climb:
        await bench.rest(REST_S)
    return late_of(times, seen, driven)


async def _wait_for_trip(bench: Bench, longest_s: float) -> tuple[float, str]:
    """Board seconds until a guard trips, and which (empty: none did)."""
    began, passed = bench.time_s(), 0.0
    while passed < longest_s:
        mode, guard, at_s = bench.tripped()
        if mode:
            return max(0.0, at_s - began), guard
        await bench.rest(0.1)
        passed = bench.time_s() - began
    return passed, ""


def _findings(name: str, seconds: float, window: float, peak: float | None, limit_c: float) -> list[Finding]:
    found = [Finding(f"{name} noticed after", seconds, None, "s", window)]
    if peak is not None:
        found.append(Finding(f"{name} peak", peak, None, "°C", limit_c))
    return found


def _complaints(
    name: str,
    seconds: float,
    allowed: Allowance,
    guard: str,
    expected: tuple[str, ...],
    peak: float | None,
    limit_c: float,
    part: str,
) -> list[str]:
    told, words = [], f"{name[0].upper()}{name[1:]}"
    if not guard:
        told.append(f"{words}: no guard tripped in {seconds:.0f} s. Do not heat this machine unwatched.")
    elif guard not in expected:
        told.append(f"{words}: the guard “{guard}” tripped, expected was {' or '.join(expected)}.")
    elif seconds > allowed.seconds:
        told.append(
            f"{words}: noticed after {seconds:.1f} s only; {allowed.seconds:.1f} s are allowed: {allowed.words}."
        )
    if peak is not None and peak > limit_c:
        told.append(f"{words}: it reached {peak:.0f} °C, above {limit_c:g} °C of its {part or 'maximum'}.")
    return told


def _needs(machine: MachineFile, aim: GuardParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    heater = machine.heaters.get(aim.heater)
    if heater is None:
        return (Need(f"no heater “{aim.heater}” is declared; known: {', '.join(machine.heaters)}", False),)
    if read(heater.sensor) is None:
        return (Need(f"{heater.sensor} sensor open, shorted or silent: check its plug", False),)
    return (Need("sensor reads", True), Need("a hand at the power switch", True))


def _announce(machine: MachineFile, aim: GuardParameters) -> str:
    return (
        f"Heats the {aim.heater} to 60 °C, again and again, and makes a fault each time; on a real machine only what "
        "cannot harm it. Nothing moves."
    )


def _depends(aim: GuardParameters, known: Mapping[str, Any]) -> tuple[str, ...]:
    root = f"heaters.{aim.heater}."
    endings = ("maximum_c", "sensor", "socket", "power_limit")
    return tuple(p for p in known if p.startswith(root) and (".guards." in p or p.endswith(endings)))


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "guards-drill",
        "guards",
        "Every guard of a heater: a fault is made on purpose, and the board must notice it by itself, in time.",
        GuardParameters,
        guards_drill,
        _announce,
        _depends,
        _needs,
        trips=True,
        asks=lambda aim: True,
        heaters=lambda machine: tuple(machine.heaters),
    ),
)
