"""Recorded heat tables: holes are holes, units are recognised, and what a record cannot tell is refused."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.heat.analysis import analyse_heat, believable
from ublet.core.heat.candidates import LEAST_MARGIN, carries, gain_margin, ziegler_nichols
from ublet.core.heat.model import HeaterModel, respond
from ublet.core.heat.model_fit import UnfitRecord, fit_model
from ublet.core.heat.pid import PidGains

TRUTH = HeaterModel(540.0, 205.0, 1.6, 23.0, 2.0)
TIME = np.arange(3600, dtype=np.float64) * 0.1
DUTY = np.where(TIME < 2, 0.0, np.where(TIME < 100, 1.0, (np.sin(0.35 * TIME) > 0.2) * 0.7))
SEEN = respond(TRUTH, TIME, DUTY, 23.0) + 0.06 * np.random.default_rng(4).standard_normal(len(TIME))


def holed(start: float, seconds: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    left = (start > TIME) | (start + seconds <= TIME)
    return TIME[left], DUTY[left], SEEN[left]


def test_a_long_hole_ends_the_record_and_its_gains_stay_what_they_are() -> None:
    whole, cut = analyse_heat(TIME, DUTY, SEEN), analyse_heat(*holed(220, 30))
    assert cut.record.time_s[-1] < 220 and "a hole of 30.1 s after 219.9 s" in cut.notes[0]
    assert cut.fit.model.gain_c == pytest.approx(TRUTH.gain_c, rel=0.02)
    for name, candidate in cut.made.items():
        assert candidate.gains.kp == pytest.approx(whole.made[name].gains.kp, rel=0.25)


def test_a_short_hole_is_left_out_of_the_fit_and_not_bridged() -> None:
    time, duty, celsius = holed(50, 0.8)  # the heater is on before, after, and meanwhile
    kept = believable(time, duty, celsius)
    assert len(kept.time_s) == len(time) and "1 hole in time, the first of 0.9 s" in kept.notes[0]
    assert fit_model(time, duty, celsius, 23.0).model.gain_c == pytest.approx(TRUTH.gain_c, rel=0.01)
    switched = int(np.flatnonzero(np.diff(DUTY[1500:]))[0]) / 10 + 150
    assert len(believable(*holed(switched - 0.4, 0.8)).time_s) < len(TIME) - 8, "the duty changed in it"


def test_a_hole_before_anything_is_told_is_refused() -> None:
    with pytest.raises(UnfitRecord, match=r"a hole of 30\.1 s after 1\.9 s: what the duty was meanwhile nobody knows"):
        believable(*holed(2, 30))


@pytest.mark.parametrize(
    ("time", "celsius", "words"),
    [
        (TIME * 1000, SEEN, "milliseconds"),
        (TIME / 60, SEEN, "minutes"),
        (TIME, SEEN + 273.15, "kelvin"),
        (TIME, SEEN * 1.8 + 32, "Fahrenheit"),
        (TIME, SEEN * 1e300, "no heater's temperatures"),
    ],
)
def test_other_units_are_recognised(time: np.ndarray, celsius: np.ndarray, words: str) -> None:
    with pytest.raises(UnfitRecord, match=words):
        analyse_heat(time, DUTY, celsius)


def test_a_fit_at_its_bound_or_left_open_is_refused() -> None:
    ramp = (
        23 + np.maximum(0.0, TIME - 2) * 0.4 + SEEN - respond(TRUTH, TIME, DUTY, 23.0)
    )  # never levels off: neither gain nor time constant can be told
    on = np.where(TIME < 2, 0.0, 1.0)
    with pytest.raises(UnfitRecord, match=r"does not determine it|no gains of any rule"):
        analyse_heat(TIME, on, ramp)


def test_the_gain_margin_is_that_of_the_closed_form() -> None:
    """An integrator with dead time under proportional control: the margin is pi tau / (2 K kp theta)."""
    slow = HeaterModel(1e5, 1e5, 2.0, 20.0)
    assert gain_margin(slow, PidGains(0.1, 0.0, 0.0)) == pytest.approx(np.pi / (2 * 0.1 * 2.05), rel=0.01)
    assert gain_margin(slow, PidGains(0.2, 0.0, 0.0)) == pytest.approx(np.pi / (2 * 0.2 * 2.05), rel=0.01)


def test_gains_beyond_what_the_plant_carries_are_not_offered() -> None:
    found = analyse_heat(TIME, DUTY, SEEN)
    assert set(found.made) == {"calm", "balanced", "quick"}
    assert all(gain_margin(found.fit.model, c.gains) >= LEAST_MARGIN for c in found.made.values())
    assert not carries(TRUTH, PidGains(21.0, 1.0, 3.0)) and not carries(TRUTH, ziegler_nichols(2.0, 12.0))
