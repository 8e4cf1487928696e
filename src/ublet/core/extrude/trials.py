"""The trial of the station *extruder steps*: filament is marked and pushed, what is left to the mark is read."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.extrude.hob import (
    SHORT,
    Cause,
    FeedTests,
    HobDrive,
    cause_of,
    falls_short,
    judge_filament,
    load_matters,
    looks_short,
    microsteps_made,
    slip_u_mm,
    slips_fast,
    words_of,
)
from ublet.core.extrude.melting import HEADROOM_C, extruder_of, hotend_of, material_of, melt, melt_needs
from ublet.core.extrude.pushing import PRIME_MM, ROOM_MM, STREAM, BothGone, FilamentInstrument, Pushing, make_ready
from ublet.core.machine.schema import MachineFile
from ublet.core.machine.tool_parts import Extruder
from ublet.core.motion.geometry import extruder_steps_per_mm
from ublet.core.motion.homing_moves import number_of
from ublet.core.motion.measuring import INSTRUMENTS, Length
from ublet.core.motion.steps import StepsAssessment
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import Finding, Option, Outcome, Proposal, TrialFailed, TrialResult, about
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.trial_times import TrialTimes
from ublet.core.units import with_uncertainty

FAR_LESS = 4.0
"""Where both marks went in, so many times less is pushed."""

SLOWER = 3.0
"""What falls short is pushed half as far, so many times slower, to see whether the load does it."""

CURRENT_TIMES, LEAST_TRIED_A, MOST_A = 1.5, 0.6, 6.0
"""Then with so many times the current, at least so much and at most so much, A."""

HOTTER_C = 20.0
"""Then so much hotter, as far as the hotend may be, °C."""

FAST_REPEATS, ABOUT = 2, 0.2
"""Fast pushes, made once steps per mm are right within this share."""

SUBJECT, STEPS_WORDS = {"axis": "e"}, "extruder steps per mm"


class ExtruderParameters(Part):
    """What is loaded, how far and how fast it is pushed, how often, and what it is measured with."""

    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )
    length_mm: float = setting("Filament that is pushed and measured.", unit="mm", low=30, high=200, default=100.0)
    repeats: int = setting("Slow pushes.", low=2, high=10, default=3)
    instrument: FilamentInstrument = setting("What is left to the mark is read with it.", default="rule")
    short: bool = setting("Only two slow pushes: steps per mm, and no look at quick printing.", default=False)
    slow_mm_s: float = setting("Speed that slips nowhere.", unit="mm/s", low=0.3, high=3, default=1.5)
    fast_mm_s: float = setting("Speed of quick printing.", unit="mm/s", low=1, high=10, default=3.5)

    @property
    def pushes(self) -> int:
        """Slow pushes that are made."""
        return min(2, self.repeats) if self.short else self.repeats

    @property
    def fast_pushes(self) -> int:
        """Fast pushes that are made."""
        return 0 if self.short else FAST_REPEATS


async def extruder_steps(bench: Bench, aim: ExtruderParameters) -> TrialResult:
    """Hot, primed and slow: filament is pushed past a mark, again and again, then fast; what went in shows the steps.

    Where it falls short, the load is looked into: slower, with more current, hotter. What brings it back is the cause.
    """
    extruder, heater = extruder_of(bench.machine), hotend_of(bench.machine)
    named, material = material_of(bench.machine, aim.material)
    drive = _drive(bench, extruder)
    if material.nozzle_c < (least := number_of(bench, "extruder.least_c")):
        raise TrialFailed(
            f"For {named} the nozzle is at {material.nozzle_c:g} °C: the board pushes from {least:g} °C on. Nothing "
            "moved.",
            ChangeSetting(f"materials.{named}.nozzle_c", f"{least:g} °C or more"),
            ChangeParameter("material", "one that melts hotter"),
        )
    pushing = _begun(bench, aim, material.nozzle_c)
    words = "does the hob hold it, and is there room below the nozzle?"
    await make_ready(bench, heater, material.nozzle_c, f"Is {named} loaded, {words}", aim.slow_mm_s)
    now = number_of(bench, "extruder.steps_per_mm")
    slow = await _slow_pushes(pushing, aim)
    mm = pushing.length_mm
    slower = None
    if looks_short(slow, mm):
        slower = await pushing.push("slower", mm / 2, aim.slow_mm_s / SLOWER, 1, 0.7)
    loaded = slower is not None and load_matters(slow, mm, slower, mm / 2)
    fast = None
    near = abs(slow.mean_mm / mm - 1) < ABOUT  # else another speed would be pushed than commanded
    if near and not loaded and not aim.short:
        fast = await pushing.push("fast", mm, aim.fast_mm_s, FAST_REPEATS, 0.8)
    slip_mm = slip_u_mm(slow, fast)
    judged = judge_filament(now, extruder_steps_per_mm(extruder), mm, slow, slip_mm, drive)
    when_slow = loaded or judged.kind in ("still", "stutters")
    findings = _lengths(mm, slow, fast)
    if not when_slow:
        findings.insert(0, Finding("steps_per_mm", judged.measured, judged.uncertainty, "steps/mm", words=STEPS_WORDS))
    bench.record.found(*about(SUBJECT, findings))
    cause, words, proposals = None, "", []
    if when_slow or slips_fast(slow, fast):
        sound = slower.mean_mm / (mm / 2) if loaded and slower is not None else 1.0
        usual = (
            FeedTests(slow.mean_mm / mm, sound)
            if when_slow or fast is None
            else FeedTests(fast.mean_mm / mm, slow.mean_mm / mm)
        )
        mm_s = aim.slow_mm_s if when_slow else aim.fast_mm_s
        highest_c = bench.machine.heaters[heater].maximum_c - HEADROOM_C
        tried = await _look_for_cause(pushing, usual, mm, mm_s, heater, highest_c if when_slow else 0.0, drive)
        cause = cause_of(tried, when_slow, drive)
        words = words_of(cause, tried, mm_s, extruder.filament_mm)
        findings += _regained(tried)
        proposals = [_more_current(drive, tried.amps)] if cause == "current" else []
    held: dict[str, float | str] = {"material": named, "nozzle_c": material.nozzle_c}
    real = microsteps_made(slow.mean_mm / mm, drive) if judged.kind == "typical" else None
    microsteps = [_microsteps(drive, real)] if real is not None else []
    return _concluded(now, judged, when_slow, cause, words, findings, proposals, microsteps, held)


def _begun(bench: Bench, aim: ExtruderParameters, celsius: float) -> Pushing:
    """Pushes, with those that an earlier run had read before it was cut off."""
    if (going := bench.record.going_on) is None:
        return Pushing(bench, aim.instrument, celsius, aim.length_mm)
    read = {kind: list(readings) for kind, readings in going.state["read"].items()}
    length_mm, placings = float(going.state["length_mm"]), int(going.state["placings"])
    return Pushing(bench, aim.instrument, celsius, length_mm, read, placings)


async def _slow_pushes(pushing: Pushing, aim: ExtruderParameters) -> Length:
    """The slow pushes; far shorter ones where so much goes in that no mark is left to read."""
    try:
        return await pushing.push("slow", pushing.length_mm, aim.slow_mm_s, aim.pushes, 0.6)
    except BothGone:
        pushing.length_mm /= FAR_LESS
        return await pushing.push("slow", pushing.length_mm, aim.slow_mm_s, aim.pushes, 0.6)


async def _look_for_cause(
    pushing: Pushing, usual: FeedTests, mm: float, mm_s: float, heater: str, highest_c: float, drive: HobDrive
) -> FeedTests:
    """Push with more current, then hotter where that may be, at the speed at which it falls short."""
    amps = min(MOST_A, max(CURRENT_TIMES * drive.run_a, LEAST_TRIED_A))
    async with pushing.bench.settings.borrowed({"extruder.motor.run_a": amps}):
        current = (await pushing.push("current", mm, mm_s, 1, 0.88)).mean_mm / mm
    tried = usual.with_current(current, amps)
    hotter_c = min(pushing.celsius + HOTTER_C, highest_c)
    if tried.current_mends or hotter_c - pushing.celsius < HOTTER_C / 2:
        return tried
    pushing.celsius = hotter_c
    await melt(pushing.bench, heater, hotter_c, 0.92)
    return tried.with_heat((await pushing.push("hotter", mm, mm_s, 1, 0.96)).mean_mm / mm, hotter_c)


def _concluded(
    now: float,
    judged: StepsAssessment,
    when_slow: bool,
    cause: Cause | None,
    why: str,
    findings: list[Finding],
    proposals: list[Proposal],
    microsteps: list[Proposal],
    conditions: dict[str, float | str],
) -> TrialResult:
    """What the readings come to: where slow pushes fell short they show no steps, else what they show comes first."""
    if not when_slow:
        why = f"{judged.words[0].upper()}{judged.words[1:]}. {why}".strip()
        if judged.proposed is not None:
            proposals = [*microsteps, _steps(now, judged.proposed), *proposals]
    option = Option("mend", "then push and read again", tuple(proposals), {})
    options, chosen = ((option,), "mend") if proposals else ((), "")
    outcome: Outcome = "proven" if judged.good and cause is None else "failed"
    ways_out = () if outcome == "proven" or options else (ByHand("look at hob, spring and nozzle"), StartAgain())
    return TrialResult(outcome, why, conditions, about(SUBJECT, findings), options, chosen, ways_out)


def _lengths(mm: float, slow: Length, fast: Length | None) -> list[Finding]:
    """Filament fed / commanded, and how much less when it was pushed fast."""
    findings = [Finding("went_in", slow.mean_mm / mm, slow.uncertainty_mm / mm, words="filament fed / commanded")]
    if fast is not None:
        fraction, fraction_u = falls_short(slow, fast)
        findings.append(
            Finding("short_fast", fraction, fraction_u, limit=SHORT, words="share that falls short when pushed fast")
        )
    return findings


def _regained(tried: FeedTests) -> list[Finding]:
    """What each change brought back of what was short."""
    regained = []
    for what, fraction, words in (
        ("regained_current", tried.current, "brought back by more current"),
        ("regained_hotter", tried.hotter, "brought back by heat"),
    ):
        if fraction is not None:
            regained.append(Finding(what, tried.regained(fraction), words=words))
    return regained


def _steps(now: float, proposed: float) -> Proposal:
    after = float(f"{proposed:.6g}")
    fraction = 100 * (after / now - 1)
    return Proposal(
        "extruder.steps_per_mm",
        now,
        after,
        "steps/mm",
        f"{abs(fraction):.1f} % {'more' if fraction > 0 else 'less'} is pushed",
    )


def _microsteps(drive: HobDrive, real: int) -> Proposal:
    effect = "as the driver makes; the steps per mm below go with it"
    return Proposal("extruder.motor.microsteps", drive.microsteps, real, "", effect)


def _more_current(drive: HobDrive, amps: float) -> Proposal:
    return Proposal(
        "extruder.motor.run_a", drive.run_a, amps, "A", "the motor pushes on; feel that it stays below 60 °C"
    )


def _drive(bench: Bench, extruder: Extruder) -> HobDrive:
    motor = extruder.motor
    run_a = number_of(bench, "extruder.motor.run_a")
    return HobDrive(extruder.gear_ratio, extruder.hob_mm, motor.microsteps, motor.step_angle_deg, run_a)


def _announce(machine: MachineFile, aim: ExtruderParameters) -> str:
    try:
        (named, material), heater = material_of(machine, aim.material), hotend_of(machine)
    except TrialFailed as missing:
        return str(missing)
    hottest = min(material.nozzle_c + HOTTER_C, machine.heaters[heater].maximum_c - HEADROOM_C)
    pushed = PRIME_MM + aim.length_mm * (aim.pushes + aim.fast_pushes)
    how = "slowly" if aim.short else "slowly and fast"
    return (
        f"Heats the {heater} to {material.nozzle_c:g} °C; Z goes up to {ROOM_MM:g} mm if it is homed and lower. Then "
        f"pushes about {pushed:.0f} mm of {named}, {how}; you measure the remaining distance to a mark with "
        f"the {aim.instrument} (within {INSTRUMENTS[aim.instrument].largest_mm:g} mm). If too little is fed, it "
        f"repeats with more current and at up to {hottest:g} °C."
    )


def _needs(machine: MachineFile, aim: ExtruderParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return melt_needs(machine, aim.material, read)


def _figure(result: TrialResult) -> str:
    finding = result.finding("steps_per_mm")
    return with_uncertainty(finding.value, finding.uncertainty or 0.0) if finding else ""


def _lasts(machine: MachineFile, aim: ExtruderParameters, times: TrialTimes) -> float:
    try:
        _, material = material_of(machine, aim.material)
        hotend = hotend_of(machine)
    except TrialFailed:
        return 0.0
    pushed_s = PRIME_MM / aim.slow_mm_s + aim.pushes * aim.length_mm / aim.slow_mm_s
    return times.heat_s(hotend, material.nozzle_c) + pushed_s + aim.fast_pushes * aim.length_mm / aim.fast_mm_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "extruder-steps",
        "extruder steps",
        "Filament is pushed past a mark, slowly and fast; the remaining distance gives steps per mm, and the cause "
        "of slip.",
        ExtruderParameters,
        extruder_steps,
        (STREAM,),
        _announce,
        _needs,
        figure=_figure,
        verify="extruder-steps",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=always("heat", "motion", "programs", "filament"),
    ),
)
