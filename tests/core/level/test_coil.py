"""A coil's curve, its drift and a pass against known truth; the world's coil against closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.level.coil.curve import drift_hz, fit_curve, fit_drift, kept_curve, unshifted
from ublet.core.level.coil.scan import gone_mm
from ublet.core.level.coil.scan_trials import worst_f
from ublet.world.coil import MU0, Coil, CoilTruth, mutual

HEIGHTS = np.linspace(0.1, 5.0, 24)


def true_coil(**changed: float) -> Coil:
    coil = Coil(CoilTruth(**changed), 23.0, np.random.default_rng(1))  # type: ignore[arg-type]
    coil.tune("drive", 0.7)
    return coil


def test_far_apart_circles_are_dipoles_and_near_ones_follow_maxwell() -> None:
    a, b, d = 0.004, 0.006, 0.3
    dipoles = MU0 * math.pi * a * a * b * b / 2 / d**3
    assert mutual(4.0, 6.0, np.array([300.0]))[0] == pytest.approx(dipoles, rel=2e-3)
    # by Neumann's integral over one angle, both circles in one plane
    angle = np.linspace(0, 2 * math.pi, 200_001)[:-1]
    apart = np.sqrt(a * a + b * b - 2 * a * b * np.cos(angle))
    neumann = MU0 / 2 * a * b * float(np.mean(np.cos(angle) / apart)) * 2 * math.pi
    assert mutual(4.0, 6.0, np.array([0.0]))[0] == pytest.approx(neumann, rel=1e-6)


def test_a_curve_follows_a_coil_that_it_knows_nothing_of() -> None:
    coil = true_coil(hangs_mm=1.2)
    random = np.random.default_rng(3)
    hz = coil.frequency(HEIGHTS + 1.2) + random.normal(0, 3, len(HEIGHTS))
    curve = fit_curve(HEIGHTS.tolist(), hz.tolist())
    assert (np.diff(curve.hz) < 0).all()
    fine = np.linspace(0.15, 4.9, 200)
    heights = curve.height(coil.frequency(fine + 1.2))
    assert float(np.abs(heights - fine).max()) < 0.004
    again = kept_curve(0.1, 5.0, np.round(curve.hz, 1).tolist())
    assert float(np.abs(again.height(coil.frequency(fine + 1.2)) - fine).max()) < 0.004
    assert curve.resolves_um(0.5, 40) < curve.resolves_um(1.5, 40) < curve.resolves_um(4.5, 40)


def test_what_is_no_curve_is_refused() -> None:
    with pytest.raises(ValueError, match="near the bed"):
        fit_curve(HEIGHTS.tolist(), (1000 * HEIGHTS).tolist())
    with pytest.raises(ValueError, match="five heights"):
        fit_curve([0, 1], [2, 1])
    for hz in ((), (5.0, 4.0, 4.5, 3.0, 2.0)):
        with pytest.raises(ValueError, match="not measured yet"):
            kept_curve(0.1, 5.0, hz)


def test_drift_and_its_way_back_are_inverse() -> None:
    terms, over_c = (-300.0, -4e-4, 1.5), np.array([0.0, 12.0, 30.0])
    cold = np.array([1e5, 2e5, 3e5])
    hot = cold + np.array([drift_hz(terms, k, hz - 5e4) for k, hz in zip(over_c, cold, strict=True)])
    assert unshifted(hot, terms, over_c, 5e4) == pytest.approx(cold, abs=1e-6)
    assert drift_hz((), 30.0, 1e5) == 0.0


def test_a_drift_is_found_from_touches_and_its_claim_covers_over_many_coils() -> None:
    covered, worst = 0, 0.0
    for seed in range(60):
        random = np.random.default_rng(seed)
        slow, slower = float(random.uniform(-120, 120)), float(random.uniform(-0.6, 0.6))
        coil = true_coil(circuit_ppm_k=slow, circuit_ppm_k2=slower)
        zero = float(random.uniform(-0.0125, 0.0125))
        curve = fit_curve(HEIGHTS.tolist(), coil.frequency(HEIGHTS + 1.2 + zero).tolist())
        rows = []
        for number, warm in enumerate((0.0, 8.0, 17.0, 25.0, 33.0)):
            coil.warm_k = warm
            touched = float(random.uniform(-0.0125, 0.0125))
            for mm in (3.2, 2.0, 1.2, 0.7):
                rows.append((mm, float(coil.frequency(np.array([mm + 1.2 + touched]))[0]), warm, number))
        drift = fit_drift(curve, rows)
        true_um = 1000 * coil.shift_mm(1.2 + 1.5, 33.0)
        over, slope = float(curve.frequency(1.5)) - curve.far_hz, curve.slope(1.5)
        found_um = 1000 * drift_hz(drift.terms, 33.0, over) / abs(slope)
        covered += abs(found_um - true_um) <= 2 * drift.shift_u_um(33.0, over, slope)
        worst = max(worst, abs(found_um - true_um))
    assert covered / 60 >= 0.9 and worst < 25, (covered, worst)
    with pytest.raises(ValueError, match="two warmths"):
        fit_drift(curve, rows[:4])


def test_a_line_is_gone_as_the_planner_goes_it() -> None:
    at = np.array([0.0, 0.1, 1.0, 1.95, 2.05, 3.0])
    gone = gone_mm(at, 2.05, 100.0, 50.0)  # v/a = 0.05 s, a = 1000
    assert gone == pytest.approx([0.0, 50 * 0.1 - 1.25, 48.75, 97.5 - 1.25 * 0 - 1.25 + 0.0, 100.0, 100.0], abs=1.3)
    assert gone[0] == 0.0 and gone[-1] == 100.0 and gone[2] == pytest.approx(48.75)


def test_the_quantile_of_f_is_that_of_the_tables() -> None:
    assert worst_f(54) == pytest.approx(1.573, abs=0.02)
    assert worst_f(30) == pytest.approx(1.841, abs=0.02)
