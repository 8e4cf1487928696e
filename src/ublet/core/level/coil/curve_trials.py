"""Trials of the station *coil probe*: its drive current at a stated height, then its frequency against height."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ublet.core.bench import Bench
from ublet.core.level.coil.curve import MAX_V, MIN_V, CoilCurve, CoilReading, coil_of, fit_curve, no_coil, read_coil
from ublet.core.level.gauging import LIFT_MM_S, TRAVEL_MM_S, gauge_setting, onto_gauge
from ublet.core.level.probe.offset_trials import OFFSET
from ublet.core.level.reach import probe_offset
from ublet.core.level.support.corner_hand_trials import gauge_of
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import moving, number_of, preheat_words
from ublet.core.plugged import answers_elsewhere
from ublet.core.remedy import ByHand, ChangeParameter
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part, Value, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.units import show

ROOT = "probe.coil"
LADDER_MA = (0.1, 0.2, 0.4, 0.7, 1.1, 1.6)
FAR_MM = 8.0
"""Far from the bed: the coil is at its loudest, mm up from the stated height."""

HIGHEST_V = 1.7
"""The loudest that it is to be, V: room for what other metal and warmth do."""

PROFILE_MM = (4.0, 2.5, 1.5, 0.8)
"""Between near and far its loudness is read at so many heights over the near one, mm."""

LOUD_ENOUGH, MOST_MM, MOUNT_U_MM, LOWER_MM = 1.03, 5.0, 0.15, 0.3
"""A coil is mounted for so much more than the least loudness; by no more than this; within this; what is not worth
it, mm.
"""

CLEAR_MM, BACK_MM = 2.0, 1.0
UPWARD_MM = (0.3, 0.5, 0.8)
"""Places, as shares of the working range, at which it is read once more on the way up."""

DRIVEN = Stream("driven", ("drive_ma", "up_mm", "volts", "deviation_hz"), ("mA", "mm", "V", "Hz"))
"""Loudness and scatter by drive current, near and far."""

CURVE = Stream("curve", ("height_mm", "hz", "deviation_hz", "warmth_c"), ("mm", "Hz", "Hz", "°C"))
"""The frequency at every height, on the way down."""


class CoilCurrentParameters(Part):
    """Where the nozzle stands."""

    height_mm: float = setting("Thickness of the gauge below the nozzle.", unit="mm", low=0.1, high=10, default=1.0)
    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=0.2, high=20, default=4.0)


class CurveParameters(Part):
    """The working range."""

    gauge_mm: float = gauge_setting()
    top_mm: float = setting("Heights up to this.", unit="mm", low=2, high=10, default=5.0)
    points: int = setting("Number of heights.", low=8, high=80, default=24)
    trigger_mm: float = setting(
        "Height over the bed at which it must detect metal.", unit="mm", low=0.3, high=5, default=1.5
    )
    speed_mm_s: float = setting("Speed of jogging.", unit="mm/s", low=0.2, high=20, default=4.0)


async def coil_current(bench: Bench, aim: CoilCurrentParameters) -> TrialResult:
    """Near the bed at a stated height and far from it, with one current after the other: it must be loud enough near
    and not too loud far.
    """
    coil_of(bench.machine)
    if (elsewhere := answers_elsewhere(bench, "coil")) is not None:
        words, option = elsewhere
        plug = ByHand("plug the coil's module into the declared socket, switch the board off and on")
        return TrialResult("failed", words, {}, (), (option,), option.name, (plug,))
    before = number_of_shown(bench, f"{ROOT}.drive_ma")
    await onto_gauge(bench, aim.height_mm, aim.speed_mm_s)
    near = await _ladder(bench, 0.0, 0.1)
    await bench.motion.move("z", FAR_MM, LIFT_MM_S)
    far = await _ladder(bench, FAR_MM, 0.6)
    loud, quiet = _volts_a_ma(far), _volts_a_ma(near)
    drive = round(HIGHEST_V / loud, 2)
    near_v, far_v = quiet * drive, loud * drive
    higher_mm = await _mounted_higher(bench, drive, near_v, far_v)
    findings = (
        Finding("near", near_v, 0.01, "V", words=f"amplitude at {aim.height_mm:g} mm"),
        Finding("far", far_v, 0.01, "V", words="amplitude far from the bed"),
        Finding("drive", drive, 0.01 * drive, "mA", words="drive current"),
        Finding("mount", higher_mm, MOUNT_U_MM, "mm", words="mount it higher by (negative: it may hang lower)"),
    )
    loudness = (
        f"With {drive:g} mA it rings with {near_v:.2f} V at {aim.height_mm:g} mm and {far_v:.2f} V far from the bed"
    )
    if near_v < MIN_V:
        return TrialResult(
            "failed",
            f"{loudness}: too quiet near the bed (at least {MIN_V:g} V), and more current would drive it into its "
            f"rails far from it. Mount it {higher_mm:.1f} mm higher, or work at larger heights.",
            {},
            findings,
            remedies=(
                ByHand(f"mount the coil {higher_mm:.1f} mm higher"),
                ChangeParameter("height_mm", f"{aim.height_mm + higher_mm:.1f} mm"),
            ),
        )
    if higher_mm < -LOWER_MM:
        loudness += (
            f". It may hang up to {-higher_mm:.1f} mm lower and still be loud enough there, as long as it clears the "
            "bed (station probe place, trial probe-height); nearer to the bed its readings scatter less"
        )
    if abs(drive - before) <= 0.02 * drive:
        return TrialResult("proven", f"{loudness}. This value is already live: no change.", {}, findings)
    effect = "as loud as it may be far from metal, so that it scatters least near it"
    proposal = Proposal(f"{ROOT}.drive_ma", before, drive, "mA", effect)
    option = Option("as measured", "then its curve, which belongs to this current", (proposal,), {})
    return TrialResult("proven", f"{loudness}.", {}, findings, (option,), "as measured")


async def _mounted_higher(bench: Bench, drive: float, near_v: float, far_v: float) -> float:
    """How much higher it is to be mounted to be just loud enough at the stated height, mm; negative: lower.

    How loud it is on the way down from afar, at that current; between these ``V = far - a exp(-h / l)``, by a straight
    line through the logarithms of what is missing (Beer's law of an exponentially decaying field).
    """
    heights, missing = [0.0], [far_v - near_v]
    here = FAR_MM
    async with bench.settings.borrowed({f"{ROOT}.drive_ma": drive}):
        for up in PROFILE_MM:
            await bench.motion.move("z", up - here, LIFT_MM_S)
            here = up
            volts = (await read_coil(bench)).volts
            bench.record.row(DRIVEN.name, (drive, up, volts, 0.0))
            heights.append(up)
            missing.append(far_v - volts)
    good = [(mm, volts) for mm, volts in zip(heights, missing, strict=True) if volts > 0.01 * far_v]
    if len(good) < 3:
        return 0.0
    slope, start = np.polyfit([mm for mm, _ in good], np.log([volts for _, volts in good]), 1)
    wanted_v = far_v - LOUD_ENOUGH * MIN_V
    if slope >= 0 or wanted_v <= 0:
        return 0.0
    return float(np.clip((np.log(wanted_v) - start) / slope, -MOST_MM, MOST_MM))


def number_of_shown(bench: Bench, path: str) -> float:
    """A number on the board, to stand beside a proposal."""
    value = bench.settings.shown(path)
    return float(value) if isinstance(value, (int, float)) else 0.0


async def _ladder(bench: Bench, up_mm: float, done: float) -> list[tuple[float, CoilReading]]:
    rungs = []
    for number, drive in enumerate(LADDER_MA):
        fraction = done + 0.3 * number / len(LADDER_MA)
        bench.progress(Progress(f"{drive:g} mA", fraction, None, "near the bed" if not up_mm else "far from it"))
        async with bench.settings.borrowed({f"{ROOT}.drive_ma": drive}):
            rungs.append((drive, await read_coil(bench)))
        bench.record.row(DRIVEN.name, (drive, up_mm, rungs[-1][1].volts, rungs[-1][1].deviation_hz))
        if rungs[-1][1].volts > MAX_V:
            break  # louder still shows nothing more
    return rungs


def _volts_a_ma(ladder: list[tuple[float, CoilReading]]) -> float:
    """How loud a milliampere makes it, V, by those currents that do not drive it into its rails."""
    good = [(drive, reading.volts) for drive, reading in ladder if reading.volts <= MAX_V]
    if len(good) < 2:
        raise TrialFailed(
            "Even the smallest currents drive the coil into its rails: it is another coil, or no metal near.",
            ByHand("bring metal below the coil, or fit the coil that is declared"),
        )
    return sum(drive * volts for drive, volts in good) / sum(drive * drive for drive, _ in good)


async def coil_curve(bench: Bench, aim: CurveParameters) -> TrialResult:
    """The nozzle touches a gauge; the coil is put over the same place and read from the top of its range down to
    there, as the nozzle came.
    """
    machine = bench.machine
    coil_of(machine)
    gauge_mm = aim.gauge_mm or gauge_of(machine)
    if aim.trigger_mm >= aim.top_mm:
        raise TrialFailed(
            f"It cannot detect metal at {aim.trigger_mm:g} mm with heights up to {aim.top_mm:g} mm: trigger lower, "
            "or go "
            "higher. Nothing moved.",
            ChangeParameter("trigger_mm", "lower"),
            ChangeParameter("top_mm", "higher"),
        )
    drive = number_of(bench, f"{ROOT}.drive_ma")
    await onto_gauge(bench, gauge_mm, aim.speed_mm_s)
    offset = probe_offset(machine)
    middle = (machine.bed.width_mm / 2, machine.bed.depth_mm / 2)
    await bench.motion.move("z", aim.top_mm - gauge_mm + CLEAR_MM, LIFT_MM_S)
    await bench.motion.go({"x": middle[0] - offset[0], "y": middle[1] - offset[1]}, TRAVEL_MM_S)
    heights = np.linspace(aim.top_mm, gauge_mm, aim.points)
    here = aim.top_mm + CLEAR_MM
    readings: list[CoilReading] = []
    for number, height in enumerate(heights.tolist()):
        bench.progress(Progress(f"{height:.2f} mm", number / aim.points, None, f"{number + 1} of {aim.points} heights"))
        await bench.motion.move("z", height - here, LIFT_MM_S)
        here = height
        readings.append(await read_coil(bench))
        bench.record.row(CURVE.name, (height, readings[-1].hz, readings[-1].deviation_hz, readings[-1].celsius))
    try:
        curve = fit_curve(heights.tolist(), [reading.hz for reading in readings])
    except ValueError as error:
        raise TrialFailed(
            f"The readings make no curve: {error}. Look at the coil’s plug and mount.",
            ByHand("check the coil's plug and mount"),
        ) from error
    backlash_um = await _backlash(bench, curve, here, aim.top_mm)
    return _curve_result(bench, aim, curve, readings, backlash_um, drive)


async def _backlash(bench: Bench, curve: CoilCurve, here: float, top_mm: float) -> float:
    """How much lower the coil stands where it came from below, µm: Z's play."""
    off = []
    for fraction in UPWARD_MM:
        height = here + fraction * (top_mm - here)
        await bench.motion.move("z", height - here, LIFT_MM_S)
        here = height
        reading = await read_coil(bench)
        off.append(1000 * (height - float(curve.height(reading.hz))))
    return sum(off) / len(off)


def _curve_result(
    bench: Bench,
    aim: CurveParameters,
    curve: CoilCurve,
    readings: list[CoilReading],
    backlash_um: float,
    drive: float,
) -> TrialResult:
    low, top = float(curve.heights[0]), float(curve.heights[-1])
    scatter = {height: _scatter_at(readings, curve, height) for height in (low, aim.trigger_mm, top)}
    resolves = {height: curve.resolves_um(height, hz) for height, hz in scatter.items()}
    residual_um = max(curve.resolves_um(aim.trigger_mm, curve.residual_hz), 0.1)
    warmth = sum(reading.celsius for reading in readings) / len(readings)
    trigger_hz = float(curve.frequency(aim.trigger_mm))
    named = {low: "low", aim.trigger_mm: "trigger", top: "top"}
    findings = [
        Finding("residual", residual_um, None, "µm", words=f"left by the curve at {aim.trigger_mm:g} mm"),
        Finding("play", backlash_um, 3.0, "µm", words="coming from below it stands lower by"),
        *(
            Finding(f"resolves_{named[height]}", um, None, "µm", words=f"deviation of a reading at {height:.1f} mm")
            for height, um in resolves.items()
        ),
    ]
    fine = ", ".join(f"{um:.1f} µm at {height:.1f} mm" for height, um in resolves.items())
    why = f"It falls all the way from {low:.1f} to {top:.1f} mm; s.d. of one reading: {fine}."
    if abs(backlash_um) > 10:
        why += (
            f" Coming from below it stands {backlash_um:.0f} µm lower: Z has play; it is always read on the way down."
        )
    values: dict[str, Value] = {
        f"{ROOT}.curve_low_mm": round(low, 4),
        f"{ROOT}.curve_top_mm": round(top, 4),
        f"{ROOT}.curve_hz": tuple(round(float(hz), 1) for hz in curve.hz),
        f"{ROOT}.far_hz": round(curve.far_hz, 1),
        f"{ROOT}.trigger_hz": round(trigger_hz, 1),
        f"{ROOT}.warmth_c": round(warmth, 1),
        OFFSET: -aim.trigger_mm,
    }
    units = {"_mm": "mm", "_hz": "Hz", "_c": "°C"}
    proposals = tuple(
        Proposal(
            path,
            bench.settings.shown(path),
            after,
            next(unit for ending, unit in units.items() if path.endswith(ending)),
            "used to convert frequency to height" if path != OFFSET else "it triggers this high over the bed",
        )
        for path, after in values.items()
        if bench.settings.shown(path) != after
    )
    option = Option("this curve", "home Z, then its drift and the Z offset", proposals, {})
    return TrialResult(
        "proven", why, {"drive_ma": drive, "coil_c": round(warmth, 1)}, tuple(findings), (option,), option.name
    )


def _scatter_at(readings: list[CoilReading], curve: CoilCurve, height: float) -> float:
    """How much a single reading scatters at a height, Hz."""
    at = np.array([float(curve.height(reading.hz)) for reading in readings])
    return float(np.interp(height, at[::-1], [reading.deviation_hz for reading in readings][::-1]))


def coil_needs(machine: MachineFile) -> tuple[Need, ...]:
    """A coil is declared."""
    missing = no_coil(machine)
    return (Need(missing, False),) if missing else (Need("probe: coil", True),)


def _hands(machine: MachineFile, gauge_mm: float) -> str:
    return (
        "Homes X and Y, not Z, which homes by the coil. You lower the nozzle onto a gauge of "
        f"{show(gauge_mm, 'mm', 3)} over the middle of the bed. {{}} {preheat_words(machine, ('x', 'y'))}"
    )


def _announce_current(machine: MachineFile, aim: CoilCurrentParameters) -> str:
    return _hands(machine, aim.height_mm).format(f"Then Z goes up by {FAR_MM:g} mm.")


def _announce_curve(machine: MachineFile, aim: CurveParameters) -> str:
    gauge_mm = aim.gauge_mm or gauge_of(machine)
    return _hands(machine, gauge_mm).format(
        f"Then the coil comes over the same place, and down from {aim.top_mm:g} mm in {aim.points} steps."
    )


def _needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return coil_needs(machine)


def _figure_current(result: TrialResult) -> str:
    finding = result.finding("drive")
    return f"{finding.value:g} mA" if finding is not None else ""


def _figure_curve(result: TrialResult) -> str:
    finding = result.finding("resolves_trigger")
    return f"{finding.value:.1f} µm a reading" if finding is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "coil-current",
        "coil probe",
        "The drive current with which the coil is loud enough near the bed and not too loud far from it.",
        CoilCurrentParameters,
        coil_current,
        (DRIVEN,),
        _announce_current,
        _needs,
        figure=_figure_current,
        idle=no_coil,
        asks=lambda aim: True,
        uses=moving("programs", "coil"),
        facts=facts("probe"),
    ),
    TrialSpec(
        "coil-curve",
        "coil probe",
        "Its frequency against height over the working range: a curve that falls throughout, and its height noise.",
        CurveParameters,
        coil_curve,
        (CURVE,),
        _announce_curve,
        _needs,
        figure=_figure_curve,
        idle=no_coil,
        asks=lambda aim: True,
        uses=moving("programs", "coil"),
        facts=facts("probe", "nozzle"),
    ),
)
