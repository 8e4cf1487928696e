"""The truth behind the trials of the leg Shake: the frame's own poles, over the middle of the bed."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value, number_or
from ublet.core.shake.loaded import LOADED
from ublet.core.shake.resonance_trials import PLACES
from ublet.core.shake.shaking import BED, DIRECTIONS, HEAD
from ublet.world.frame import Ring
from ublet.world.world import World

LEAST_FRACTION = 0.02


def rings_of(world: World, machine: MachineFile, direction: str) -> list[Ring]:
    """How the part rings that is swept along a direction, over the middle of the bed; the largest share first."""
    on = BED if machine.bed.moves == direction else HEAD
    parts = DIRECTIONS[direction]
    where = {"x": machine.bed.width_mm / 2, "y": machine.bed.depth_mm / 2}
    with world.frame.unburdened():
        rings = [ring for ring in world.frame.rings(parts, parts, on, where) if abs(ring.modal_share) > LEAST_FRACTION]
    return sorted(rings, key=lambda ring: -abs(ring.modal_share))


def resonance_truth(world: World, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """Frequency and damping of the mode in which X and Y ring most."""
    truths = {}
    for axis in ("x", "y"):
        main = rings_of(world, machine, axis)[0]  # which of the others shows is not known beforehand
        truths[f"frequency.{axis}.{PLACES[0]}"] = main.frequency_hz
        truths[f"damping.{axis}.{PLACES[0]}"] = main.damping_ratio
    kg = number_or(aim.get("load_kg"), 0.0)
    if kg and machine.bed.moves in ("x", "y"):
        with world.frame.loaded(kg):
            truths[f"{LOADED}.{machine.bed.moves}"] = rings_of(world, machine, machine.bed.moves)[0].frequency_hz
    return truths


def belts_truth(world: World, machine: MachineFile, aim: Mapping[str, Value]) -> dict[str, float]:
    """How hard tension of belt B / belt A."""
    belts = world.frame.stiffness({"x": machine.bed.width_mm / 2, "y": machine.bed.depth_mm / 2})
    return {"tensions": belts["y"] / belts["x"]}
