"""Choosing a curve: thermistors whose beta drifts as real ones do, which neither of the fitted curves knows."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.heat.curve_fit import claimed_c, fit_curve, judged, recommended
from ublet.core.heat.curves import SteinhartHart, Thermistor, curve_of

PULLUP, HOT, ZERO = 4700.0, 215.0, 273.15


class Drifting:
    """A thermistor of local beta ``beta25 (1 + drift (t - 25) + bow (t - 25)^2)``: ln R by summing -beta/T² dT."""

    def __init__(self, beta25: float, drift: float, bow: float) -> None:
        self._celsius = np.linspace(-10, 300, 6201)
        away = self._celsius - 25
        beta = beta25 * (1 + drift * away + bow * away**2)
        steps = -beta / (self._celsius + ZERO) ** 2 * 0.05
        logs = np.concatenate([[0.0], np.cumsum((steps[1:] + steps[:-1]) / 2)])
        self._logs = logs - np.interp(25, self._celsius, logs) + math.log(100_000)

    def ohm(self, celsius: float) -> float:
        return float(math.exp(np.interp(celsius, self._celsius, self._logs)))

    def ratio(self, celsius: float) -> float:
        return self.ohm(celsius) / (self.ohm(celsius) + PULLUP)


@pytest.mark.parametrize("baths", [(0.4, 41.0, 99.4), (0.4, 41.0, 99.4, 74.0), (0.4, 99.4)])
def test_what_is_recommended_covers_the_truth_and_seldom_lets_a_block_run_hot(baths: tuple[float, ...]) -> None:
    random, inside, hot, tries = np.random.default_rng(5), 0, 0, 300
    for _ in range(tries):
        truth = Drifting(random.uniform(3800, 4300), random.uniform(0, 4e-4), random.uniform(-4e-7, 4e-7))
        points = [(at + 0.5 * float(random.standard_normal()), truth.ohm(at)) for at in baths]
        kinds = ("beta", "steinhart") if len(baths) > 2 else ("beta",)
        best = recommended(judged([fit_curve(points, kind, 0.5, PULLUP) for kind in kinds], HOT, PULLUP))
        assert best is not None
        error = best.fit.curve.celsius(truth.ratio(HOT)) - HOT
        inside += abs(error) <= 2 * best.uncertainty_c
        hot += error < -2 * best.uncertainty_c
    assert inside / tries >= 0.9 and hot / tries <= 0.02


def test_a_beta_that_drifts_between_the_baths_and_the_nozzle_is_not_claimed_to_a_degree() -> None:
    """Local beta from 3,990 at 100 °C to 4,060 at 215: readings in three baths with an error of half a degree."""
    truth = Drifting(3944.0, 1.55e-4, 0.0)
    points = [(at, truth.ohm(at)) for at in (0.4, 41.0, 99.4)]
    beta, own = (fit_curve(points, kind, 0.5, PULLUP) for kind in ("beta", "steinhart"))
    off = abs(beta.curve.celsius(truth.ratio(HOT)) - HOT)
    assert off > 1.5 and beta.uncertainty_c(HOT, PULLUP) < 2.5, "scatter alone claims too much"
    assert off < 2 * claimed_c(beta, HOT, PULLUP)
    best = recommended(judged([beta, own], HOT, PULLUP))
    assert best is not None and abs(best.fit.curve.celsius(truth.ratio(HOT)) - HOT) < 2 * best.uncertainty_c


def test_where_two_differ_by_more_than_they_claim_the_higher_one_is_taken_and_the_difference_told() -> None:
    points = [(at, Drifting(3900, 9e-4, 0).ohm(at)) for at in (0.0, 60.0, 120.0, 180.0)]
    beta, own = (fit_curve(points, kind, 0.05, PULLUP) for kind in ("beta", "steinhart"))
    choices = judged([beta, own], 260.0, PULLUP)
    assert all(each.differs for each in choices)
    above = choices[0].above_other_c
    assert above is not None and choices[0].uncertainty_c >= abs(above)
    best = recommended(choices)
    assert (best is not None and (best.above_other_c or 0.0) > 0) or not best.fit.fits  # type: ignore[union-attr]


def test_points_that_no_thermistor_has_are_refused_by_their_place() -> None:
    points = {"1": (25.0, 100_000.0), "2": (150.0, 1_800.0), "3": (215.0, 1_750.0)}
    values: dict[str, object] = {"kind": "points", "pullup_ohm": PULLUP}
    for name, (celsius, ohm) in points.items():
        values |= {f"points.{name}.celsius": celsius, f"points.{name}.ohm": ohm}
    with pytest.raises(ValueError, match=r"from 150 °C \(1800 Ω\) to 215 °C \(1750 Ω\) the resistance falls as no"):
        curve_of(values)
    with pytest.raises(ValueError, match="bends as no thermistor"):
        SteinhartHart.through([(25.0, 100_000.0), (60.0, 60_000.0), (215.0, 560.0)], PULLUP)
    good = Thermistor(100_000, 4000, PULLUP)
    assert SteinhartHart.through([(at, good.resistance(at)) for at in (25.0, 150.0, 215.0)], PULLUP).c == pytest.approx(
        0, abs=1e-9
    )
