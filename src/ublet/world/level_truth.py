"""The truth behind the trials of the leg Level: how the bed, the probe and the nozzle really stand when a trial
ends.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ublet.core.level.lift_trials import pivots_of
from ublet.core.level.lifts import standing_of
from ublet.core.level.reach import reach_of
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.world.world import World

Aim = Mapping[str, Value]
TruthAtEnd = Callable[[World, MachineFile, Aim], dict[str, float]]


def _lifts(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """The bed at the pivots, by a surface through its true heights where the probe is meant to touch."""
    if len(machine.axes.z.motors) < 2:
        return {"lifts": 1.0}
    pivots, reach = pivots_of(machine), reach_of(machine)
    places = [reach.nearest(pivot) for pivot in pivots.values()]
    standing = standing_of(pivots, places, [world.bed.height(*place) for place in places], 0.0)
    heights = {f"height.{name}": height for name, height in standing.heights.items()}
    return {"range": standing.range_mm, **heights}


def _lifts_by_hand(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    lifts = world.bed.lifts_mm.values()
    return {"gaps_differ": max(lifts) - min(lifts)} if lifts else {"lifts": 1.0}


AT_END: dict[str, TruthAtEnd] = {
    "lead-screws": _lifts,
    "lead-screws-by-hand": _lifts_by_hand,
}
"""The truth behind each trial that changes what it measures: asked when it has ended."""


def truth_at_end(world: World, machine: MachineFile, trial: str, aim: Aim) -> dict[str, float]:
    """Truth for a trial's findings, by their ids, as things are now; none for a trial that changes nothing."""
    truth = AT_END.get(trial)
    return truth(world, machine, aim) if truth is not None else {}
