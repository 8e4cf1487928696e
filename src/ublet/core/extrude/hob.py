"""Steps per millimetre of filament: the value that measurements give, wrong parts, and why filament falls short."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

from ublet.core.motion.measuring import Length
from ublet.core.motion.steps import COVERAGE, STEP_ANGLES_DEG, StepsAssessment

Cause = Literal["current", "blocked", "grip", "fast", "nothing"]
"""Why filament falls short: the motor's current, a nozzle that is partly blocked, a hob that slips, a speed that is too
much for the melt; or nothing moves it, whatever is tried.
"""

GEARS = (1.0, 3.0, 3.5, 5.0, 7.5)
"""Common gear ratios between an extruder's motor and its hob."""

TYPICAL = 0.06
"""A ratio within this share of a common one is taken for it: the drive gear’s effective diameter is known no better.
"""

SHORT = 0.05
"""Filament that falls short by this share slips (the same share marks the flow limit)."""

BUILDS_MM = 3.0
"""The melt's pressure builds up over no more than this, mm of filament."""

SUSPECT = 0.03
"""Shorter than this at the slow speed is looked into: whether the load does it."""

REGAINED = 0.5
"""A cause is named when taking it away brings back this share of what was short."""

HEAT_REGAINED = 0.1
"""For heat less is enough: a nozzle that is all but shut does not open by 20 °C, a hob that slips does not care."""

WEAK_N = 25.0
"""A motor that pushes with less than this is weak; sound melts ask for 5 to 15 N at these speeds, blocked ones more."""

TORQUE_NM_A = 0.2
"""A usual stepper motor's torque for each ampere, N·m."""

NO_FEED_RATIO = 0.02
"""A fed / commanded ratio below this is no motion."""


@dataclass(frozen=True)
class HobDrive:
    """What is declared of the extruder: gear ratio, hob's diameter in mm, microsteps, full step in degrees, amperes."""

    gear_ratio: float
    hob_mm: float
    microsteps: int
    step_angle_deg: float
    run_a: float

    @property
    def pushes_n(self) -> float:
        """About the force that its motor can push with: ``2 pi torque / travel in a turn``, with a usual torque."""
        return 2 * math.pi * TORQUE_NM_A * self.run_a * self.gear_ratio / (math.pi * self.hob_mm / 1000)


@dataclass(frozen=True)
class FeedTests:
    """Shares of what was commanded that went in, at the speed at which it falls short, and when something was changed.

    usual: with nothing changed. sound: what goes in where nothing hinders it. current: with ``amps``; hotter: at
    ``hotter_c``, °C. None: was not tried.
    """

    usual: float
    sound: float = 1.0
    current: float | None = None
    amps: float = 0.0
    hotter: float | None = None
    hotter_c: float = 0.0

    def with_current(self, fraction: float, amps: float) -> FeedTests:
        """The same, and what went in with more current."""
        return replace(self, current=fraction, amps=amps)

    def with_heat(self, fraction: float, celsius: float) -> FeedTests:
        """The same, and what went in hotter."""
        return replace(self, hotter=fraction, hotter_c=celsius)

    def regained(self, fraction: float | None) -> float:
        """How much of what was short came back, 0..1 (more with luck in reading); 0 where it was not tried."""
        short = self.sound - self.usual
        return (fraction - self.usual) / short if fraction is not None and short > 0 else 0.0

    @property
    def current_mends(self) -> bool:
        """Whether more current brings most of it back."""
        return self.regained(self.current) >= REGAINED

    @property
    def heat_mends(self) -> bool:
        """Whether heat brings back so much of it that a plug must have softened."""
        return self.regained(self.hotter) >= max(HEAT_REGAINED, self.regained(self.current) + HEAT_REGAINED / 2)


def looks_short(slow: Length, commanded_mm: float) -> bool:
    """Whether slow pushes are short enough, or scatter enough, to look whether the load does it."""
    return slow.mean_mm < (1 - SUSPECT) * commanded_mm or slow.stutters


def load_matters(slow: Length, commanded_mm: float, slower: Length, shorter_mm: float) -> bool:
    """Whether pushing slower still brings back more than reading errs by: the load does it, and not a wrong part."""
    fraction, calm = slow.mean_mm / commanded_mm, slower.mean_mm / shorter_mm
    error = math.hypot(slow.placing_u_mm / commanded_mm, slower.placing_u_mm / shorter_mm)
    return calm - fraction > max(3 * error, SUSPECT * calm)


def slips_fast(slow: Length, fast: Length | None) -> bool:
    """Whether the fast push falls short of the slow one by more than allowed, and by more than reading errs by."""
    if fast is None or slow.mean_mm <= 2 * slow.uncertainty_mm:
        return False
    fraction, fraction_u = falls_short(slow, fast)
    return fraction > SHORT and fraction > COVERAGE * fraction_u


def slip_u_mm(slow: Length, fast: Length | None) -> float:
    """What the slow reading itself may have lost to slip, as a standard uncertainty, mm.

    Slip rises with speed, so that the slow push lost no more than the fast one lost on top of it; half of that, either
    way as likely: ``d / (2 sqrt(3))``.
    """
    if fast is None:
        return 0.0
    return max(0.0, slow.mean_mm - fast.mean_mm) / 2 / math.sqrt(3)


def falls_short(slow: Length, fast: Length) -> tuple[float, float]:
    """The share by which the fast push falls short of the slow one, and its standard uncertainty.

    What is common to all readings of the instrument is nearly the same in both, and cancels. While pressure builds up,
    over the first millimetres, it slips less than later on: by how much is not known.
    """
    fraction = 1 - fast.mean_mm / slow.mean_mm
    read_u = math.hypot(fast.placing_u_mm, slow.placing_u_mm * fast.mean_mm / slow.mean_mm) / slow.mean_mm
    return fraction, math.hypot(read_u, fraction * BUILDS_MM / fast.mean_mm / math.sqrt(3))


def judge_filament(
    now: float, geometry: float, commanded_mm: float, slow: Length, slip_mm: float, drive: HobDrive
) -> StepsAssessment:
    """What slow pushes show about steps per mm of filament.

    ``new = now * commanded / measured``. Inside two standard uncertainties of now, or inside the largest error of one
    reading, it is left. A ratio near that of a common part names it, and the measured value is proposed: where a hob
    bites its diameter is not exact.
    """
    if slow.mean_mm < max(NO_FEED_RATIO * commanded_mm, 2 * slow.uncertainty_mm):
        return StepsAssessment("still", 0.0, 0.0, "no filament went in")
    measured = now * commanded_mm / slow.mean_mm
    uncertainty = measured * math.hypot(slow.uncertainty_mm, slip_mm) / slow.mean_mm
    if slow.stutters:
        words = (
            f"readings scatter by {slow.deviation_mm:.2f} mm, more than their instrument does: it slips intermittently"
        )
        return StepsAssessment("stutters", measured, uncertainty, words)
    error = max(COVERAGE * uncertainty, measured * slow.errors.largest_mm / slow.mean_mm)
    if abs(measured - now) <= error:
        words = "leave it: the value on the board agrees within the measurement error"
        return StepsAssessment("good", measured, uncertainty, words)
    ratio = slow.mean_mm / commanded_mm
    part = wrong_part(ratio, drive)
    if part:
        return StepsAssessment(
            "typical", measured, uncertainty, f"measured / commanded travel is {ratio:.3g}: {part}", measured
        )
    if abs(measured - geometry) <= error:
        words = f"the measurement agrees with the geometry, {geometry:.5g}, and not with {now:.5g} on the board"
        return StepsAssessment("off", measured, uncertainty, words, geometry)
    words = f"{slow.mean_mm:.1f} mm fed for {commanded_mm:g} commanded, outside the measurement error"
    return StepsAssessment("off", measured, uncertainty, words, measured)


def wrong_part(ratio: float, drive: HobDrive) -> str:
    """The part that would explain a ratio of measured to commanded filament, in words; empty: none does."""
    likely = []
    for exact in (0.25, 0.5, 2.0, 4.0):
        if abs(ratio / exact - 1) < TYPICAL:
            real = drive.microsteps / exact
            likely += [f"the driver makes {real:g} microsteps, not {drive.microsteps}"] if 1 <= real <= 256 else []
            angle = drive.step_angle_deg * exact
            likely += [f"the motor has a full step of {angle:g}°"] if angle in STEP_ANGLES_DEG else []
    for gear in GEARS:
        exact = drive.gear_ratio / gear
        if abs(exact - 1) > TYPICAL and abs(ratio / exact - 1) < TYPICAL:
            declared = "none is declared" if drive.gear_ratio == 1 else f"{drive.gear_ratio:g} is declared"
            likely.append("there is no gear" if gear == 1 else f"there is a gear of {gear:g} : 1, and {declared}")
    return " or ".join(likely)


def microsteps_made(ratio: float, drive: HobDrive) -> int | None:
    """How many microsteps the driver really makes, where a ratio of measured to commanded filament says so; None: it
    does not.
    """
    for exact in (0.25, 0.5, 2.0, 4.0):
        real = drive.microsteps / exact
        if abs(ratio / exact - 1) < TYPICAL and 1 <= real <= 256 and real == round(real):
            return round(real)
    return None


def cause_of(tried: FeedTests, when_slow: bool, drive: HobDrive) -> Cause:
    """Why filament falls short, by what brought it back. when_slow: it does even when pushed slowly.

    A weak motor that gets more current pushes on; one that was not weak and needs more stands before a blocked nozzle.
    Heat opens a blocked one; what falls short only when pushed fast is asked for more than the melt, or the hob's grip,
    gives. What neither current nor heat mends is the grip.
    """
    if tried.current_mends:
        return "current" if drive.pushes_n < WEAK_N or not when_slow else "blocked"
    if not when_slow:
        return "fast"
    if tried.heat_mends:
        return "blocked"
    return "nothing" if max(tried.usual, tried.current or 0.0, tried.hotter or 0.0) < NO_FEED_RATIO else "grip"


def words_of(cause: Cause, tried: FeedTests, mm_s: float, filament_mm: float) -> str:
    """A cause as a sentence: what was seen at a speed of the filament, mm/s, and what to do."""
    short = f"{100 * (1 - tried.usual / tried.sound):.0f} % too little is fed at {mm_s:g} mm/s"
    match cause:
        case "current":
            return f"{short}, and not with {tried.amps:.2f} A: the extruder's motor has too little current."
        case "blocked":
            back = (
                f"less so at {tried.hotter_c:g} °C" if tried.heat_mends else f"pushing through takes {tried.amps:.2f} A"
            )
            return (
                f"{short}, {back}: the nozzle is partly blocked. Clean it, or draw the plug out cold; no setting "
                "mends that."
            )
        case "grip":
            return (
                f"{short}, with more current and hotter as well: the hob slips. Clean it, tighten what presses on it."
            )
        case "fast":
            flow = mm_s * math.pi * filament_mm**2 / 4
            return (
                f"It slips when pushed fast: {short} ({flow:.1f} mm³/s). Print slower than that, or hotter, or let the "
                "hob press harder."
            )
    return (
        "Nothing goes in, with more current and hotter neither: look whether the motor turns and its wires are whole, "
        "whether the hob presses on the filament, and whether the nozzle is open."
    )
