"""The truth behind the trials of the leg Level: how the bed, the probe and the nozzle really stand when a trial
ends.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np

from ublet.core.level.coil.drift_trials import NEARER_MM
from ublet.core.level.coil.scan import lines_over
from ublet.core.level.coil.scan_trials import PassParameters, corners_of
from ublet.core.level.mesh.first_layer import LayerShape, places_of
from ublet.core.level.mesh.trials import GridParameters, grid_of
from ublet.core.level.probe.spread_trials import places_of as places_of_spread
from ublet.core.level.reach import reach_of
from ublet.core.level.support.corner_trials import CornerParameters
from ublet.core.level.support.lift_trials import pivots_of
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import number_or
from ublet.world.shake_truth import belts_truth, resonance_truth
from ublet.world.truth import Aim
from ublet.world.world import World

TruthAtEnd = Callable[[World, MachineFile, Aim], dict[str, float]]


TWO, THREE = 2, 3


class LeastSquares:
    """``h = a + b x + c y (+ d x y)`` about the middle of places, through true heights: this world's own, not the
    estimator's. left: what it leaves at each place, mm.
    """

    def __init__(self, places: Sequence[tuple[float, float]], heights: Sequence[float], twisted: bool) -> None:
        at = np.array(places, dtype=np.float64)
        self._middle, self._twisted = at.mean(axis=0), twisted
        heights_mm = np.asarray(heights, dtype=np.float64)
        design = np.array([self._row(*place) for place in places])
        self._terms = np.linalg.lstsq(design, heights_mm, rcond=None)[0]
        self.along_x, self.along_y = float(self._terms[1]), float(self._terms[2])
        self.left: list[float] = (heights_mm - design @ self._terms).tolist()

    def at(self, x: float, y: float) -> float:
        """Its height there, mm."""
        return float(np.dot(self._row(x, y), self._terms))

    def _row(self, x: float, y: float) -> list[float]:
        u, v = x - float(self._middle[0]), y - float(self._middle[1])
        return [1.0, u, v, *([u * v] if self._twisted else [])]


def _lifts(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """The bed at the pivots, by a surface through its true heights where the probe is meant to touch."""
    if len(machine.axes.z.motors) < 2:
        return {"lifts": 1.0}
    pivots, reach = pivots_of(machine), reach_of(machine)
    places = [reach.nearest(pivot) for pivot in pivots.values()]
    touched = [world.bed.height(*place) for place in places]
    if len(pivots) == TWO:  # a line through both, along the way from one lift to the other
        (ax, ay), (bx, by) = pivots.values()
        along = [((x - ax) * (bx - ax) + (y - ay) * (by - ay)) / ((bx - ax) ** 2 + (by - ay) ** 2) for x, y in places]
        slope = (touched[1] - touched[0]) / (along[1] - along[0])
        at_pivots = {name: touched[0] + slope * (at - along[0]) for name, at in zip(pivots, (0.0, 1.0), strict=True)}
    else:
        surface = LeastSquares(places, touched, len(pivots) > THREE)
        at_pivots = {name: surface.at(*pivot) for name, pivot in pivots.items()}
    mean = sum(at_pivots.values()) / len(at_pivots)
    heights = {f"height.{name}": height - mean for name, height in at_pivots.items()}
    return {"range": max(at_pivots.values()) - min(at_pivots.values()), **heights}


def _lifts_by_hand(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    lifts = world.bed.lifts_mm.values()
    return {"gaps_differ": max(lifts) - min(lifts)} if lifts else {"lifts": 1.0}


def _corners(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """The plane of the bed's true heights where it is touched, over the screws, and what that leaves."""
    chosen = CornerParameters.model_validate(dict(aim))
    places = reach_of(machine).grid(chosen.columns, chosen.rows)
    screws = machine.bed.screws.values()
    surface = LeastSquares(places, [world.bed.height(*place) for place in places], len(screws) > THREE)
    heights = [surface.at(screw.x_mm, screw.y_mm) for screw in screws]
    flat = LeastSquares([(screw.x_mm, screw.y_mm) for screw in screws], heights, False)
    return {
        "tilt": max(heights) - min(heights),
        "rise_x": surface.along_x * machine.bed.width_mm,
        "rise_y": surface.along_y * machine.bed.depth_mm,
        "twist": max(abs(mm) for mm in flat.left),
        "warp": max(surface.left) - min(surface.left),
    }


def _offset(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """The offset with which the nozzle, clean and as warm as it is now, touches the bed at Z = 0 over the middle."""
    bed, place = world.bed, (machine.bed.width_mm / 2, machine.bed.depth_mm / 2)
    longer = world.scenario.nozzle.grows_mm_k * (world.melt_c - world.ambient_c)
    if world.probe is not None:
        place = reach_of(machine).nearest(place)
        at = reach_of(machine).nozzle(place)
        stands = {"x": at[0], "y": at[1], "z": 0.0}
        coming = machine.axes.z.homing.slow_mm_s * world.scenario.probe.delay_s  # Z is named where homing triggers
        over = world.probe.place(stands)
        trigger = world.probe.triggers_at(stands) + bed.height(*over) - bed.height(*place) - coming
        return {"offset": longer - trigger}
    end = next((switch.part.at_mm for switch in world.switches.values() if switch.part.axis == "z"), 0.0)
    # Z is called minimum - offset at the end; the tip is at the bed where the carriage is at its height and longer
    return {"offset": machine.axes.z.minimum_mm - end + bed.height(*place) + longer}


def _place(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """Where the probe really sits."""
    if world.probe is None:
        return {}
    x, y = world.probe.offset
    part = machine.probe.part if machine.probe is not None else None
    off = max(abs(x - part.offset_x_mm), abs(y - part.offset_y_mm)) if part is not None else 0.0
    return {"probe_x": x, "probe_y": y, "off_part": off}


def _mounted(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """How high over the middle of the bed the nozzle's tip is when the probe triggers, and its stowed end over it."""
    if world.probe is None:
        return {}
    middle = (machine.bed.width_mm / 2, machine.bed.depth_mm / 2)
    stands = {"x": middle[0], "y": middle[1], "z": 0.0}
    slopes = world.bed.height(*world.probe.place(stands)) - world.bed.height(*middle)
    longer = world.scenario.nozzle.grows_mm_k * (world.melt_c - world.ambient_c)
    trigger = world.probe.triggers_at(stands) + slopes - longer
    return {"trigger": trigger, "clears": world.probe.stowed_gap(stands) + world.bed.height(*world.probe.place(stands))}


def _spread(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """How far the probe's trigger scatters, wherever it touches: by itself, by its delay that differs from touch to
    touch, and, where it is deployed for each, by its pin; nothing drifts that is not warmed.
    """
    if world.probe is None or machine.probe is None:
        return {}
    speed = number_or(aim.get("speed_mm_s"), 0.0) or machine.probe.approach_mm_s
    pin = world.probe.pin_mm if aim.get("redeploys") and machine.probe.kind == "pin" else 0.0
    deviation = math.hypot(world.probe.part.spread_mm, speed * world.probe.shakes_s, pin)
    names = places_of_spread(reach_of(machine), str(aim.get("places")))
    return {f"deviation.{name}": deviation for name in names}


def _passed(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """The bed's true heights over their mean at the places of a pass, as the coil sees them: its mean over what it
    sees.
    """
    if world.coil is None:
        return {}
    chosen = PassParameters.model_validate(dict(aim))
    reach = reach_of(machine)
    places = lines_over(reach, chosen.columns, chosen.rows).places
    heights = np.array([world.bed.height(*place) for place in places]).reshape(chosen.rows, chosen.columns)
    level = heights - heights.mean()
    return {
        **{f"height.{name}": float(level[at]) for name, at in corners_of(chosen.rows, chosen.columns).items()},
        "range": float(np.ptp(level)),
    }


def _drifted(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """What the coil's warmth really shifts heights by, at the warmest that it was, µm."""
    if world.coil is None:
        return {}
    coil = world.coil.coil
    return {"shift": 1000 * coil.shift_mm(coil.truth.hangs_mm + NEARER_MM, coil.warmest_k)}


def _mesh(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """The bed's true heights at the mesh's points, in the same figures."""
    _, xs, ys = grid_of(
        machine, GridParameters.model_validate({key: aim[key] for key in ("columns", "rows") if key in aim})
    )
    places = [(x, y) for y in ys for x in xs]
    heights = [world.bed.height(*place) for place in places]
    plane = LeastSquares(places, heights, False)
    return {
        "range": float(np.ptp(heights)),
        "rms": float(np.std(heights)),
        "warp": max(plane.left) - min(plane.left),
        "tilt_x": plane.along_x * (xs[-1] - xs[0]),
        "tilt_y": plane.along_y * (ys[-1] - ys[0]),
    }


def _first_layer(world: World, machine: MachineFile, aim: Aim) -> dict[str, float]:
    """How far the patches' last lines really are from what the layer is to be, in the mean; and what 95 % of all that
    was printed keeps.
    """
    shape = LayerShape.model_validate({key: aim[key] for key in LayerShape.model_fields if key in aim})
    looks = [
        world.laid.patch(patch.x, patch.y, patch.wide, patch.deep, shape.width_mm)
        for patch in places_of(machine, shape)
    ]
    gaps = [look.gap_mm - shape.layer_mm for look in looks if look is not None]
    if not gaps:
        return {}
    off = np.abs(world.laid.gaps - shape.layer_mm)
    return {"left": float(np.mean(gaps)), "off_p95": float(np.percentile(off, 95))}


AT_END: dict[str, TruthAtEnd] = {
    "lead-screws": _lifts,
    "lead-screws-by-hand": _lifts_by_hand,
    "bed-corners": _corners,
    "z-offset": _offset,
    "probe-spread": _spread,
    "probe-place": _place,
    "probe-height": _mounted,
    "coil-drift": _drifted,
    "coil-pass": _passed,
    "bed-mesh": _mesh,
    "bed-mesh-by-hand": _mesh,
    "first-layer": _first_layer,
    "resonance": resonance_truth,
    "ringing-tower": resonance_truth,
    "belts": belts_truth,
}
"""The truth behind each trial that changes what it measures: asked when it has ended."""


def truth_at_end(world: World, machine: MachineFile, trial: str, aim: Aim) -> dict[str, float]:
    """Truth for a trial's findings, by their ids, as things are now; none for a trial that changes nothing."""
    truth = AT_END.get(trial)
    if truth is None:
        return {}
    world.bed.come_down()
    return truth(world, machine, aim)
