"""The guards' drill: each fault is made on purpose, and the board must notice it by itself, in time."""

from __future__ import annotations

import math
from collections.abc import Callable, Coroutine
from dataclasses import asdict, dataclass
from functools import partial
from typing import Any

from ublet.core.acts import MakeFault
from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.heat.drills import (
    GUARDS_OF,
    LEAST_HEAT_UP_C,
    OVER_MAXIMUM,
    RAIL_S,
    Allowance,
    Drill,
    SensorLag,
    drills_for,
    late_of,
    silence_window_s,
    warming_s,
)
from ublet.core.heat.part_limits import lowest_limit, part_limits
from ublet.core.machine.schema import Heater, MachineFile
from ublet.core.questions import Confirm
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import Checkpoint, Finding, Progress, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, Value, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.trial_times import TrialTimes

FAR_C = 100.0
"""A climb aims so far above where the fault happens, °C."""

CLEAR_C = 12.0
"""A climb begins so far below where the fault happens that it shows how the sensor lags, °C."""

LONGEST_HEAT_S, LONGEST_COOLING_S = 900.0, 1800.0
SETTLED_C = 2.0
"""Within this over its target a heater is at it, °C."""

REST_S = 3.0
AFTER_S = 12.0
"""The temperature is watched for so long after a trip, s."""

LINK_PATIENCE = 4.0
ASK_BEFORE_S = 0.5
LANGUAGE = "line_language"
"""Condition of a drill: the dialect in which it was done."""

NEVER_OFF = "does not switch off by itself"


DRILLED = Stream("drills", ("number", "noticed_s", "allowed_s", "peak_c", "limit_c"), ("", "s", "s", "°C", "°C"))
"""A row for each drill, by its place in the list."""


HEAT_UPS = Stream("temperatures", ("time_s", "temperature_c"), ("s", "°C"), 2.0)
"""What the sensor reads while it is warmed, and after the fault."""


class GuardParameters(Part):
    """Which heater is drilled."""

    heater: str = setting("Heater to drill.", default="hotend")


async def guards_drill(bench: Bench, aim: GuardParameters) -> TrialResult:
    """Every guard of one heater: heat gently, make the fault, wait for the board to trip, put it right, release.

    On a real machine only the harmless drills are done; what hands would have to break is left to the simulated one.
    """
    heater = bench.machine.heaters.get(aim.heater)
    if heater is None:
        raise TrialFailed(
            f"No heater “{aim.heater}” is declared; known: {', '.join(bench.machine.heaters)}.",
            ChangeParameter("heater", "one that is declared"),
        )
    drills = drills_for(bench.guards.simulated)
    limit_c, part = lowest_limit(heater.maximum_c, part_limits(bench.machine, aim.heater))
    works: list[tuple[str, Callable[[], Coroutine[Any, Any, Drilled]]]] = [
        *((drill.name, partial(_drill, bench, aim.heater, heater, drill)) for drill in drills),
        ("over maximum", partial(_over_maximum, bench, aim.heater, heater)),
        ("link cut", partial(_link_cut, bench, aim.heater, heater)),
    ]
    before = bench.record.going_on
    done = [Drilled(**fields) for fields in before.state["drilled"]] if before is not None else []
    for number, (name, work) in enumerate(works):
        bench.progress(Progress(name, number / len(works), None, f"{number + 1} of {len(works)}", name))
        if number >= len(done):
            done.append(await work())
            bench.record.found(*_findings(aim.heater, done[-1], limit_c))
            words = f"{number + 1} of {len(works)} guards drilled"
            bench.record.checkpoint(Checkpoint(words, {"drilled": [asdict(drilled) for drilled in done]}))
        result = done[number]
        peak = math.nan if result.peak_c is None else result.peak_c
        bench.record.row("drills", (float(number), result.seconds, result.allowed_s, peak, limit_c))
    findings = [finding for drilled in done for finding in _findings(aim.heater, drilled, limit_c)]
    spoken: dict[str, Value] = {LANGUAGE: bench.guards.language} if bench.guards.language else {}
    bad = [words for drilled in done for words in _complaints(drilled, limit_c, part)]
    if bad:
        bound = ChangeSetting(f"heaters.{aim.heater}", "the values of its guards; key t changes one here")
        return TrialResult("failed", " ".join(bad), spoken, tuple(findings), remedies=(bound,))
    left = "" if bench.guards.simulated else " The drills that could harm a real machine were left out."
    slowest = max(drilled.seconds for drilled in done)
    why = f"{len(done)} guards of the {aim.heater} trip by themselves, the slowest after {slowest:.1f} s.{left}"
    if ours := bench.guards.host_watches:
        why += (
            f" The board has no guard of its own for {' and '.join(ours)}: Ublet watches instead. While Ublet does not "
            "run, or its line is cut, nobody does."
        )
    made_of = [
        f"For “{drilled.name}” {drilled.allowed_s:.1f} s are allowed: {drilled.allowed}."
        for drilled in done
        if "no rise" in drilled.expected
    ]
    return TrialResult("proven", " ".join([why, *made_of]), spoken, tuple(findings))


@dataclass(frozen=True)
class Drilled:
    """One drill done: seconds until it tripped, the guard's name (empty: none), the highest reading afterwards (None:
    not watched), what was allowed and of what that is made, the guards that were expected.
    """

    name: str
    seconds: float
    guard: str
    peak_c: float | None
    allowed_s: float
    allowed: str
    expected: tuple[str, ...]


async def _drill(bench: Bench, name: str, heater: Heater, drill: Drill) -> Drilled:
    """One fault made by hands, noticed, and put right."""
    late = await _heat_to(bench, name, heater, drill.hold_c, drill.heat_up)
    if "drift" in drill.guards:
        await _settle(bench, name, heater, drill.hold_c)
    allowed = drill.allowance(heater.guards, warming_s(drill, heater), late).and_news(bench.clock.news_s)
    what = {"sensor": heater.sensor, "heater": name}
    made = Confirm(drill.do_words.format(**what), ("done", "stop here"), MakeFault(drill.do, name))
    mended = Confirm(drill.undo_words.format(**what), ("done",), MakeFault(drill.undo, name))
    async with bench.builder.by_hand(made, mended) as answer:
        if answer != "done":
            raise TrialFailed("Stopped: the remaining guards were not drilled.", StartAgain(goes_on=True))
        seconds, guard = await _wait_for_trip(bench, 3 * allowed.seconds + 10)
        peak = bench.heat.celsius(heater.sensor)
    watched = 0.0
    while watched < AFTER_S:
        await bench.clock.rest(0.5)
        watched += 0.5
        now = _read(bench, heater)
        peak = now if peak is None else max(peak, now if now is not None else peak)
    await bench.guards.release()
    await bench.clock.rest(REST_S)
    return Drilled(drill.name, seconds, guard, peak, allowed.seconds, allowed.words, expected_of(bench, drill.guards))


def expected_of(bench: Bench, guards: tuple[str, ...]) -> tuple[str, ...]:
    """The guards that may notice it: the host has one name for what a board has two for."""
    ours = (name for name in bench.guards.host_watches if set(GUARDS_OF[name]) & set(guards))
    return tuple(dict.fromkeys((*guards, *ours)))


async def _over_maximum(bench: Bench, name: str, heater: Heater) -> Drilled:
    """The maximum itself is lowered below what the heater has: nothing gets too hot."""
    await _heat_to(bench, name, heater, 50.0, False)
    async with bench.settings.borrowed({f"heaters.{name}.maximum_c": 42.0}):
        seconds, guard = await _wait_for_trip(bench, 10.0)
    await bench.guards.release()
    await bench.clock.rest(REST_S)
    return _by_window(OVER_MAXIMUM, seconds, guard, RAIL_S + bench.clock.news_s, OVER_MAXIMUM)


async def _link_cut(bench: Bench, name: str, heater: Heater) -> Drilled:
    """The host falls silent, while the heater is held. A board that only answers is read just before the silence would
    be too long: whoever asks later shows it that the host is alive.
    """
    window = bench.guards.heartbeat_window_s
    if not window:
        return Drilled("link cut", 0.0, "", None, 0.0, "", (NEVER_OFF,))
    await _heat_to(bench, name, heater, 50.0, False)
    silent_s = LINK_PATIENCE * window if not bench.guards.language else silence_window_s(window) - ASK_BEFORE_S
    bench.guards.fall_silent(silent_s)
    seconds, guard = await _wait_for_trip(bench, max(silent_s, silence_window_s(window)) + ASK_BEFORE_S)
    bench.guards.fall_silent(0.0)
    await bench.guards.release()
    await bench.clock.rest(REST_S)
    return _by_window("link cut", seconds, guard, silence_window_s(window), "link lost")


def _by_window(name: str, seconds: float, guard: str, window_s: float, expected: str) -> Drilled:
    allowed = Allowance((("the guard's window", window_s),))
    return Drilled(name, seconds, guard, None, allowed.seconds, allowed.words, (expected,))


async def _heat_to(bench: Bench, name: str, heater: Heater, celsius: float, heat_up: bool) -> SensorLag | None:
    """Warm until there; a climb goes on at full power, a hold stays. Returns how the sensor lagged in the climb."""
    start = bench.heat.celsius(heater.sensor)
    if heat_up and start is not None:
        celsius = max(celsius, start + LEAST_HEAT_UP_C + CLEAR_C)
    driven, times, seen = bench.clock.now_s(), [], []
    await bench.heat.warm(name, min(celsius + FAR_C, heater.maximum_c - 1) if heat_up else celsius)
    waited = 0.0
    while (now := bench.heat.celsius(heater.sensor)) is None or now < celsius - 1:
        if waited > LONGEST_HEAT_S:
            raise TrialFailed(
                f"The {name} did not reach {celsius:g} °C: its guards cannot be drilled.",
                ByHand(f"check the {name}: its power, its voltage, the seat of its sensor"),
            )
        await bench.clock.rest(0.5)
        waited += 0.5
        if now is not None:
            times.append(bench.clock.now_s())
            seen.append(_read(bench, heater) or now)
        if (trip := bench.guards.tripped())[0]:
            raise TrialFailed(
                f"The guard “{trip[1]}” tripped while the {name} was only warmed: mend that first.",
                ByHand(f"see to what tripped the guard of the {name}"),
            )
    if not heat_up:
        await bench.clock.rest(REST_S)
    return late_of(times, seen, driven)


async def _settle(bench: Bench, name: str, heater: Heater, celsius: float) -> None:
    """Wait until a heater that comes from above is at its target: a guard watches for drift only once it was reached,
    and a switch that sticks before that is noticed at the maximum alone.
    """
    waited = 0.0
    while (now := bench.heat.celsius(heater.sensor)) is None or now > celsius + SETTLED_C:
        if waited > LONGEST_COOLING_S:
            raise TrialFailed(
                f"The {name} does not cool to {celsius:g} °C: whether it drifts cannot be drilled.",
                ByHand(f"let the {name} cool, then start again"),
            )
        await bench.clock.rest(0.5)
        waited += 0.5
    await bench.clock.rest(REST_S)


def _read(bench: Bench, heater: Heater) -> float | None:
    """The heater's sensor, recorded."""
    celsius = bench.heat.celsius(heater.sensor)
    if celsius is not None:
        bench.record.row("temperatures", (bench.clock.now_s(), celsius))
    return celsius


async def _wait_for_trip(bench: Bench, longest_s: float) -> tuple[float, str]:
    """Board seconds until a guard trips, and which (empty: none did)."""
    began, passed = bench.clock.now_s(), 0.0
    while passed < longest_s:
        mode, guard, at_s = bench.guards.tripped()
        if mode:
            return max(0.0, at_s - began), guard
        await bench.clock.rest(0.1)
        passed = bench.clock.now_s() - began
    return passed, ""


def _findings(heater: str, drilled: Drilled, limit_c: float) -> list[Finding]:
    subject = {"heater": heater, "drill": drilled.name.replace(" ", "-")}
    words = f"{drilled.name} noticed after"
    findings = [Finding("noticed", drilled.seconds, None, "s", drilled.allowed_s, subject, words)]
    if drilled.peak_c is not None:
        findings.append(Finding("peak", drilled.peak_c, None, "°C", limit_c, subject, f"{drilled.name} peak"))
    return findings


def _complaints(drilled: Drilled, limit_c: float, part: str) -> list[str]:
    complaints, words = [], f"{drilled.name[0].upper()}{drilled.name[1:]}"
    seconds, peak = drilled.seconds, drilled.peak_c
    if drilled.expected == (NEVER_OFF,):
        complaints.append(
            f"{words}: by its dialect the board {NEVER_OFF} when nobody talks to it. Do not heat this machine "
            "unwatched."
        )
    elif not drilled.guard:
        complaints.append(f"{words}: no guard tripped in {seconds:.0f} s. Do not heat this machine unwatched.")
    elif drilled.guard not in drilled.expected:
        expected = " or ".join(drilled.expected)
        complaints.append(f"{words}: the guard “{drilled.guard}” tripped; expected: {expected}.")
    elif seconds > drilled.allowed_s:
        allowed = f"{drilled.allowed_s:.1f} s are allowed: {drilled.allowed}"
        complaints.append(f"{words}: noticed after {seconds:.1f} s only; {allowed}.")
    if peak is not None and peak > limit_c:
        complaints.append(f"{words}: it reached {peak:.0f} °C, above {limit_c:g} °C of its {part or 'maximum'}.")
    return complaints


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


HEATED_TIMES, TEST_C, WATCHED_S = 5, 60.0, 115.0
"""How often a drill heats up anew, to what, °C, and how long is watched besides, s."""


def _lasts(machine: MachineFile, aim: GuardParameters, times: TrialTimes) -> float:
    return HEATED_TIMES * times.heat_s(aim.heater, TEST_C) + WATCHED_S if aim.heater in machine.heaters else 0.0


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "guards-drill",
        "guards",
        "Every guard of a heater: a fault is made on purpose, and the board must notice it by itself, in time.",
        GuardParameters,
        guards_drill,
        (DRILLED, HEAT_UPS),
        _announce,
        _needs,
        figure=lambda result: f"{len(result.all_of('noticed'))} trip",
        trips=True,
        asks=lambda aim: True,
        heaters=lambda machine: tuple(machine.heaters),
        lasts=_lasts,
        uses=always("heat"),
    ),
)
