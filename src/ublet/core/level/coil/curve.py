"""A coil over metal: its calibration curve of frequency against height, its height noise, and reading it at rest."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.bench import Bench
from ublet.core.machine.level_parts import CoilProbe
from ublet.core.machine.schema import MachineFile
from ublet.core.remedies import LINK, WRITE
from ublet.core.remedy import ByHand, ChangeSetting, GoTo
from ublet.core.run import TrialFailed

if TYPE_CHECKING:
    import numpy as np


POINTS = 41
"""A curve is kept as so many points, evenly apart."""

DECAY_LENGTHS_MM = (0.6, 1.0, 1.7, 2.8, 4.7, 8.0, 14.0)
"""Decay lengths of the curve: it is a sum of exponentials of these, none of them negative."""

TOUCH_MM = 0.0085
"""Standard uncertainty of a touch with a gauge, mm: the feel of it, the last step, Z's play."""

READ_MM = 0.002
"""Of a reading at rest over a touched place: Z's steps, and what the curve leaves, mm."""

MAX_V, MIN_V = 1.75, 1.25
"""The circuit rings well between these: louder it is driven into its rails, quieter its readings scatter."""


def drift_hz(terms: object, over_c: float, over_far_hz: float) -> float:
    """What warmth adds to the frequency: ``a dT + b dT (f - far) + c dT^2``.

    Args:
        terms: a (Hz/K), b (1/K), c (Hz/K²). over_c: warmth less that of the curve, K. over_far_hz: how much faster it
            rings than far from metal, Hz.
    """
    if not isinstance(terms, tuple) or len(terms) != 3:
        return 0.0
    a, b, c = (float(term) for term in terms)
    return a * over_c + b * over_c * over_far_hz + c * over_c * over_c


def unshifted(hz: Floats, terms: Sequence[float], over_c: Floats, far_hz: float) -> Floats:
    """Frequencies as they would be at the warmth of the curve: :func:`drift_hz` the other way round (n each)."""
    import numpy as np

    if len(terms) != 3:
        return hz
    a, b, c = terms
    added = a * over_c + c * over_c * over_c
    return np.asarray(far_hz + (hz - far_hz - added) / (1 + b * over_c), dtype=np.float64)


@dataclass(frozen=True)
class CoilCurve:
    """Frequency at evenly spaced heights (n points each), falling all the way. residual_hz: what the fit left."""

    heights: Floats
    hz: Floats
    residual_hz: float = 0.0

    def frequency(self, mm: Floats | float) -> Floats:
        """How fast it rings at heights (n)."""
        import numpy as np
        from scipy.interpolate import PchipInterpolator

        return np.asarray(PchipInterpolator(self.heights, self.hz)(mm), dtype=np.float64)

    def height(self, hz: Floats | float) -> Floats:
        """At what height it rings so fast (n); outside of the curve its ends."""
        import numpy as np

        fine = np.linspace(self.heights[0], self.heights[-1], 50 * len(self.heights))
        return np.interp(-np.asarray(hz, dtype=np.float64), -self.frequency(fine), fine)

    def slope(self, mm: float) -> float:
        """How steeply it falls at a height, Hz a mm (below 0)."""
        step = 1e-3
        low, high = max(self.heights[0], mm - step), min(self.heights[-1], mm + step)
        return float((self.frequency(high) - self.frequency(low)) / (high - low))

    def resolves_um(self, mm: float, scatter_hz: float) -> float:
        """How finely a reading that scatters so much shows the height there, µm."""
        return 1000 * scatter_hz / abs(self.slope(mm))

    @property
    def far_hz(self) -> float:
        """At its last point."""
        return float(self.hz[-1])


def fit_curve(heights: Sequence[float], hz: Sequence[float]) -> CoilCurve:
    """A curve through readings: ``f = c0 + sum ck exp(-h / lk)`` with every ``ck >= 0`` (non-negative least squares,
    Lawson & Hanson 1974), which cannot but fall all the way, ever less steeply.

    Raises:
        ValueError: too few readings, or they do not fall with the height.
    """
    import numpy as np
    from scipy.optimize import nnls

    at, measured_hz = np.asarray(heights, dtype=np.float64), np.asarray(hz, dtype=np.float64)
    if len(at) < 5:
        raise ValueError("at least five heights are needed")
    basis = np.column_stack([np.exp(-(at - at.min()) / reach) for reach in DECAY_LENGTHS_MM])
    base = float(measured_hz.min())
    both = np.column_stack([basis, np.ones(len(at)), -np.ones(len(at))])
    scale = float(np.ptp(measured_hz)) or 1.0
    amplitudes, _ = nnls(both, (measured_hz - base) / scale)
    if not amplitudes[: len(DECAY_LENGTHS_MM)].any():
        raise ValueError("it does not ring faster near the bed")
    even = np.linspace(at.min(), at.max(), POINTS)
    shape = np.column_stack([np.exp(-(even - at.min()) / reach) for reach in DECAY_LENGTHS_MM])
    fitted = base + scale * (shape @ amplitudes[:-2] + amplitudes[-2] - amplitudes[-1])
    left = measured_hz - (base + scale * (both @ amplitudes))
    freedom = max(1, len(at) - int(np.count_nonzero(amplitudes)))
    return CoilCurve(even, fitted, math.sqrt(float(left @ left) / freedom))


def kept_curve(low_mm: float, top_mm: float, hz: Sequence[float]) -> CoilCurve:
    """A curve as the machine file has it.

    Raises:
        ValueError: it is none.
    """
    import numpy as np

    measured_hz = np.asarray(hz, dtype=np.float64)
    if len(measured_hz) < 5 or not top_mm > low_mm or not (np.diff(measured_hz) < 0).all():
        raise ValueError("the curve is not measured yet, or does not fall all the way")
    return CoilCurve(np.linspace(low_mm, top_mm, len(measured_hz)), measured_hz)


@dataclass(frozen=True)
class TemperatureEffect:
    """terms as for :func:`drift_hz`; residual_um: what they leave of heights, touch by touch, root mean
    square, µm. covariance: of the
    terms (n x n).
    """

    terms: tuple[float, float, float]
    residual_um: float
    covariance: Floats

    def shift_u_um(self, over_c: float, over_far_hz: float, slope_hz_mm: float) -> float:
        """Standard uncertainty of what warmth shifts a height by, µm."""
        import numpy as np

        row = np.array([over_c, over_c * over_far_hz, over_c * over_c])[: len(self.covariance)]
        return 1000 * math.sqrt(max(0.0, float(row @ self.covariance @ row))) / abs(slope_hz_mm)


def fit_drift(curve: CoilCurve, rows: Sequence[tuple[float, float, float, int]]) -> TemperatureEffect:
    """What warmth adds, from readings at heights over touched places.

    Args:
        rows: height over the touched place mm, frequency Hz, warmth less that of the curve K, number of the touch.

    Each reading is weighted by what it says of the height, ``(f - curve) / slope``. All readings of a touch share its
    error, and all of them the error of the touch at which the curve begins: these are fitted too, each known to be 0
    within what a touch scatters (mixed model by augmented least squares). Without a third warmth the square is left
    out.

    Raises:
        ValueError: fewer than two warmths.
    """
    import numpy as np

    samples = np.asarray(rows, dtype=np.float64)
    touches, which = np.unique(samples[:, 3], return_inverse=True)
    if len(touches) < 2:
        raise ValueError("at least two warmths are needed")
    slopes = np.array([abs(curve.slope(mm)) for mm in samples[:, 0]])
    off = (samples[:, 1] - curve.frequency(samples[:, 0])) / slopes
    terms = [samples[:, 2], samples[:, 2] * (samples[:, 1] - curve.far_hz)]
    if len(touches) > 2:
        terms.append(samples[:, 2] ** 2)
    count, hidden = len(terms), len(touches) + 1
    design = np.zeros((len(samples) + hidden, count + hidden))
    design[: len(samples), :count] = np.column_stack(terms) / slopes[:, None] / READ_MM
    design[np.arange(len(samples)), count + which] = 1 / READ_MM
    design[: len(samples), -1] = -1 / READ_MM
    design[len(samples) :, count:] = np.eye(hidden) / TOUCH_MM
    size = np.linalg.norm(design, axis=0)
    scaled = design / size
    seen = np.concatenate([off / READ_MM, np.zeros(hidden)])
    solution = np.linalg.lstsq(scaled, seen, rcond=None)[0] / size
    left = seen - design @ solution
    wider = max(1.0, float(left @ left) / max(1, len(samples) - count))
    covariance = (np.linalg.inv(scaled.T @ scaled) / np.outer(size, size))[:count, :count] * wider
    shifts = off - (np.column_stack(terms) / slopes[:, None]) @ solution[:count] + solution[-1]
    a, b, c = (float(term) for term in (*solution[:count], 0.0)[:3])
    return TemperatureEffect((a, b, c), 1000 * math.sqrt(float(np.mean(shifts**2))), covariance)


COIL = "coil"
RATE_HZ = 400.0
SETTLE_S = 0.15
NO_COIL = "this machine’s probe is no coil"


ALIKE = 20
"""Consecutive identical readings from which they are none: noise changes every few of them."""


@dataclass(frozen=True)
class CoilReading:
    """Mean of count readings: frequency over the reference and its deviation, Hz; amplitude, V; warmth, °C."""

    hz: float
    deviation_hz: float
    count: int
    volts: float
    celsius: float


def coil_of(machine: MachineFile) -> CoilProbe:
    """The declared coil.

    Raises:
        TrialFailed: there is none.
    """
    probe = machine.probe
    if probe is None or probe.kind != "coil" or probe.coil is None:
        raise TrialFailed(
            f"{NO_COIL[0].upper()}{NO_COIL[1:]}: nothing to find out here.",
            ChangeSetting("probe.kind", "only a coil has a curve"),
        )
    return probe.coil


def no_coil(machine: MachineFile) -> str:
    """Why there is nothing to do for a coil; empty: there is one."""
    return "" if machine.probe is not None and machine.probe.kind == "coil" else NO_COIL


async def read_coil(bench: Bench, seconds: float = 0.4) -> CoilReading:
    """Listen while nothing moves.

    Raises:
        TrialFailed: the board has no coil, or nothing comes from it.
    """
    if COIL not in bench.streams.kinds():
        raise TrialFailed(
            "The board reports no coil: check its plug, and that the firmware supports it.",
            ByHand("check the coil's plug and cable"),
            WRITE,
        )
    await bench.clock.rest(SETTLE_S)
    wanted, rows = round(seconds * RATE_HZ), []
    async with bench.streams.open(COIL, RATE_HZ) as listening:
        async for chunk in listening:
            rows.append(chunk.values)
            if sum(len(row) for row in rows) >= wanted:
                break
    values = np.concatenate(rows)
    must_go_on_reading(values)
    mean = values.mean(axis=0)
    if not values[:, 0].std():
        raise TrialFailed(
            f"The coil reads {mean[0]:.0f} Hz over its reference without the least scatter: its sensor is at its "
            "limit. It sits too near to metal, or is another coil: mount it higher.",
            ByHand("mount the coil higher"),
        )
    if not mean[1]:
        raise TrialFailed(
            "The coil does not ring at all: a broken wire, or no drive current.",
            ByHand("check the coil's cable"),
            GoTo("coil probe", "a drive current that lets it ring", "coil-current"),
        )
    return CoilReading(float(mean[0]), float(values[:, 0].std(ddof=1)), len(values), float(mean[1]), float(mean[2]))


def must_go_on_reading(values: Floats) -> None:
    """Readings (n x columns) of a coil scatter and ring: a stretch exactly alike, or without amplitude, is none.

    Raises:
        TrialFailed: they stand still, or the coil stops ringing, while they are taken.
    """
    silent = int(np.sum(values[:, 1] <= 0))
    if 0 < silent < len(values):
        raise TrialFailed(
            f"The coil stopped ringing while it was read: {silent} of {len(values)} readings have no amplitude. Look "
            "at its cable and plug; nothing is concluded.",
            ByHand("check the coil's cable and plug"),
        )
    alike = np.concatenate([[False], np.all(values[1:, :2] == values[:-1, :2], axis=1), [False]])
    edges = np.flatnonzero(alike[1:] != alike[:-1])
    longest = int(max(edges[1::2] - edges[::2], default=0))
    if ALIKE <= longest < len(values) - 1:
        raise TrialFailed(
            f"The coil's readings stand still: {longest + 1} in a row are exactly alike. Look at its cable and plug, "
            "and at the board; nothing is concluded.",
            ByHand("check the coil's cable and plug"),
            LINK,
        )


def curve_of(machine: MachineFile) -> CoilCurve:
    """The curve that is kept.

    Raises:
        TrialFailed: none is.
    """
    coil = coil_of(machine)
    try:
        return kept_curve(coil.curve_low_mm, coil.curve_top_mm, coil.curve_hz)
    except ValueError as error:
        raise TrialFailed(
            f"The coil cannot measure heights: {error}. Run “coil-curve” first, and keep it.",
            GoTo("coil probe", "measure the curve and keep it", "coil-curve"),
        ) from error
