"""The trial of the station *Z offset*: the nozzle lowered onto a gauge where the probe triggered; formulas, signs."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.heat.demands import hotends
from ublet.core.level.gauging import gauge_setting
from ublet.core.level.mesh.live import unfollowed
from ublet.core.level.probe.probing import TOUCHES, Probing, homing_approach, probing, probing_uses
from ublet.core.level.reach import reach_of, senses
from ublet.core.level.scatter import deviation_of, scatter_beyond
from ublet.core.level.support.corner_hand_trials import gauge_of
from ublet.core.level.warmth import PrintWarmUp, conditions, warm_needs, warm_up, warm_words, warming_s
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import axis_of, home_axis, home_unhomed, moving, number_of
from ublet.core.observations import LowerOntoGauge
from ublet.core.questions import Jog
from ublet.core.remedy import ByHand, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Value, number_or, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes
from ublet.core.units import show

FEEL_MM, FEEL_COMMON_MM = 0.012, 0.006
"""The drag of a gauge is felt within this anew each time, and within this the same every time; half-widths, mm."""

GAUGE_MM = 0.006
"""The gauge's own thickness is known within this, half-width, mm."""

DROP_MM, DROP_U_MM = 0.05, 0.03
"""A drop of plastic hangs at a cold nozzle and drags first: about so much too far, and its standard uncertainty, mm."""

HOT_C = 130.0
"""From here on a nozzle counts as hot: what hangs at it gives way."""


@dataclass(frozen=True)
class GaugeTouch:
    """One touch. trigger_mm: Z at which the probe triggered at that place of the bed, 0 where there is none;
    touched_mm: Z at which the gauge dragged below the nozzle.
    """

    trigger_mm: float
    touched_mm: float


@dataclass(frozen=True)
class Offset:
    """The Z offset, its standard uncertainty and the touches' deviation, mm."""

    mm: float
    uncertainty_mm: float
    deviation_mm: float


def offset_of(
    touches: Sequence[GaugeTouch], gauge_mm: float, step_mm: float, hot: bool, former_mm: float = 0.0
) -> Offset:
    """``offset = touch height - gauge - trigger height`` (handbook, section 5: the trigger height is how far above the
    bed the nozzle stands when the probe triggers, and the offset is its negative); more negative is nearer.

    At a cold nozzle a drop hangs that drags first; the mean one is taken off.

    Without a probe the offset is counted from ``former_mm``, the one with which Z was homed, and triggers are 0.

    u: what is new at each touch (feel, the last step, the machine's scatter) over n, and what is common to all.

    Raises:
        ValueError: no touches.
    """
    count = len(touches)
    if not count:
        raise ValueError("no touches")
    within = step_mm / 2  # it is lowered until it drags: that began somewhere in the last step
    offsets = [former_mm + touch.touched_mm + within - gauge_mm - touch.trigger_mm for touch in touches]
    mean = sum(offsets) / count - (0.0 if hot else DROP_MM)
    deviation = deviation_of(offsets)
    known = math.sqrt(FEEL_MM**2 / 3 + step_mm**2 / 12)
    new = scatter_beyond(known, deviation, count) / math.sqrt(count)
    common = math.sqrt((FEEL_COMMON_MM**2 + GAUGE_MM**2) / 3)
    return Offset(mean, math.hypot(new, common, 0.0 if hot else DROP_U_MM), deviation)


def side_words(change_mm: float) -> str:
    """What a change of the offset does: ``0.120 mm nearer to the bed``."""
    if abs(change_mm) < 5e-4:
        return "as near as before"
    return f"{abs(change_mm):.3f} mm {'nearer to' if change_mm < 0 else 'further from'} the bed"


STEPS_MM = (1.0, 0.1, 0.05, 0.01)
"""Steps down: the next smaller one is offered when the way turns."""

START_MM, AGAIN_MM = 3.0, 0.5
"""The nozzle begins so high over where it should touch, the second time so high over where it did, mm."""

DOWN_MM_S, TRAVEL_MM_S, LIFT_MM = 2.0, 60.0, 5.0
DIFFERS_C = 60.0
"""Two runs whose nozzles differ by more are one hot and one cold."""

OFFSET, BED_OFFSET = "probe.offset_z_mm", "bed.offset_z_mm"
TOUCHED = Stream("touched", ("number", "trigger_mm", "touched_mm"), ("", "mm", "mm"))
"""Every touch: Z at which the probe triggered there (0 without one), Z at which the gauge dragged."""


class TouchParameters(PrintWarmUp):
    """The gauge, how often, and how deep it may go."""

    gauge_mm: float = gauge_setting()
    repeats: int = setting("Touches.", low=1, high=10, default=3)
    deepest_mm: float = setting(
        "How far below the touch expected by today's offset the nozzle may be lowered.",
        unit="mm",
        low=0.2,
        high=6,
        default=2.0,
    )
    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=0.2, high=10, default=2.0)
    limit_mm: float = setting(
        "Largest uncertainty that is good enough to print with.", unit="mm", low=0.005, high=0.5, default=0.05
    )


def offset_setting(machine: MachineFile) -> str:
    """The setting that holds the Z offset: the probe's where Z homes with one, else the bed's."""
    return OFFSET if machine.axes.z.homing.end == "probe" else BED_OFFSET


def offset_live(machine: MachineFile, read: Callable[[str], Value]) -> float:
    """The Z offset that counts on the board now, mm: beside an endstop also what an older file has of the nozzle as its
    own probe.
    """
    own = machine.probe is not None and machine.probe.kind == "nozzle"
    paths = {offset_setting(machine), *((OFFSET,) if own else ())}
    return sum(number_or(read(path), 0.0) for path in paths)


def offset_proposals(
    machine: MachineFile, read: Callable[[str], Value], after_mm: float, effect: str
) -> tuple[Proposal, ...]:
    """What makes the Z offset so many mm in all: in the one setting that holds it."""
    path = offset_setting(machine)
    proposals = [Proposal(path, number_or(read(path), 0.0), round(after_mm, 3), "mm", effect)]
    if path != OFFSET and number_or(read(OFFSET), 0.0):
        proposals.append(Proposal(OFFSET, read(OFFSET), 0.0, "mm", f"there is no probe: {path} holds it all"))
    return tuple(proposals)


async def z_offset(bench: Bench, aim: TouchParameters) -> TrialResult:
    """Trigger the probe over a place, lower the nozzle onto a gauge there, again and again; the mean is the offset.

    Without a probe that senses, Z's endstop is what the offset counts from.
    """
    machine = bench.machine
    gauge_mm = aim.gauge_mm or gauge_of(machine)
    with bench.aside():  # what is found is where the bed is, whatever the offset was before
        number_of(bench, offset_setting(machine))  # a board without it says so before anything moves
    former = offset_live(machine, bench.settings.shown)
    bench.motion.clear_at_the_end(LIFT_MM)
    _, warm = await warm_up(bench, aim)
    touches: list[GaugeTouch] = []
    async with _over_the_middle(bench, warm) as (place, probe):
        for number in range(aim.repeats):
            bench.progress(Progress(f"touch {number + 1}", number / aim.repeats, None, f"of {aim.repeats}"))
            touched = await _touch(bench, aim, probe, place, gauge_mm, touches)
            if touched is None:
                break
            touches.append(touched)
            bench.record.row(TOUCHED.name, (number, touched.trigger_mm, touched.touched_mm))
            hot = nozzle_c(bench) >= HOT_C
            offset = offset_of(touches, gauge_mm, STEPS_MM[-1], hot, 0.0 if probe is not None else former)
            bench.record.found(_offset_finding(offset), option=_as_touched(bench, offset, former))
        await bench.motion.go({"z": LIFT_MM}, DOWN_MM_S * 2)
    if not touches:
        raise TrialFailed("Stopped before the nozzle touched the gauge: the offset stays as it was.", StartAgain())
    return _concluded(bench, aim, offset, former, gauge_mm, hot, len(touches))


@asynccontextmanager
async def _over_the_middle(bench: Bench, warm: dict[str, float]) -> AsyncIterator[tuple[Point, Probing | None]]:
    """The place of the bed that is touched, with what triggers there; Z may go below its lower limit meanwhile, which
    is reported.
    """
    bed = bench.machine.bed
    middle = (bed.width_mm / 2, bed.depth_mm / 2)
    if senses(bench.machine):
        async with probing(bench, homing_approach(bench), 0.0, warm) as sensing:
            yield sensing.reach.nearest(middle), sensing
        return
    await home_unhomed(bench, ("x", "y", "z"))
    async with bench.settings.borrowed({"axes.z.soft_limits": False, **unfollowed(bench)}):
        yield middle, None


async def _touch(
    bench: Bench, aim: TouchParameters, probe: Probing | None, place: Point, gauge_mm: float, before: list[GaugeTouch]
) -> GaugeTouch | None:
    """Trigger where there is a probe, then lower the nozzle over the same place of the bed; None: the builder stops."""
    trigger = bed = 0.0
    if probe is not None:
        bed = await probe.height_at(place)
        trigger = probe.trigger_mm + bed
        await probe.park()
    elif before:
        await _home_again(bench)
    high = before[-1].touched_mm + AGAIN_MM if before else bed + START_MM
    await bench.motion.go({"z": max(LIFT_MM, high)}, DOWN_MM_S * 2)
    await bench.motion.go({"x": place[0], "y": place[1]}, TRAVEL_MM_S)
    await bench.motion.go({"z": high}, DOWN_MM_S * 2)
    floor = bed - aim.deepest_mm
    asked = Jog(
        f"Lay the gauge ({gauge_mm:g} mm) below the nozzle and lower Z until it just drags. Z's lower limit is lifted "
        f"for this; it goes no deeper than {floor:.2f} mm.",
        ("it drags", "stop here"),
        LowerOntoGauge(gauge_mm),
        axes=("z",),
        steps=STEPS_MM,
        floor={"z": floor},
    )
    jogged = await bench.builder.jog(asked, aim.speed_mm_s)
    if jogged.answer != "it drags":
        return None
    return GaugeTouch(trigger, jogged.position["z"])


async def _home_again(bench: Bench) -> None:
    """Z to its endstop once more, where X and Y home: what that scatters is then in the touches' mean."""
    await bench.motion.go({"z": LIFT_MM}, DOWN_MM_S * 2)
    ends = {}
    for name in ("x", "y"):
        axis = axis_of(bench.machine, name)
        low = axis.homing.end == "low"
        ends[name] = axis.minimum_mm + axis.homing.back_off_mm if low else axis.maximum_mm - axis.homing.back_off_mm
    await bench.motion.go(ends, TRAVEL_MM_S)
    await home_axis(bench, "z")


def nozzle_c(bench: Bench) -> float:
    """How warm the nozzle is now, °C."""
    for name in hotends(bench.machine):
        celsius = bench.heat.celsius(bench.machine.heaters[name].sensor)
        if celsius is not None:
            return celsius
    return 0.0


def _offset_finding(offset: Offset) -> Finding:
    return Finding("offset", offset.mm, offset.uncertainty_mm, "mm", words="Z offset")


def _as_touched(bench: Bench, offset: Offset, former: float) -> Option:
    effect = f"the first layer comes {side_words(offset.mm - former)}; more negative is nearer"
    proposals = offset_proposals(bench.machine, bench.settings.shown, offset.mm, effect)
    return Option("as touched", "home Z again, then the mesh and the first layer", proposals, {"offset": offset.mm})


PLAY = ByHand("take up the play in Z, clean the nozzle")


def _concluded(
    bench: Bench, aim: TouchParameters, offset: Offset, former: float, gauge_mm: float, hot: bool, count: int
) -> TrialResult:
    held = conditions(bench)
    change = offset.mm - former
    findings = [
        _offset_finding(offset),
        Finding("scatter", offset.deviation_mm, None, "mm", aim.limit_mm, words="deviation of the touches"),
        Finding("change", change, offset.uncertainty_mm, "mm", words="change of the offset"),
        Finding("gauge", gauge_mm, unit="mm", words="gauge"),
    ]
    why = (
        f"Z offset {offset.mm:.3f} ±{2 * offset.uncertainty_mm:.3f} mm (more negative is nearer), {side_words(change)}."
    )
    with bench.aside():
        before = bench.record.earlier("z-offset")
        other = before.finding("offset") if before is not None else None
        was_c = next((celsius for name, celsius in _nozzles(bench, before).items()), None)
    now_c = nozzle_c(bench)
    if other is not None and was_c is not None and abs(was_c - now_c) > DIFFERS_C:
        differs = (offset.mm - other.value) * (1 if now_c > was_c else -1)
        findings.append(Finding("hot_less_cold", differs, unit="mm", words="hot less cold"))
        why += f" Hot and cold differ by {differs:+.3f} mm on this machine."
    if not hot:
        why += (
            f" Done cold: {DROP_MM:g} mm are taken off for the drop that hangs at a cold nozzle. A hot one is longer: "
            "do it once more at printing temperature."
        )
    touched = _as_touched(bench, offset, former)
    leave = Option("leave it", "the offset stays", (), {})
    if offset.deviation_mm > aim.limit_mm:
        why += f" The touches differ by {offset.deviation_mm:.3f} mm: touch again, and look for play in Z."
        return TrialResult("failed", why, held, tuple(findings), (leave, touched), leave.name, (StartAgain(), PLAY))
    if count < aim.repeats:
        why += f" Stopped after {count} of {aim.repeats} touches: what they say is offered, no more is claimed."
        return TrialResult("failed", why, held, tuple(findings), (touched, leave), touched.name, (StartAgain(),))
    if abs(change) <= 2 * offset.uncertainty_mm:
        why += " The change is smaller than the measurement error: leave it."
        return TrialResult("proven", why, held, tuple(findings), (leave, touched), leave.name)
    return TrialResult("proven", why, held, tuple(findings), (touched,), touched.name)


def _nozzles(bench: Bench, result: TrialResult | None) -> dict[str, float]:
    """How warm the hotends were in a result, °C."""
    conditions = result.conditions if result is not None else {}
    names = (f"{name}_c" for name in hotends(bench.machine))
    return {name: float(value) for name in names if isinstance(value := conditions.get(name), (int, float))}


def _needs(machine: MachineFile, aim: TouchParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    probe = machine.probe
    if probe is not None and probe.kind != "nozzle":
        if machine.axes.z.homing.end != "probe":
            words = "Z homes to an endstop beside the probe: home it with the probe (axes.z.homing.end) first"
            return (Need(words, False),)
        try:
            reach_of(machine)
        except TrialFailed as missing:
            return (Need(str(missing), False),)
    warm = bool(aim.material or aim.nozzle_c)
    hot = Need("hot, as one prints" if warm else "cold: at printing temperature is better", warm, False)
    return (Need(f"probe: {probe.kind if probe is not None else 'none'}", True), hot, *warm_needs(machine, aim, read))


def _announce(machine: MachineFile, aim: TouchParameters) -> str:
    gauge = show(aim.gauge_mm or gauge_of(machine), "mm", 3)
    return (
        f"Homes axes not yet homed, then {aim.repeats} times over the middle of the bed: the probe triggers, if there "
        f"is one, and you lower the nozzle onto the gauge ({gauge}) in steps of {STEPS_MM[0]:g} to {STEPS_MM[-1]:g} "
        f"mm, no deeper than {aim.deepest_mm:g} mm below where it should touch. Corners come first: turning them later "
        f"makes it stale. {warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    finding = result.finding("offset")
    return f"{finding.value:.3f} mm" if finding is not None else ""


A_TOUCH_S = 17.0
"""Motion of one touch of the gauge, s."""


def _lasts(machine: MachineFile, aim: TouchParameters, times: TrialTimes) -> float:
    touching_s = aim.repeats * A_TOUCH_S + times.watching_s(machine, aim.repeats, 1)
    return times.home_s(machine) + warming_s(machine, aim, times) + touching_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "z-offset",
        "Z offset",
        "The nozzle lowered onto a gauge over a place where the probe triggered: how far apart they are.",
        TouchParameters,
        z_offset,
        (TOUCHED, TOUCHES),
        _announce,
        _needs,
        figure=_figure,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=lambda machine: probing_uses(machine) if senses(machine) else moving("programs")(machine),
        facts=facts("screw", "nozzle", "surface"),
    ),
)
