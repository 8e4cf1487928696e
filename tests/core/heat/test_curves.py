"""Thermistor curves against the closed form."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.heat.curves import Thermistor

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
