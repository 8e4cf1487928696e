"""The physical quality that a machine reaches: from its own truth, never from what trials believe."""

from __future__ import annotations

import cmath
import math
from collections.abc import Mapping, Sequence

import numpy as np

from ublet.core.extrude.advance_lines import LinesParameters
from ublet.core.machine.schema import MachineFile
from ublet.core.run import TrialFailed
from ublet.core.settings import Value, number_or
from ublet.world.extrude_truth import evenest_line_s, filament_truth
from ublet.world.frame import OVER_THE_BED, Ring
from ublet.world.piece import Impulses
from ublet.world.scenario import Scenario
from ublet.world.world import World

HELD_S = 120.0
"""How long a heater was held at the end, over which its ripple is judged, s."""

NEAR_C = 1.0
"""A heater has reached its target within this, °C."""


class Warmth:
    """How warm the blocks of a world really are while heaters are held at targets; plants: by heater."""

    def __init__(self, world: World, plants: Mapping[str, str]) -> None:
        self._world, self._plants = world, plants
        self._seen: dict[str, list[tuple[float, float, float]]] = {heater: [] for heater in plants}

    def look(self, targets_c: Mapping[str, float]) -> None:
        """Note the warmth of each heater that is held now; one that is not held, or at another target, begins anew."""
        for heater, plant in self._plants.items():
            seen, target = self._seen[heater], targets_c.get(heater)
            if target is None:
                continue
            if seen and (seen[-1][1] != target):
                seen.clear()
            seen.append((self._world.time_s, target, self._world.plants[plant].block_c))

    def overshoot_c(self, heater: str) -> float | None:
        """How far it rose above its target; None: it was not held."""
        seen = self._seen.get(heater)
        return max(0.0, max(block - target for _, target, block in seen)) if seen else None

    def ripple_c(self, heater: str) -> float | None:
        """Half of what it swings through over its last two minutes at the target; None: it never got there."""
        seen = self._seen.get(heater, [])
        held = [block for at, target, block in seen if at >= seen[-1][0] - HELD_S] if seen else []
        if not held or abs(held[-1] - seen[-1][1]) > NEAR_C + 1:
            return None
        return (max(held) - min(held)) / 2


def residual(rings: Sequence[Ring], impulses: Impulses) -> float | None:
    """What is left of a frame's ringing behind a step that is spread over impulses: ``sum p V / sum p`` with
    ``V = |sum A_i e^(s (t_i - t_n))|``, ``s = z w + j w_d``. None: nothing rings.
    """
    total = left = 0.0
    times, amplitudes = (np.array(column) for column in zip(*impulses, strict=True))
    for ring in rings:
        w, z = 2 * math.pi * ring.frequency_hz, ring.damping_ratio
        s = complex(z * w, w * math.sqrt(max(0.0, 1 - z * z)))
        fraction = abs(ring.modal_share)
        total += fraction
        terms = (
            a * cmath.exp(s * (t - float(times[-1]))) for t, a in zip(times.tolist(), amplitudes.tolist(), strict=True)
        )
        left += fraction * abs(sum(terms))
    return left / total if total else None


def quality_of(
    world: World,
    scenario: Scenario,
    machine: MachineFile,
    live: Mapping[str, Value],
    impulses: Mapping[str, Impulses],
    warmth: Warmth,
    layer_mm: float,
) -> dict[str, float | None]:
    """The figures of a machine as it is now. live: the board's settings; impulses: over which each axis' steps are
    spread; warmth: as it was seen while a first layer of ``layer_mm`` was printed last. None: there is no such figure.
    """
    heaters = {machine.heaters[name].part: name for name in machine.heaters}
    figures: dict[str, float | None] = {}
    gaps = world.laid.gaps
    figures["gap_p95_mm"] = float(np.percentile(np.abs(gaps - layer_mm), 95)) if len(gaps) else None
    for part in ("hotend", "bed"):
        figures[f"{part}_overshoot_c"] = warmth.overshoot_c(heaters.get(part, ""))
        figures[f"{part}_ripple_c"] = warmth.ripple_c(heaters.get(part, ""))
    where = {"x": machine.bed.width_mm / 2, "y": machine.bed.depth_mm / 2}
    for axis in ("x", "y"):
        with world.frame.unburdened():
            rings = world.frame.rings({axis: 1.0}, {axis: 1.0}, OVER_THE_BED, where)
        figures[f"residual_{axis}"] = residual(rings, impulses[axis])
    arrived = scenario.with_stored(dict(live))
    figures["extrusion_error"] = _extrusion_error(arrived, machine)
    figures["advance_error_s"] = _advance_error_s(arrived, machine, live)
    return figures


def _extrusion_error(scenario: Scenario, machine: MachineFile) -> float | None:
    """By what share more goes in than is commanded, when it is pushed slowly."""
    if machine.extruder is None:
        return None
    went_in = filament_truth(scenario, machine, {}).get("went_in.e")
    return went_in - 1 if went_in is not None else None


def _advance_error_s(scenario: Scenario, machine: MachineFile, live: Mapping[str, Value]) -> float | None:
    """The live pressure advance less the one at which lines of the usual pattern are evenest, s."""
    if machine.extruder is None:
        return None
    try:
        true_s = evenest_line_s(scenario, machine, LinesParameters())
    except TrialFailed:
        return None
    return number_or(live.get("extruder.advance_s"), machine.extruder.advance_s) - true_s
