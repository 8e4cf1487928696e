"""Steps per millimetre by measurement, made in a trial or read from a table: the new value and its uncertainty."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.motion.measuring import INSTRUMENTS, Instrument, Length

StepsFinding = Literal["still", "stutters", "typical", "off", "good"]

COVERAGE = 2.0
"""A difference within so many standard uncertainties is no difference: about 95 of 100 honest measurements."""

APART = 3.0
"""The same for motors beside each other: several are compared at once."""

TYPICAL = 0.02
"""A ratio within this share of a common one of parts is taken for it."""

PULLEYS = (16, 18, 20, 24, 32, 36, 40)
"""Teeth of common pulleys."""

STEP_ANGLES_DEG = (0.9, 1.8)

LEADS_MM = (1.0, 2.0, 4.0, 8.0, 10.0, 12.0)
"""Travel in a turn of common screws, mm."""


@dataclass(frozen=True)
class AxisDrive:
    """What is declared of an axis's drive, for naming a wrong part: teeth or lead of its kind, microsteps."""

    kind: Literal["belt", "screw"]
    microsteps: int
    step_angle_deg: float = 1.8
    teeth: int = 20
    lead_mm: float = 8.0


@dataclass(frozen=True)
class StepsAssessment:
    """What a measurement shows: steps per mm that it gives, their standard uncertainty, and what to do, in a sentence.

    proposed: the value to write; None where nothing should be written.
    """

    kind: StepsFinding
    measured: float
    uncertainty: float
    words: str
    proposed: float | None = None

    @property
    def good(self) -> bool:
        """Whether the axis is as long as it says."""
        return self.kind == "good"


def judge_steps(now: float, geometry: float, commanded_mm: float, length: Length, drive: AxisDrive) -> StepsAssessment:
    """What repeated measurements of a commanded move show about steps per millimetre.

    ``new = now * commanded / measured``, ``u(new) / new = u(measured) / measured`` (the commanded length is exact). A
    ratio near that of common parts names the part; inside two uncertainties of now it is left, and also inside the
    largest error of one reading, however many there were; inside the same of the geometry the geometry is proposed.
    """
    if abs(length.mean_mm) < max(0.02 * commanded_mm, 2 * length.uncertainty_mm):
        words = "it did not move: not enabled, no current, or a wire open"
        return StepsAssessment("still", 0.0, 0.0, words)
    measured = now * commanded_mm / length.mean_mm
    uncertainty = abs(measured) * length.uncertainty_mm / abs(length.mean_mm)
    if length.stutters:
        words = (
            f"readings scatter by {length.deviation_mm:.2f} mm, more than their instrument does: "
            "a loose pulley, or too little driver current"
        )
        return StepsAssessment("stutters", measured, uncertainty, words)
    error = max(COVERAGE * uncertainty, abs(measured * length.errors.largest_mm / length.mean_mm))
    if abs(measured - now) <= error:
        return StepsAssessment("good", measured, uncertainty, _leave(now, geometry, abs(measured - geometry) <= error))
    if abs(measured - geometry) <= error:
        words = f"the measurement agrees with the geometry, {geometry:g}, and not with {now:g} on the board"
        return StepsAssessment("off", measured, uncertainty, words, geometry)
    ratio = length.mean_mm / commanded_mm
    part = typical_part(ratio, drive)
    if part is not None:
        named, exact = part
        words = f"measured / commanded travel is {ratio:.3g}: {named}"
        return StepsAssessment("typical", measured, uncertainty, words, now / exact)
    words = f"measured − commanded is {length.mean_mm - commanded_mm:+.2f} mm, outside the measurement error"
    return StepsAssessment("off", measured, uncertainty, words, measured)


def _leave(now: float, geometry: float, geometry_fits: bool) -> str:
    if abs(now - geometry) < 1e-6 * geometry:
        return "leave it: what geometry gives agrees within the measurement error"
    beside = f"; so is the geometry's, {geometry:g}" if geometry_fits else ""
    return f"leave it: the value on the board agrees within the measurement error{beside}"


def typical_part(ratio: float, drive: AxisDrive) -> tuple[str, float] | None:
    """The part that would explain a ratio of measured to commanded travel, and its exact ratio; None: none does.

    First microsteps and step angles (powers of two), then the pulley or the screw; a screw of another lead is also a
    power of two and is named beside.
    """
    for exact in (0.25, 0.5, 2.0, 4.0):
        if abs(ratio / exact - 1) < TYPICAL:
            real = drive.microsteps / exact
            likely = [f"the driver makes {real:g} microsteps, not {drive.microsteps}"] if 1 <= real <= 256 else []
            if (angle := drive.step_angle_deg * exact) in STEP_ANGLES_DEG:
                likely.append(f"the motor has a full step of {angle:g}°")
            if drive.kind == "screw" and drive.lead_mm * exact in LEADS_MM:
                likely.insert(0, f"the screw has a lead of {drive.lead_mm * exact:g} mm, not {drive.lead_mm:g}")
            return " or ".join(likely), exact
    if drive.kind == "belt":
        for teeth in PULLEYS:
            exact = teeth / drive.teeth
            if teeth != drive.teeth and abs(ratio / exact - 1) < TYPICAL:
                return f"the pulley has {teeth} teeth, not {drive.teeth}", exact
    else:
        for lead in LEADS_MM:
            exact = lead / drive.lead_mm
            if lead != drive.lead_mm and abs(ratio / exact - 1) < TYPICAL:
                return f"the screw has a lead of {lead:g} mm, not {drive.lead_mm:g}", exact
    return None


def other_parts(geometry: float, drive: AxisDrive) -> tuple[tuple[str, float], ...]:
    """What common other parts would make of an axis's steps per millimetre, for whoever looks for a wrong one."""
    if drive.kind == "belt":
        near = [teeth for teeth in PULLEYS if teeth != drive.teeth and 0.5 <= teeth / drive.teeth <= 2]
        parts = [(f"{teeth} teeth", geometry * drive.teeth / teeth) for teeth in near]
    else:
        parts = [(f"lead {lead:g} mm", geometry * drive.lead_mm / lead) for lead in LEADS_MM if lead != drive.lead_mm]
    angle = 0.9 if drive.step_angle_deg == 1.8 else 1.8
    parts.append((f"{angle:g}° motor", geometry * drive.step_angle_deg / angle))
    micro = [factor for factor in (drive.microsteps // 2, drive.microsteps * 2) if 1 <= factor <= 256]
    return (*parts, *((f"{microsteps} microsteps", geometry * microsteps / drive.microsteps) for microsteps in micro))


def differing(lengths: dict[str, Length]) -> tuple[str, ...]:
    """Motors of one axis whose travel differs from the first's by more than the error; empty: they agree."""
    names = list(lengths)
    first = lengths[names[0]]
    wrong = []
    for name in names[1:]:
        length = lengths[name]
        error = APART * math.hypot(first.placing_u_mm, length.placing_u_mm)  # what is common to both cancels
        if abs(length.mean_mm - first.mean_mm) > error:
            wrong.append(name)
    return tuple(wrong)


LONGEST_MM = 10_000.0


@dataclass(frozen=True)
class Scale:
    """Measured over commanded length with its standard uncertainty; what to do, and why."""

    scale: float
    uncertainty: float
    choice: str
    why: str


def analyse_steps(commanded_mm: Floats, measured_mm: Floats, instrument: Instrument = "callipers") -> Scale:
    """The scale of an axis from n readings, by least squares through zero: ``sum(c m) / sum(c^2)``.

    Each placing's error is uniform within the instrument's half-width and scatter beyond it is added in squares; the
    common part shifts every reading alike and moves the scale by ``common sum(c) / sum(c^2)``.

    Raises:
        ValueError: a commanded length of zero, or lengths that no machine has.
    """
    if np.any(commanded_mm == 0):
        raise ValueError("a commanded length is 0: every row needs a move")
    longest = float(max(np.max(np.abs(commanded_mm)), np.max(np.abs(measured_mm))))
    if longest > LONGEST_MM:
        raise ValueError(f"a length of {longest:g} mm is not one of a printer: the columns must be in mm")
    weight = float(np.sum(commanded_mm**2))
    scale = float(np.sum(commanded_mm * measured_mm)) / weight
    count = len(commanded_mm)
    scatter = float(np.sum((measured_mm - scale * commanded_mm) ** 2)) / max(1, count - 1)
    errors = INSTRUMENTS[instrument]
    placing = math.sqrt(max(errors.placing_mm**2 / 3, scatter) / weight)
    common = errors.common_mm / math.sqrt(3) * abs(float(np.sum(commanded_mm))) / weight
    uncertainty = math.hypot(placing, common)
    if abs(scale) <= COVERAGE * uncertainty:
        return Scale(scale, uncertainty, "look", "it did not move: not enabled, no current, or a wire open")
    if scale < 0:
        why = (
            "it moved against the commanded direction, or the readings have the wrong sign: look at its direction first"
        )
        return Scale(scale, uncertainty, "look", why)
    if abs(scale - 1) <= COVERAGE * uncertainty:
        return Scale(scale, uncertainty, "leave it", "no difference beyond the measurement error")
    part = typical_part(scale, AxisDrive("belt", 16)) or typical_part(scale, AxisDrive("screw", 16))
    if part is not None:
        return Scale(
            scale, uncertainty, "look", f"{scale:.3g} times the commanded travel is typical of, for example: {part[0]}"
        )
    return Scale(scale, uncertainty, "change", f"multiply the steps per mm by {1 / scale:.5f}")
