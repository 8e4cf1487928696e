"""Sensor curves against each other and against a reference: errors by closed forms, likelihood, fits."""

from __future__ import annotations

import pytest

from ublet.core.heat.curves import Platinum, SteinhartHart, Thermistor
from ublet.core.heat.references import (
    CHECKED_C,
    Reference,
    catalogue,
    errors,
    likeliest,
    ohm_of,
    resolution_c,
    shown_for,
)

PULLUP = 4700.0
OWN = Thermistor(100_000, 4267, PULLUP)


def test_a_wrong_curve_reads_right_at_25_and_wrong_hot() -> None:
    off = errors(OWN, PULLUP)
    assert off["ntc-100k-4267"] == pytest.approx((0, 0, 0, 0), abs=1e-9)
    wrong = off["ntc-100k-3950"]
    assert wrong[0] == pytest.approx(0, abs=1e-9) and None not in wrong
    # by the beta model: 1/T_shown = 1/T25 + (3950 / 4267) (1/T - 1/T25)
    for at, error in zip(CHECKED_C, wrong, strict=True):
        inverse = 1 / 298.15 + 3950 / 4267 * (1 / (at + 273.15) - 1 / 298.15)
        assert error == pytest.approx(1 / inverse - 273.15 - at, abs=1e-6)
    assert wrong[3] is not None and wrong[3] < -20


def test_readings_at_boiling_water_tell_the_curve() -> None:
    true = Thermistor(100_000, 3950, PULLUP)
    shown = shown_for(OWN, true, 99.4)
    assert shown is not None
    ranked = likeliest(OWN, PULLUP, [Reference(99.4, shown + 0.2)], 0.5)
    assert ranked[0].name == "ntc-100k-3950" and ranked[0].odds == 1 and ranked[0].worst_c == pytest.approx(0.2)
    declared = next(each for each in ranked if each.name == "ntc-100k-4267")
    assert declared.odds < 1e-6 and declared.worst_c > 5
    assert "platinum-100" in catalogue(PULLUP)


def test_resistance_and_resolution_behind_a_reading() -> None:
    assert ohm_of(OWN, 25, PULLUP) == pytest.approx(100_000)
    assert resolution_c(OWN, 60, 4095) == pytest.approx(OWN.resolution(60, 4095), rel=1e-3)
    assert resolution_c(Platinum(100, 4700), 200, 4095) > 3, "a platinum sensor under a large pull-up is coarse"
    points = [(at, OWN.resistance(at)) for at in (0.0, 60.0, 200.0)]
    assert SteinhartHart.through(points, PULLUP).celsius(OWN.ratio(60)) == pytest.approx(60, abs=1e-6)
