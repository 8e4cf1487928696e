"""Own curves through reference readings, against curves that are known; and how sure they are."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.heat.curve_fit import fit_curve
from ublet.core.heat.curves import SteinhartHart, Thermistor, curve_of

PULLUP = 4700.0
BETA = Thermistor(98_000, 4010, PULLUP)
TABLE = [(0.0, 32_650.0), (25.0, 10_000.0), (50.0, 3_603.0)]
TRUE = SteinhartHart.through([(0.0, 351_000.0), (100.0, 5_569.0), (250.0, 205.0)], PULLUP)


def ohm(curve: SteinhartHart, celsius: float) -> float:
    ratio = curve.ratio(celsius)
    return PULLUP * ratio / (1 - ratio)


def test_two_readings_give_the_beta_exactly_and_more_by_least_squares() -> None:
    points = [(at, BETA.resistance(at)) for at in (0.0, 99.4)]
    exact = fit_curve(points, "beta", 0.5, PULLUP)
    assert exact.settings == {"r25_ohm": pytest.approx(98_000), "beta_k": pytest.approx(4010)}
    assert exact.residuals_c == pytest.approx((0, 0), abs=1e-9) and exact.spare == 0 and exact.fits
    bent = fit_curve([*points, (41.0, BETA.resistance(41.5))], "beta", 0.05, PULLUP)
    assert bent.settings["beta_k"] == pytest.approx(4010, rel=0.01)
    assert 0.1 < max(map(abs, bent.residuals_c)) < 0.5 and not bent.fits


def test_three_readings_give_the_coefficients_of_the_closed_form() -> None:
    fit = fit_curve(TABLE, "steinhart", 0.5, PULLUP)
    assert fit.residuals_c == pytest.approx((0, 0, 0), abs=1e-9)
    # Steinhart and Hart's three equations solved by hand (Cramer): L = ln R, Y = 1/T
    (l1, y1), (l2, y2), (l3, y3) = ((math.log(r), 1 / (t + 273.15)) for t, r in TABLE)
    g2, g3 = (y2 - y1) / (l2 - l1), (y3 - y1) / (l3 - l1)
    c = (g3 - g2) / (l3 - l2) / (l1 + l2 + l3)
    b = g2 - c * (l1**2 + l1 * l2 + l2**2)
    assert fit.settings["steinhart_c"] == pytest.approx(c, rel=1e-6)
    assert fit.settings["steinhart_b"] == pytest.approx(b, rel=1e-6)
    assert fit.settings["steinhart_a"] == pytest.approx(y1 - (b + l1**2 * c) * l1, rel=1e-6)


def test_more_readings_than_terms_leave_residuals_and_the_settings_carry_the_curve() -> None:
    random = np.random.default_rng(4)
    at = (0.4, 41.0, 74.0, 99.4, 150.0, 200.0)
    points = [(celsius + 0.3 * float(random.standard_normal()), ohm(TRUE, celsius)) for celsius in at]
    own, beta = (fit_curve(points, kind, 0.3, PULLUP) for kind in ("steinhart", "beta"))
    assert own.fits and own.spare == 3 and not beta.fits
    kept = {key: float(f"{value:.6g}") for key, value in own.settings.items()}
    curve = curve_of({"kind": "steinhart", "pullup_ohm": PULLUP, **kept})
    for celsius in at:
        assert curve.celsius(TRUE.ratio(celsius)) == pytest.approx(celsius, abs=1.0)


@pytest.mark.parametrize("kind", ["beta", "steinhart"])
def test_its_uncertainty_covers_the_error_far_from_the_readings(kind: str) -> None:
    at, inside, tries = (0.4, 41.0, 74.0, 99.4), 0, 300
    random = np.random.default_rng(7)
    for _ in range(tries):
        points = [(celsius + 0.3 * float(random.standard_normal()), BETA.resistance(celsius)) for celsius in at]
        fit = fit_curve(points, kind, 0.3, PULLUP)
        inside += abs(fit.curve.celsius(BETA.ratio(180)) - 180) < 2 * fit.uncertainty_c(180, PULLUP)
    assert 0.91 < inside / tries < 0.99


def test_what_makes_no_curve_is_refused() -> None:
    with pytest.raises(ValueError, match="two different"):
        fit_curve([(20, 1e5), (20, 1e5)], "beta", 0.5, PULLUP)
    with pytest.raises(ValueError, match="three different"):
        fit_curve(TABLE[:2], "steinhart", 0.5, PULLUP)
    with pytest.raises(ValueError, match="must fall"):
        fit_curve([(20, 1e5), (90, 2e5)], "beta", 0.5, PULLUP)
    with pytest.raises(ValueError, match="steinhart_b"):
        curve_of({"kind": "steinhart", "pullup_ohm": PULLUP, "steinhart_a": 0.0, "steinhart_b": 0.0, "steinhart_c": 0})
