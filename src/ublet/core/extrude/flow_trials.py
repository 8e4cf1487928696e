"""The trial of the station *flow limit*: filament is pushed into the air ever faster, until 5 % of it falls short."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Literal

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.extrude.flow import SHORT, FlowLimit, FlowStep, NotReached, flow_limit, gain_per_10_c, speeds_words
from ublet.core.extrude.hob import REGAINED
from ublet.core.extrude.melting import HEADROOM_C, extruder_of, hotend_of, material_of, melt, melt_needs
from ublet.core.extrude.pushing import (
    BITE_RATIO,
    FIRST_MM,
    PRIME_MM,
    ROOM_MM,
    FilamentInstrument,
    Pushing,
    WheelPushing,
    make_ready,
)
from ublet.core.extrude.trials import CURRENT_TIMES, MOST_A
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import number_of
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, GoTo, Remedy
from ublet.core.run import Finding, Option, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.trial_times import TrialTimes

SLOW_MM_S = 1.0
"""What is pushed so slowly slips nowhere: all else is compared with it."""

STEP_TIMES = 1.25
"""From one step to the next the flow rises by this factor."""

BEYOND = 2
"""Number of steps beyond 5 % that end the series."""

MUCH_SHORT = 0.2
SETTLES_S = 3.0
"""A step lasts at least so long that the melt settles, s."""

NO_WHEEL = "This machine has no wheel that the filament turns: a mark shows what goes in."

GAIN_LEAST = 0.03
"""Less than this share for 10 °C is no gain."""

STEPS = Stream(
    "flows", ("nozzle_c", "flow_mm3_s", "commanded_mm", "measured_mm", "fed"), ("°C", "mm³/s", "mm", "mm", "")
)
"""Every push: its flow, what was commanded and what went in, relative to slow pushes."""


class FlowParameters(Part):
    """What is pushed, from which flow to which."""

    material: str = setting(
        "Material that is loaded (a table below [materials]); empty: the first.", zero="the first", default=""
    )
    first_mm3_s: float = setting("Flow of the first step.", unit="mm³/s", low=0.5, high=50, default=4.0)
    most_mm3_s: float = setting("The largest flow that is tried.", unit="mm³/s", low=2, high=150, default=60.0)
    length_mm: float = setting("Filament that each step pushes at least.", unit="mm", low=20, high=150, default=50.0)
    instrument: FilamentInstrument = setting("What is left to the mark is read with it.", default="callipers")
    by: Literal["mark", "wheel"] = setting(
        "A mark that you read, or the wheel of the filament sensor, which needs no reading and longer pushes.",
        default="mark",
    )
    hotter_c: float = setting(
        "A second series hotter by this; 0: none.",
        zero="no",
        unit="°C",
        low=0,
        high=60,
        default=0.0,
    )


async def flow(bench: Bench, aim: FlowParameters) -> TrialResult:
    """Hot and primed, filament is pushed into the air ever faster; what went in shows where it falls short by 5 %.

    There it is pushed once more with more current: a motor that stalls then pushes on, a hob that slips does not.
    """
    machine = bench.machine
    name, declared = material_of(machine, aim.material)
    heater = hotend_of(machine)
    highest_c = machine.heaters[heater].maximum_c - HEADROOM_C
    if aim.hotter_c and declared.nozzle_c + aim.hotter_c > highest_c:
        raise TrialFailed(
            f"{declared.nozzle_c:g} °C and {aim.hotter_c:g} more: this {heater} allows {highest_c:g} °C.",
            ChangeParameter("hotter_c", f"{max(0.0, highest_c - declared.nozzle_c):g} °C or less"),
        )
    if aim.by == "wheel" and not _has_wheel(machine):
        raise TrialFailed(NO_WHEEL, ChangeParameter("by", "mark"), ChangeSetting("filament.kind", "wheel"))
    with bench.aside():
        before = declared.largest_flow_mm3_s
    question = "with a metre to spare, and is there room below the nozzle? It is pushed into the air, ever faster."
    await make_ready(bench, heater, declared.nozzle_c, f"Is {name} loaded, {question}", SLOW_MM_S)
    section = math.pi * extruder_of(machine).filament_mm ** 2 / 4
    series = FlowSeries(bench, aim, section)
    limit, why_not, steps = await series.run(declared.nozzle_c, 0.2, 0.6 if aim.hotter_c else 0.9)
    subject = {"material": name}
    findings: list[Finding] = []
    if limit is None:
        remedies = _not_reached(aim, steps)
        return TrialResult("failed", f"No limit: {why_not}.", {"material": name}, (), remedies=remedies)
    findings.append(_finding("flow_limit", limit, subject, "flow limit"))
    words = [
        f"{name} at {declared.nozzle_c:g} °C: 5 % falls short at {limit.flow_mm3_s:.1f} "
        f"±{2 * limit.uncertainty:.1f} mm³/s."
    ]
    stalls = await series.stalls(limit, declared.nozzle_c)
    findings.append(Finding("stalls", float(stalls), subject=subject, words="whether the motor stalls there"))
    ways: tuple[Remedy, ...] = ()
    if stalls:
        words.append("With more current it pushes on: the motor stalls there, before the hob slips.")
        ways = (ChangeSetting("extruder.motor.run_a", "more current, if the motor stays below 60 °C"),)
    else:
        words.append("More current does not help: the hob slips against the melt.")
    if aim.hotter_c:
        await melt(bench, heater, declared.nozzle_c + aim.hotter_c, 0.62)
        hotter, why_not, _ = await series.run(declared.nozzle_c + aim.hotter_c, 0.65, 0.95)
        if hotter is None:
            words.append(f"{aim.hotter_c:g} °C hotter: {why_not}.")
        else:
            gain, error = gain_per_10_c(limit, hotter, aim.hotter_c)
            findings.append(_finding("flow_limit_hotter", hotter, subject, f"flow limit {aim.hotter_c:g} °C hotter"))
            findings.append(
                Finding("gain", gain, error, "mm³/s", subject=subject, words="what 10 °C more add to the flow")
            )
            helps = gain > max(2 * error, GAIN_LEAST * limit.flow_mm3_s)
            words.append(
                f"10 °C more add {gain:.1f} ±{2 * error:.1f} mm³/s{'' if helps else ': more heat no longer helps'}."
            )
    proposed = limit.proposed_mm3_s
    words.append(f"With a margin {proposed:g} mm³/s: {speeds_words(proposed)}.")
    effect = f"prints of {name} are held to it"
    proposal = Proposal(f"materials.{name}.largest_flow_mm3_s", before, proposed, "mm³/s", effect)
    option = Option("with a margin", "below what is sure", (proposal,), {"flow": proposed})
    held: dict[str, float | str] = {"material": name, "nozzle_c": declared.nozzle_c}
    return TrialResult("proven", " ".join(words), held, tuple(findings), (option,), option.name, ways)


class FlowSeries:
    """Pushes of rising flow on one machine. section: of the filament, mm²."""

    def __init__(self, bench: Bench, aim: FlowParameters, section_mm2: float) -> None:
        self._bench, self._aim, self._section = bench, aim, section_mm2
        self._sound, self._edge_mm = 1.0, 0.0

    async def run(self, celsius: float, begin: float, end: float) -> tuple[FlowLimit | None, str, Sequence[FlowStep]]:
        """Push ever faster until enough falls short; the limit, or why there is none, and the steps."""
        aim, steps = self._aim, list[FlowStep]()
        pushing = self._pushing(celsius, aim.length_mm)
        first = FIRST_MM if aim.by == "wheel" else aim.length_mm
        self._sound = await pushing.mean_mm("slow", first, SLOW_MM_S, 2, begin) / first
        if isinstance(pushing, WheelPushing):
            self._edge_mm = pushing.edge_mm
        flows = self._flows()
        for number, asked in enumerate(flows):
            fraction = begin + (end - begin) * (number + 1) / len(flows)
            step = await self._step(pushing, asked, number, celsius, fraction)
            steps.append(step)
            over = [other for other in steps if other.short > SHORT]
            if len(over) > BEYOND or step.short > MUCH_SHORT:
                break
        below = [step.flow_mm3_s for step in steps if step.short < SHORT]
        above = [step.flow_mm3_s for step in steps if step.short >= SHORT]
        if below and above and max(below) < min(above):  # once more in between: there the limit lies
            between = math.sqrt(max(below) * min(above))
            steps.append(await self._step(pushing, between, len(steps), celsius, end))
        try:
            return flow_limit(steps), "", steps
        except NotReached as error:
            return None, str(error), steps

    async def stalls(self, limit: FlowLimit, celsius: float) -> bool:
        """Whether more current brings back most of what falls short beyond the limit."""
        bench, aim = self._bench, self._aim
        fast = limit.flow_mm3_s * STEP_TIMES / self._section
        length = max(aim.length_mm, SETTLES_S * fast)
        now = number_of(bench, "extruder.motor.run_a")
        amps = min(MOST_A, CURRENT_TIMES * now)
        pushing = self._pushing(celsius, length)
        length = pushing.length_for(length)
        usual = await pushing.mean_mm("fast", length, fast, 1, 0.6) / length / self._sound
        async with bench.settings.borrowed({"extruder.motor.run_a": amps}):
            more = await pushing.mean_mm("current", length, fast, 1, 0.6) / length / self._sound
        return usual < 1 and (more - usual) / (1 - usual) > REGAINED

    def _pushing(self, celsius: float, length_mm: float) -> Pushing | WheelPushing:
        """Pushes past a mark; or past the wheel, which shows the same all the time."""
        if self._aim.by == "mark":
            return Pushing(self._bench, self._aim.instrument, celsius, length_mm, records=False)
        return WheelPushing(self._bench, edge_mm=self._edge_mm)

    def _flows(self) -> list[float]:
        flows, flow_now = list[float](), self._aim.first_mm3_s
        while flow_now <= self._aim.most_mm3_s * 1.0001:
            flows.append(flow_now)
            flow_now *= STEP_TIMES
        return flows

    async def _step(
        self, pushing: Pushing | WheelPushing, flow_mm3_s: float, number: int, celsius: float, fraction: float
    ) -> FlowStep:
        aim = self._aim
        mm_s = flow_mm3_s / self._section
        length = pushing.length_for(max(aim.length_mm, SETTLES_S * mm_s))
        await pushing.mean_mm("fast", length, mm_s, number + 1, fraction)
        went = pushing.read["fast"][-1]
        fed = went / length / self._sound
        read_u = pushing.error_mm / length
        self._bench.record.row(STEPS.name, (celsius, flow_mm3_s, length, went, fed))
        return FlowStep(flow_mm3_s, fed, math.hypot(read_u, read_u / math.sqrt(2), BITE_RATIO))


def _has_wheel(machine: MachineFile) -> bool:
    """Whether filament turns a wheel on its way to the extruder."""
    return machine.filament is not None and machine.filament.kind == "wheel"


def _not_reached(aim: FlowParameters, steps: Sequence[FlowStep]) -> tuple[Remedy, ...]:
    if steps and steps[0].short > SHORT:
        return (
            ChangeParameter("first_mm3_s", "begin lower"),
            GoTo("extruder steps", "why the feed falls short already", "extruder-steps"),
        )
    return (
        ChangeParameter("most_mm3_s", f"more than {aim.most_mm3_s:g} mm³/s"),
        ByHand("or leave it: it melts enough"),
    )


def _finding(what: str, limit: FlowLimit, subject: dict[str, str], words: str) -> Finding:
    return Finding(what, limit.flow_mm3_s, limit.uncertainty, "mm³/s", subject=subject, words=words)


def _announce(machine: MachineFile, aim: FlowParameters) -> str:
    try:
        (named, material), heater = material_of(machine, aim.material), hotend_of(machine)
    except TrialFailed as missing:
        return str(missing)
    read = f"you measure what is left to a mark with the {aim.instrument}"
    read = "the wheel of the filament sensor counts what goes in" if aim.by == "wheel" else read
    hotter = f", then at {material.nozzle_c + aim.hotter_c:g} °C" if aim.hotter_c else ""
    return (
        f"Heats the {heater} to {material.nozzle_c:g} °C{hotter}; Z goes up to {ROOM_MM:g} mm if it is homed and "
        f"lower. Then pushes {named} into the air from {aim.first_mm3_s:g} mm³/s up, each step "
        f"{100 * (STEP_TIMES - 1):.0f} % faster and {aim.length_mm:g} mm or more, until 5 % falls short; {read}."
    )


def _needs(machine: MachineFile, aim: FlowParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    wheel = (Need(NO_WHEEL, False),) if aim.by == "wheel" and not _has_wheel(machine) else ()
    return (*wheel, *melt_needs(machine, aim.material, read))


def _figure(result: TrialResult) -> str:
    finding = result.finding("flow_limit")
    return f"{finding.value:.1f} ±{2 * (finding.uncertainty or 0.0):.1f}" if finding is not None else ""


USUAL_STEPS = 9
"""Steps that a series usually has."""


def _lasts(machine: MachineFile, aim: FlowParameters, times: TrialTimes) -> float:
    try:
        _, material = material_of(machine, aim.material)
        hotend = hotend_of(machine)
    except TrialFailed:
        return 0.0
    steps_s = PRIME_MM / SLOW_MM_S + 2 * aim.length_mm / SLOW_MM_S
    section = math.pi * extruder_of(machine).filament_mm ** 2 / 4
    for number in range(USUAL_STEPS):
        mm_s = aim.first_mm3_s * STEP_TIMES**number / section
        steps_s += max(SETTLES_S, aim.length_mm / mm_s)
    return times.heat_s(hotend, material.nozzle_c) + (2 if aim.hotter_c else 1) * steps_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "flow-limit",
        "flow limit",
        "Filament is pushed into the air ever faster, until 5 % of it falls short.",
        FlowParameters,
        flow,
        (STEPS,),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=always("heat", "motion", "programs", "filament"),
    ),
)
