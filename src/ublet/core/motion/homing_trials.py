"""The trial that homes: each axis alone first, then all in the declared order, then again and again for the spread."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ublet.core.machine.schema import Axis, MachineFile
from ublet.core.motion.homing import spread_of
from ublet.core.settings import Part, setting
from ublet.core.trial import Bench, Finding, Need, Progress, TrialFailed, TrialResult, TrialSpec

SPREAD_LIMIT_MM = 0.05
"""An end that repeats worse than this is not good enough to print with, mm."""


class HomingParameters(Part):
    """How often each axis homes."""

    repeats: int = setting("Homings of each axis for its spread.", low=3, high=20, default=6)


async def homing(bench: Bench, aim: HomingParameters) -> TrialResult:
    """Home every axis in the declared order, and again for the spread of each end."""
    order = homing_order(bench.machine)
    for number, name in enumerate(order):
        bench.progress(Progress(f"axis {name.upper()}", 0.3 * number / len(order), None, "for the first time"))
        await _home(bench, name)
    findings = []
    bad = []
    for number, name in enumerate(order):
        shifts = []
        for repeat in range(aim.repeats - 1):
            share = 0.3 + 0.7 * (number + repeat / aim.repeats) / len(order)
            bench.progress(Progress(f"axis {name.upper()}", share, None, f"{repeat + 2} of {aim.repeats}"))
            shift = await _home(bench, name)
            if shift is not None:
                shifts.append(shift)
                bench.show("shifts", ("axis", "shift_mm"), (float("xyz".index(name)), shift))
        spread = spread_of(shifts)
        findings.append(Finding(f"{name} spread", spread.deviation_mm, spread.uncertainty_mm, "mm", SPREAD_LIMIT_MM))
        findings.append(Finding(f"{name} range", spread.range_mm, None, "mm"))
        if spread.deviation_mm > SPREAD_LIMIT_MM:
            bad.append(f"{name.upper()} repeats only to ±{spread.deviation_mm:.3f} mm: look at its switch and mount.")
    if bad:
        return TrialResult("failed", " ".join(bad), {}, tuple(findings))
    return TrialResult("proven", "Every axis finds its end, and finds it again.", {}, tuple(findings))


async def _home(bench: Bench, axis: str) -> float | None:
    """Home one axis, lifting Z first where it is declared; returns by how much its position had been off, mm.

    Raises:
        TrialFailed: it did not find its end.
    """
    declared: Axis = getattr(bench.machine.axes, axis)
    z = bench.position("z")
    lift = declared.homing.lift_mm
    if lift and axis != "z" and (z is None or z < lift):
        await bench.move_axis("z", lift, bench.machine.axes.z.homing.fast_mm_s)
    if axis == "z" and declared.homing.end == "probe":
        for name, over in (("x", declared.homing.over_x_mm), ("y", declared.homing.over_y_mm)):
            here = bench.position(name)
            if over is not None and here is not None and abs(over - here) > 1e-6:
                await bench.move_axis(name, over - here, _travel(bench.machine))
    why, shift = await bench.home(axis)
    if why:
        raise TrialFailed(f"{axis.upper()} did not find its end: {why}.")
    if declared.homing.end != "probe" or axis == "z":
        away = declared.homing.back_off_mm * (-1 if declared.homing.end == "high" else 1)
        await bench.move_axis(axis, away, declared.homing.fast_mm_s)
    return shift


def _travel(machine: MachineFile) -> float:
    return machine.probe.travel_mm_s if machine.probe is not None else 50.0


def homing_order(machine: MachineFile) -> tuple[str, ...]:
    """The axes in the order in which they home."""
    return tuple(sorted(("x", "y", "z"), key=lambda name: getattr(machine.axes, name).homing.order))


def _needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    ends = sum(axis.homing.endstop is not None or axis.homing.end == "probe" for axis in _axes(machine))
    return (Need(f"{ends} of 3 axes have an end declared", ends == 3),)


def _axes(machine: MachineFile) -> tuple[Axis, ...]:
    return machine.axes.x, machine.axes.y, machine.axes.z


def _announce(machine: MachineFile, aim: HomingParameters) -> str:
    ends = []
    for name in homing_order(machine):
        axis: Axis = getattr(machine.axes, name)
        end = "down onto the bed with the probe" if axis.homing.end == "probe" else f"to its {axis.homing.end} end"
        ends.append(f"{name.upper()} {end} at {axis.homing.fast_mm_s:g} mm/s")
    told = f"Homes {', '.join(ends)}, {aim.repeats} times each."
    return f"{told} Inputs and directions proven before, a hand on F8. Nothing heats."


def _depends(aim: Any, known: Mapping[str, Any]) -> tuple[str, ...]:
    wanted = (".socket", ".normally_closed", ".reversed", ".steps_per_mm", ".microsteps")
    motion = (path for path in known if path.startswith(("axes.", "endstops.", "probe.")))
    return tuple(path for path in motion if path.endswith(wanted) or ".homing." in path)


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "homing",
        "homing",
        "Every axis to its end in the declared order, and again for the spread of each end.",
        HomingParameters,
        homing,
        _announce,
        _depends,
        _needs,
    ),
)
