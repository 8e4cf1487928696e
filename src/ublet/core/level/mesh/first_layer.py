"""The first layer: where it is tried, and how far off its height is from what a builder says of its patches."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ublet.core.arrays import Floats, Point
from ublet.core.level.mesh.check_trials import chi_squared
from ublet.core.level.mesh.trials import GridParameters, grid_of
from ublet.core.level.surface import FittedSurface, fit_surface
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.patterns import RIM_MM, Patch, Stroke
from ublet.core.remedy import ChangeParameter, GoTo
from ublet.core.run import TrialFailed
from ublet.core.settings import Part, setting

STRIPE_MM, PURGED_MM, LEAST_MM = 12.0, 6.0, 6.0
PIECES = ("left", "left of the middle", "middle", "right of the middle", "right")


class LayerShape(Part):
    """What is printed, and how."""

    tries: Literal["patches", "stripe"] = setting(
        "Patches in the corners and the middle, or one stripe from left to right.", default="patches"
    )
    layer_mm: float = setting("Height of the first layer.", unit="mm", low=0.05, high=1, default=0.2)
    width_mm: float = setting("Width of a line.", unit="mm", low=0.1, high=2, default=0.45)
    speed_mm_s: float = setting("Speed of printing.", unit="mm/s", low=5, high=100, default=25.0)
    side_mm: float = setting("Side of a patch.", unit="mm", low=LEAST_MM, high=60, default=20.0)

    @property
    def stroke(self) -> Stroke:
        """How a line is laid."""
        return Stroke(self.width_mm, self.layer_mm, self.speed_mm_s)


def places_of(machine: MachineFile, shape: LayerShape) -> tuple[Patch, ...]:
    """The patches in the order in which they are printed, on the bed and within the nozzle's travel.

    Raises:
        TrialFailed: there is no room for them.
    """
    bed, axes = machine.bed, machine.axes
    rim = bed.margin_mm + RIM_MM
    left, right = max(rim, axes.x.minimum_mm), min(bed.width_mm - rim, axes.x.maximum_mm)
    front, back = max(rim + PURGED_MM, axes.y.minimum_mm), min(bed.depth_mm - rim, axes.y.maximum_mm)
    middle = ((left + right) / 2, (front + back) / 2)
    if shape.tries == "stripe":
        wide = (right - left) / len(PIECES)
        if wide < STRIPE_MM:
            raise TrialFailed(
                f"A stripe needs {STRIPE_MM * len(PIECES):.0f} mm along X; here are {right - left:.0f}.",
                ChangeParameter("tries", "patches"),
            )
        return tuple(
            Patch(name, left + (number + 0.5) * wide, middle[1], wide, STRIPE_MM) for number, name in enumerate(PIECES)
        )
    side = shape.side_mm
    room = min(right - left, back - front)
    if 3 * side > room:
        raise TrialFailed(
            f"Patches of {side:g} mm do not fit beside one another in {room:.0f} mm: {room / 3:.0f} mm or less would.",
            ChangeParameter("side_mm", f"{room / 3:.0f} mm or less"),
        )
    low, high = (left + side / 2, front + side / 2), (right - side / 2, back - side / 2)
    if (mesh := _meshed(machine)) is not None:  # where the mesh shows the height, and no further out
        (first, near), (last, far) = mesh
        low, high = (max(low[0], first), max(low[1], near)), (min(high[0], last), min(high[1], far))
        if min(high[0] - low[0], high[1] - low[1]) < 2 * side:
            raise TrialFailed(
                f"The mesh is too small for patches of {side:g} mm in its corners.",
                ChangeParameter("side_mm", "smaller patches"),
                GoTo("bed mesh", "a mesh that covers more of the bed", "bed-mesh"),
            )
    corners = (
        ("left front", low[0], low[1]),
        ("right front", high[0], low[1]),
        ("right back", high[0], high[1]),
        ("left back", low[0], high[1]),
    )
    return (Patch("middle", *middle, side, side), *(Patch(name, x, y, side, side) for name, x, y in corners))


def _meshed(machine: MachineFile) -> tuple[Point, Point] | None:
    """Front left and back right corner of the declared mesh; None where there is none."""
    try:
        _, xs, ys = grid_of(machine, GridParameters())
    except TrialFailed:
        return None
    return (xs[0], ys[0]), (xs[-1], ys[-1])


HIGH, GOOD, LOW, BARE = "too high", "good", "too low", "bare"
"""What a patch looks like: lines apart; closed; ridged; nothing there that stuck."""

VERDICTS = (HIGH, GOOD, LOW, BARE)

WINDOW_MM, LOOK_MM, LOCAL_MM = 0.03, 0.015, 0.012
"""A patch looks good within about so much either way; a look scatters so, standard; and so do patches among one another
where the mesh does not follow the bed quite, standard.
"""

TILT_MM = 0.1
"""By so much, standard, a bed may have come to tilt over half its width since it was levelled."""

SURPRISE, WILD_MM = 0.2, 0.2
"""The Z offset may be wrong for a reason that nobody thought of (another sheet): with this chance, by so much.
"""

UNTOUCHED_MM = 0.15
"""What is known of a Z offset that nobody touched off, standard."""

OWN_MM, FAR_MM, ALIKE = 0.4, 1.6, 0.8
"""A patch may be off by so much, standard, where the bed is not level; looked at up to so far; and how alike patches
are in what nobody saw of them.
"""

REACH_MM, STEP_MM = 0.7, 0.002
TILT_STEPS = 33


@dataclass(frozen=True)
class PatchVerdict:
    """A patch as it was judged, with what the nozzle was nudged by at its last lines, mm."""

    patch: Patch
    nudge_mm: float
    verdict: str


@dataclass(frozen=True)
class FirstLayer:
    """What the verdicts say. wanted_mm: the nudge that would be right over the middle of what was printed, and its
    standard uncertainty. plane: of the wanted nudges where they differ as a tilt does; left_mm: the error that is left
    at the patches with the nudges that they had, in the mean, and its standard uncertainty.
    """

    verdict: Literal["good", "offset", "tilt", "shape"]
    wanted_mm: float
    wanted_u_mm: float
    left_mm: float
    left_u_mm: float
    plane: FittedSurface | None
    each_mm: tuple[float, ...] = ()
    """The nudge that each patch wants by itself, as far as it shows it; for those that show anything."""


def first_layer(judged: Sequence[PatchVerdict], known_u_mm: float | None) -> FirstLayer:
    """From verdicts to a nudge. known_u_mm: standard uncertainty of the Z offset that is live, None: nobody knows it.

    Three explanations are held against one another by their likelihoods: one error everywhere, a tilt besides, each
    patch for itself; a further one is taken when it is better by more than chance does in 1 of 100 (Wilks 1938).

    Raises:
        ValueError: no patch can be judged.
    """
    seen = [patch for patch in judged if patch.verdict != BARE]
    if not seen:
        raise ValueError("no patch can be judged")
    nudges = np.array([patch.nudge_mm for patch in seen])
    grid = np.arange(-REACH_MM, REACH_MM + STEP_MM / 2, STEP_MM)
    alone = _likelihood(seen, grid[:, None] + nudges)  # everywhere the same error
    likely = alone + np.log(_prior(grid, known_u_mm))
    flat_mm, flat_u_mm = _moments(grid, likely)
    flat_u_mm = math.hypot(flat_u_mm, LOCAL_MM / math.sqrt(len(seen)))
    tilted, slopes, middle, tilted_u_mm = _tilted(seen, nudges)
    free = sum(float(_likelihood([patch], (grid + patch.nudge_mm)[:, None]).max()) for patch in seen)
    lines = _freedom(seen)
    mean = float(nudges.mean())
    own_mm, own_u_mm = _by_themselves(seen)
    if lines and 2 * (tilted - float(alone.max())) > chi_squared(lines):
        odd = len(seen) - 1 - lines
        if odd > 0 and 2 * (free - tilted) > chi_squared(odd):
            return FirstLayer("shape", mean - own_mm, own_u_mm, own_mm, own_u_mm, None, _each(seen, grid, flat_mm))
        wanted = [-(middle + slopes @ one) for one in _normal(seen)]
        plane = fit_surface([patch.patch.place for patch in seen], wanted)
        return FirstLayer("tilt", -middle, max(tilted_u_mm, own_u_mm), own_mm, own_u_mm, plane)
    if len(seen) > 2 and 2 * (free - float(alone.max())) > chi_squared(len(seen) - 1):
        return FirstLayer("shape", mean - own_mm, own_u_mm, own_mm, own_u_mm, None, _each(seen, grid, flat_mm))
    leave = abs(flat_mm) <= 2 * flat_u_mm and not nudges.any() and all(patch.verdict == GOOD for patch in seen)
    return FirstLayer("good" if leave else "offset", -flat_mm, flat_u_mm, flat_mm + mean, flat_u_mm, None)


def _by_themselves(seen: Sequence[PatchVerdict]) -> tuple[float, float]:
    """The mean error at the patches, mm, and its standard uncertainty, where no offset and no small tilt explains
    them. A patch that is only too low or too high says no more than a bound: how far beyond, nobody saw.
    """
    grid = np.arange(-FAR_MM, FAR_MM + STEP_MM / 2, STEP_MM)
    wide = -0.5 * (grid / OWN_MM) ** 2
    moments = [_moments(grid, _likelihood([judged], grid[:, None]) + wide) for judged in seen]
    mean = sum(mm for mm, _ in moments) / len(moments)
    # what lies beyond a bound lies there at neighbouring patches alike
    apart = math.sqrt(sum(u**2 for _, u in moments)) / len(moments)
    together = sum(u for _, u in moments) / len(moments)
    return mean, math.hypot(apart, ALIKE * together, LOCAL_MM / math.sqrt(len(moments)))


def _each(seen: Sequence[PatchVerdict], grid: Floats, flat_mm: float) -> tuple[float, ...]:
    """What every patch wants by itself, drawn towards what they want together where it shows little."""
    near = -0.5 * ((grid - flat_mm) / TILT_MM) ** 2
    return tuple(-_moments(grid, _likelihood([judged], (grid + judged.nudge_mm)[:, None]) + near)[0] for judged in seen)


def _prior(grid: Floats, known_u_mm: float | None) -> Floats:
    """How likely an error is before anything was printed."""

    def normal(u: float) -> Floats:
        return np.asarray(np.exp(-0.5 * (grid / u) ** 2) / u)

    if known_u_mm is None:
        return normal(UNTOUCHED_MM)
    return np.asarray((1 - SURPRISE) * normal(math.hypot(known_u_mm, LOCAL_MM / 2)) + SURPRISE * normal(WILD_MM))


def _likelihood(seen: Sequence[PatchVerdict], errors: Floats) -> Floats:
    """Logarithm of how likely the verdicts are at errors (... x n patches), mm."""
    from scipy.special import ndtr

    scatter = math.hypot(LOOK_MM, LOCAL_MM)
    high, low = ndtr((errors - WINDOW_MM) / scatter), ndtr((-errors - WINDOW_MM) / scatter)
    probability = {HIGH: high, LOW: low, GOOD: 1 - high - low}
    log_likelihood = np.zeros(errors.shape[:-1])
    for number, judged in enumerate(seen):
        log_likelihood += np.log(np.maximum(probability[judged.verdict][..., number], 1e-9))
    return log_likelihood


def _moments(grid: Floats, likely: Floats) -> tuple[float, float]:
    """Mean and standard deviation of a logarithm of probability on a grid."""
    weights = np.exp(likely - likely.max())
    weights /= weights.sum()
    mean = float(weights @ grid)
    return mean, math.sqrt(float(weights @ (grid - mean) ** 2))


def _normal(seen: Sequence[PatchVerdict]) -> Floats:
    """Places of the patches from -1 to 1 over what was printed (n x 2); 0 along a side on which they do not differ."""
    at = np.array([patch.patch.place for patch in seen])
    middle, half = (at.max(axis=0) + at.min(axis=0)) / 2, np.ptp(at, axis=0) / 2
    return np.asarray((at - middle) / np.where(half > 1.0, half, np.inf))


def _freedom(seen: Sequence[PatchVerdict]) -> int:
    """How many slopes the patches can show."""
    at = _normal(seen)
    return int(np.linalg.matrix_rank(at - at.mean(axis=0), tol=0.1))


def _tilted(seen: Sequence[PatchVerdict], nudges: Floats) -> tuple[float, Floats, float, float]:
    """One error and a tilt: the best likelihood's logarithm; mean rise over half of both sides, mean error at the
    middle, and its standard deviation, mm.
    """
    at = _normal(seen)
    middle = np.arange(-REACH_MM, REACH_MM + 0.005, 0.01)
    rise = np.linspace(-4 * TILT_MM, 4 * TILT_MM, TILT_STEPS)
    along = [rise if np.any(at[:, n]) else np.zeros(1) for n in (0, 1)]
    errors = (
        middle[:, None, None, None]
        + along[0][None, :, None, None] * at[:, 0]
        + along[1][None, None, :, None] * at[:, 1]
        + nudges
    )
    log_likelihood = _likelihood(seen, errors)
    usual = -0.5 * ((along[0] / TILT_MM) ** 2)[:, None] - 0.5 * ((along[1] / TILT_MM) ** 2)[None, :]
    weights = np.exp(log_likelihood + usual - (log_likelihood + usual).max())
    weights /= weights.sum()
    mean = float((weights.sum(axis=(1, 2)) * middle).sum())
    spread = math.sqrt(float((weights.sum(axis=(1, 2)) * (middle - mean) ** 2).sum()) + 0.01**2 / 12)
    slopes = np.array(
        [float((weights.sum(axis=(0, 2)) * along[0]).sum()), float((weights.sum(axis=(0, 1)) * along[1]).sum())]
    )
    return float(log_likelihood.max()), slopes, mean, spread
