"""Thermistor curves against the closed form."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.heat.curves import Platinum, SteinhartHart, Thermistor, curve_of

CURVE = Thermistor(100e3, 4267, 4700)


def test_the_curve_goes_through_its_nominal_point() -> None:
    assert CURVE.resistance(25) == pytest.approx(100e3)
    assert CURVE.ratio(25) == pytest.approx(100e3 / 104.7e3)


def test_a_hot_point_by_hand() -> None:
    resistance = 100e3 * math.exp(4267 * (1 / 488.15 - 1 / 298.15))
    assert CURVE.resistance(215) == pytest.approx(resistance)


@given(st.floats(-20, 350))
def test_reading_undoes_the_divider(celsius: float) -> None:
    assert CURVE.celsius(CURVE.ratio(celsius)) == pytest.approx(celsius, abs=1e-6)


@pytest.mark.parametrize("ratio", [0.0, 1.0, -0.1, 2.0])
def test_rails_are_no_temperature(ratio: float) -> None:
    with pytest.raises(ValueError, match="rail"):
        CURVE.celsius(ratio)


def test_resolution_is_the_slope_of_the_curve() -> None:
    step = 1e-3
    slope = (CURVE.ratio(215 - step) - CURVE.ratio(215 + step)) / (2 * step)
    assert CURVE.resolution(215, 4095) == pytest.approx(1 / (slope * 4095), rel=1e-5)


def test_platinum_by_the_standard_table() -> None:
    # IEC 60751: Pt100 at 0, 100, 200 and 300 °C
    for celsius, ohm in ((0, 100.0), (100, 138.5055), (200, 175.856), (300, 212.0515)):
        sensor = Platinum(100, 4700)
        assert sensor.resistance(celsius) == pytest.approx(ohm, abs=0.003)
        assert sensor.celsius(sensor.ratio(celsius)) == pytest.approx(celsius, abs=1e-6)


def test_steinhart_hart_goes_exactly_through_three_points() -> None:
    points = [(25.0, 100_000.0), (100.0, 6_700.0), (215.0, 430.0)]
    curve = SteinhartHart.through(points, 4700)
    for celsius, ohm in points:
        assert curve.celsius(ohm / (ohm + 4700)) == pytest.approx(celsius, abs=1e-6)
        assert curve.ratio(celsius) == pytest.approx(ohm / (ohm + 4700), rel=1e-9)


@given(st.floats(2500, 4800), st.floats(5_000, 200_000))
def test_steinhart_hart_recovers_a_beta_curve_from_many_points(beta: float, r25: float) -> None:
    truth = Thermistor(r25, beta, 4700)
    curve = SteinhartHart.through([(c, truth.resistance(c)) for c in (0, 25, 60, 100, 150, 215)], 4700)
    for celsius in (10.0, 80.0, 200.0):
        assert curve.celsius(truth.ratio(celsius)) == pytest.approx(celsius, abs=1e-3)


@pytest.mark.parametrize(
    "points",
    [
        [(25.0, 1e5), (100.0, 6.7e3)],
        [(25.0, 1e5), (25.0, 1e5), (100.0, 6.7e3)],
        [(25.0, 1e5), (60.0, 2e5), (100.0, 6.7e3)],
    ],
)
def test_points_that_make_no_curve_are_told(points: list[tuple[float, float]]) -> None:
    with pytest.raises(ValueError, match=r"three|fall"):
        SteinhartHart.through(points, 4700)


def test_a_curve_from_settings() -> None:
    assert curve_of({"kind": "beta", "r25_ohm": 1e5, "beta_k": 4267, "pullup_ohm": 4700}) == CURVE
    assert curve_of({"kind": "platinum", "r0_ohm": 1000, "pullup_ohm": 4700}) == Platinum(1000, 4700)
    points: dict[str, float] = {}
    for name, celsius, ohm in (("a", 25, 1e5), ("b", 100, 6700), ("c", 215, 430)):
        points.update({f"points.{name}.celsius": celsius, f"points.{name}.ohm": ohm})
    assert isinstance(curve_of({"kind": "points", "pullup_ohm": 4700, **points}), SteinhartHart)
    with pytest.raises(ValueError, match="beta_k is missing"):
        curve_of({"kind": "beta", "r25_ohm": 1e5, "pullup_ohm": 4700})
