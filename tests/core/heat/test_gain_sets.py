"""Sets of gains at several temperatures: each is predicted where it is used, and one that serves all is found."""

from __future__ import annotations

import pytest

from ublet.core.heat.demands import HOTEND
from ublet.core.heat.gain_sets import GainsAt, good_enough, nearest, serve
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import Gains
from ublet.core.heat.prediction import Situation, predict_step
from ublet.core.heat.rules import simc

COOL, HOT = HeaterModel(540, 205, 1.8, 23, 2.0), HeaterModel(480, 180, 1.8, 23, 2.0)
MODELS = {200.0: COOL, 260.0: HOT}
TUNED = simc(COOL, 1.8).rounded()
SETS = {"tuned": GainsAt(TUNED, 200.0), "wild": GainsAt(Gains(0.02, 0.004, 0.0))}


def test_each_target_is_predicted_on_the_model_found_nearest_to_it() -> None:
    assert nearest(MODELS, 215) is COOL and nearest(MODELS, 240) is HOT
    found = serve(SETS, MODELS, (200.0, 260.0), 1.0, HOTEND)
    measure = found.measures["tuned"][1]
    assert measure is not None
    direct = predict_step(HOT, TUNED, Situation(260, 23, end_s=400)).measure
    assert measure.overshoot_c == pytest.approx(direct.overshoot_c, abs=0.05)


def test_one_set_serves_all_and_a_wild_one_none() -> None:
    found = serve(SETS, MODELS, (200.0, 230.0, 260.0), 1.0, HOTEND)
    assert found.all == ("tuned",) and found.targets_c == (200.0, 230.0, 260.0)
    wild = found.measures["wild"][0]
    assert wild is not None and not good_enough(wild, HOTEND)


def test_a_target_that_is_not_reached_is_left_out_and_no_model_is_said() -> None:
    found = serve(SETS, MODELS, (200.0, 600.0), 1.0, HOTEND)
    assert found.measures["tuned"][1] is None and found.all == ("tuned",)
    with pytest.raises(ValueError, match="no model of this heater"):
        serve(SETS, {}, (200.0,), 1.0, HOTEND)
