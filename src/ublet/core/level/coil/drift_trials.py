"""Trial of the station *coil probe*: what the coil's own warmth adds, by touches at rising temperatures."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.bench import Bench
from ublet.core.heat.demands import beds
from ublet.core.heat.start import reach
from ublet.core.level.coil.curve import (
    CoilCurve,
    TemperatureEffect,
    coil_of,
    curve_of,
    drift_hz,
    fit_drift,
    no_coil,
    read_coil,
)
from ublet.core.level.coil.curve_trials import ROOT, coil_needs
from ublet.core.level.mesh.live import unfollowed
from ublet.core.level.reach import probe_offset
from ublet.core.level.support.corner_hand_trials import gauge_of
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_unhomed, number_of, preheat_words
from ublet.core.observations import LowerOntoGauge
from ublet.core.questions import Jog
from ublet.core.remedy import ChangeParameter, ChangeSetting, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, Value, setting
from ublet.core.trial import Need, TrialSpec, facts

STEPS_MM = (1.0, 0.1, 0.05, 0.01)
CLEAR_MM, TRAVEL_MM_S, DOWN_MM_S = 5.0, 60.0, 4.0
HEIGHTS_MM = (3.2, 2.0, 1.2, 0.7)
"""Height above the touched place at which it is read each time, on the way down, mm."""

NEARER_MM = 1.5
LEAST_C = 3.0
"""A touch at a coil that is warmer by less than this than at the one before shows nothing new, °C."""

STEADY_S, LOOKS_S = 30.0, 5.0
"""The bed is at its temperature for so long before a touch, and the coil's warmth is looked at so often, s."""

GOOD_UM = 15.0
BEYOND_C = 3.0
"""How far beyond the warmest touch the drift still holds, °C."""

DRIFTED = Stream("drifted", ("warmth_c", "height_mm", "hz"), ("°C", "mm", "Hz"))
"""Every reading: how warm the coil was, how high the nozzle stood over the touched place."""


class DriftParameters(Part):
    """How warm, and how often."""

    bed_c: float = setting("Bed temperature at the last touch.", unit="°C", low=40, high=130, default=100.0)
    touches: int = setting("Touches, the first one as it is.", low=3, high=12, default=5)
    step_c: float = setting("The coil is that much warmer at each touch.", unit="°C", low=3, high=30, default=8.0)
    soak_s: float = setting("Longest wait for the coil to warm by a step.", unit="s", low=10, high=3600, default=600.0)
    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=0.2, high=10, default=2.0)


async def coil_drift(bench: Bench, aim: DriftParameters) -> TrialResult:
    """A touch with the nozzle on its gauge, then the coil over the same place at four heights; again and again while
    the bed warms the coil. What shifts is the coil's own warmth: the bed's rise is in the touch.
    """
    machine = bench.machine
    coil_of(machine)
    curve = curve_of(machine)
    warmth_c = number_of(bench, f"{ROOT}.warmth_c")
    heater = _bed_of(machine, aim)
    bench.motion.clear_at_the_end(CLEAR_MM)
    await home_unhomed(bench, ("x", "y", "z"))
    rows: list[tuple[float, float, float, int]] = []
    warmest = first_c = -1000.0
    start_c = bench.heat.celsius(machine.heaters[heater].sensor) or 25.0
    async with bench.settings.borrowed({"axes.z.soft_limits": False, **unfollowed(bench)}):
        for number in range(aim.touches):
            if number:
                target = start_c + (aim.bed_c - start_c) * number / (aim.touches - 1)
                fraction = number / aim.touches
                await reach(bench, heater, target, fraction, STEADY_S, "the bed warms the coil")
                await _warmed(bench, aim, first_c + number * aim.step_c, fraction)
            bench.progress(Progress(f"touch {number + 1}", number / aim.touches, None, f"of {aim.touches}"))
            touched = await _touched(bench, aim, number)
            if touched is None:
                break
            readings = await _read(bench, touched, warmth_c)
            first_c = readings[0][2] + warmth_c if not number else first_c
            if number and readings[0][2] + warmth_c < warmest + LEAST_C:
                continue  # the coil has not followed: nothing new
            warmest = max(warmest, max(row[2] for row in readings) + warmth_c)
            rows += [(*row, number) for row in readings]
    await bench.heat.off(heater)
    return _concluded(bench, curve, rows, warmth_c)


async def _warmed(bench: Bench, aim: DriftParameters, wanted_c: float, done: float) -> None:
    """Wait until the coil is as warm as it is to be at the next touch, so that touches lie in equal steps of its own
    warmth; at most the longest wait.
    """
    began_s = bench.clock.now_s()
    start_c: float | None = None
    while (waited_s := bench.clock.now_s() - began_s) < aim.soak_s:
        now_c = (await read_coil(bench)).celsius
        start_c = now_c if start_c is None else start_c
        if now_c >= wanted_c:
            return
        rate = (now_c - start_c) / waited_s if waited_s > LOOKS_S else 0.0
        left_s = min(aim.soak_s - waited_s, (wanted_c - now_c) / rate) if rate > 0 else aim.soak_s - waited_s
        bench.progress(Progress("the coil warms", done, left_s, f"{now_c:.1f} of {wanted_c:.1f} °C"))
        await bench.clock.rest(LOOKS_S)


def _bed_of(machine: MachineFile, aim: DriftParameters) -> str:
    """The heater that warms the coil.

    Raises:
        TrialFailed: there is none, or it may not get so hot.
    """
    names = beds(machine)
    if not names:
        raise TrialFailed(
            "No bed heater is declared: nothing warms the coil.",
            ChangeSetting("heaters", 'set part = "bed" at the heater of the bed'),
        )
    most = machine.heaters[names[0]].maximum_c
    if aim.bed_c > most:
        raise TrialFailed(
            f"The {names[0]} may be {most:g} °C at the most: {aim.bed_c:g} is too hot. Nothing heats.",
            ChangeParameter("bed_c", f"{most:g} °C or less"),
        )
    return names[0]


async def _touched(bench: Bench, aim: DriftParameters, number: int) -> float | None:
    """Z at which the tip would touch the bed there; None: the builder has had enough.

    Raises:
        TrialFailed: stopped before there were two touches.
    """
    bed, gauge_mm = bench.machine.bed, gauge_of(bench.machine)
    await bench.motion.go({"z": CLEAR_MM}, DOWN_MM_S)
    await bench.motion.go({"x": bed.width_mm / 2, "y": bed.depth_mm / 2}, TRAVEL_MM_S)
    await bench.motion.go({"z": NEARER_MM}, DOWN_MM_S)
    enough = "enough" if number > 1 else "stop here"
    asked = Jog(
        f"Touch {number + 1} of {aim.touches}: lay the gauge ({gauge_mm:g} mm) below the nozzle and lower Z until it "
        "just drags. Wipe the nozzle first."
        + (" “enough” ends here: the drift then holds up to how warm the coil was." if number > 1 else ""),
        ("it drags", enough),
        LowerOntoGauge(gauge_mm),
        axes=("z",),
        steps=STEPS_MM,
        floor={"z": -2.0},
    )
    jogged = await bench.builder.jog(asked, aim.speed_mm_s)
    if jogged.answer == "it drags":
        return jogged.position["z"] - gauge_mm
    if number > 1:
        return None
    raise TrialFailed("Stopped before two temperatures were touched: the drift stays as it was.", StartAgain())


async def _read(bench: Bench, touched: float, warmth_c: float) -> list[tuple[float, float, float]]:
    """The coil over the touched place: height, frequency, and how much warmer than its curve."""
    offset, bed = probe_offset(bench.machine), bench.machine.bed
    await bench.motion.go({"z": CLEAR_MM}, DOWN_MM_S)
    await bench.motion.go({"x": bed.width_mm / 2 - offset[0], "y": bed.depth_mm / 2 - offset[1]}, TRAVEL_MM_S)
    readings = []
    for height in HEIGHTS_MM:
        await bench.motion.go({"z": touched + height}, DOWN_MM_S)
        reading = await read_coil(bench)
        bench.record.row(DRIFTED.name, (reading.celsius, height, reading.hz))
        readings.append((height, reading.hz, reading.celsius - warmth_c))
    return readings


def shift_um(curve: CoilCurve, terms: tuple[float, float, float], over_c: float, mm: float) -> float:
    """How wrong a height would be measured without the drift, µm."""
    over = float(curve.frequency(mm)) - curve.far_hz
    return 1000 * drift_hz(terms, over_c, over) / abs(curve.slope(mm))


def _concluded(
    bench: Bench, curve: CoilCurve, rows: list[tuple[float, float, float, int]], warmth_c: float
) -> TrialResult:
    try:
        drift: TemperatureEffect = fit_drift(curve, rows)
    except ValueError as error:
        raise TrialFailed(
            f"Nothing can be said of the drift: {error}. Warm the bed further, or hold it longer.",
            ChangeParameter("bed_c", "warmer"),
            ChangeParameter("soak_s", "longer"),
        ) from error
    warm = [row[2] + warmth_c for row in rows]
    holds = round(max(warm) + BEYOND_C, 0)
    shifts = shift_um(curve, drift.terms, max(warm) - warmth_c, NEARER_MM)
    over = float(curve.frequency(NEARER_MM)) - curve.far_hz
    shift_u = drift.shift_u_um(max(warm) - warmth_c, over, curve.slope(NEARER_MM))
    good = drift.residual_um <= GOOD_UM
    findings = (
        Finding("residual", drift.residual_um, None, "µm", GOOD_UM, words="left by the drift"),
        Finding("shift", shifts, shift_u, "µm", words=f"shift at {max(warm):.0f} °C, at {NEARER_MM:g} mm"),
        Finding("holds_to", holds, None, "°C", words="holds up to"),
    )
    why = (
        f"From {min(warm):.0f} to {max(warm):.0f} °C of its own warmth heights shift by {shifts:+.0f} µm at "
        f"{NEARER_MM:g} mm; the drift leaves {drift.residual_um:.1f} µm of that. It holds up to {holds:.0f} °C."
    )
    if not good:
        why += f" That is more than {GOOD_UM:g} µm: touch more carefully, hold each temperature longer."
        return TrialResult(
            "failed", why, {}, findings, remedies=(ChangeParameter("step_c", "larger steps"), StartAgain())
        )
    values: dict[str, Value] = {
        f"{ROOT}.drift": tuple(float(f"{term:.6g}") for term in drift.terms),
        f"{ROOT}.holds_to_c": holds,
    }
    proposals = tuple(
        Proposal(path, bench.settings.shown(path), value, "" if path.endswith("drift") else "°C", "heights stay put")
        for path, value in values.items()
    )
    option = Option("as measured", "corrects heights to the coil temperature of its curve", proposals, {})
    return TrialResult("proven", why, {}, findings, (option,), option.name)


def _needs(machine: MachineFile, aim: DriftParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    missing = no_coil(machine)
    if missing:
        return coil_needs(machine)
    try:
        curve_of(machine)
    except TrialFailed as error:
        return (Need(str(error), False),)
    return (*coil_needs(machine), Need("its curve", True))


def _announce(machine: MachineFile, aim: DriftParameters) -> str:
    return (
        f"Homes axes not yet homed. {aim.touches} times you lower the nozzle onto the gauge over the middle of the bed "
        f"and the coil is read there, while the bed heats step by step to {aim.bed_c:g} °C, each "
        f"time when the coil has warmed by {aim.step_c:g} °C. {preheat_words(machine, ('x', 'y', 'z'))}"
    )


def _figure(result: TrialResult) -> str:
    finding = result.finding("holds_to")
    return f"holds to {finding.value:.0f} °C" if finding is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "coil-drift",
        "coil probe",
        "What the coil's own warmth adds to its frequency, by touches while the bed warms it.",
        DriftParameters,
        coil_drift,
        (DRIFTED,),
        _announce,
        _needs,
        figure=_figure,
        idle=no_coil,
        asks=lambda aim: True,
        uses=lambda machine: ("motion", "programs", "heat", "coil"),
        facts=facts("probe", "nozzle"),
    ),
)
