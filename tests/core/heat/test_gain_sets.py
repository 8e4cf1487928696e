"""Sets of gains at several temperatures: each is predicted where it is used, and one that serves all is found."""

from __future__ import annotations

import pytest

from ublet.core.heat.candidates import simc
from ublet.core.heat.demands import HOTEND
from ublet.core.heat.gain_sets import GainsAt, gains_below, gains_root, good_enough, nearest, serve
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import PidGains
from ublet.core.heat.prediction import Situation, predict_step
from ublet.core.settings import Value

COOL, HOT = HeaterModel(540, 205, 1.8, 23, 2.0), HeaterModel(480, 180, 1.8, 23, 2.0)
MODELS = {200.0: COOL, 260.0: HOT}
TUNED = simc(COOL, 1.8).rounded()
SETS = {"tuned": GainsAt(TUNED, 200.0), "wild": GainsAt(PidGains(0.02, 0.004, 0.0))}


def test_each_target_is_predicted_on_the_model_found_nearest_to_it() -> None:
    assert nearest(MODELS, 215) is COOL and nearest(MODELS, 240) is HOT
    found = serve(SETS, MODELS, (200.0, 260.0), 1.0, HOTEND)
    measure = found.measure("tuned", 1)
    assert measure is not None
    direct = predict_step(HOT, TUNED, Situation(260, 23, end_s=400)).measure
    assert measure.overshoot_c == pytest.approx(direct.overshoot_c, abs=0.05)


def test_one_set_serves_all_and_a_wild_one_none() -> None:
    found = serve(SETS, MODELS, (200.0, 230.0, 260.0), 1.0, HOTEND)
    assert found.all == ("tuned",) and found.targets_c == (200.0, 230.0, 260.0)
    wild = found.measure("wild", 0)
    assert wild is not None and not good_enough(wild, HOTEND)


def test_a_target_that_is_not_reached_is_left_out_and_no_model_is_said() -> None:
    found = serve(SETS, MODELS, (200.0, 600.0), 1.0, HOTEND)
    assert found.measure("tuned", 1) is None and found.all == ("tuned",)
    assert found.steps["tuned"][0] is not None and found.steps["tuned"][0].celsius.max() > 199
    with pytest.raises(ValueError, match="no model of this heater"):
        serve(SETS, {}, (200.0,), 1.0, HOTEND)


def test_the_nearest_used_set_within_its_reach_holds_a_target_and_else_the_heaters_own() -> None:
    live: dict[str, Value] = {"heaters.h.kp": 1.0, "heaters.h.ki": 0.1, "heaters.h.kd": 2.0}
    for name, at, used, within in (("a", 200.0, True, 15.0), ("b", 220.0, True, 10.0), ("c", 215.0, False, 50.0)):
        root = f"heaters.h.gains.{name}"
        live |= {f"{root}.at_c": at, f"{root}.used": used, f"{root}.within_c": within, f"{root}.kp": at}
    wanted = {180.0: "", 186.0: "a", 209.0: "a", 211.0: "b", 230.0: "b", 231.0: ""}
    for target, name in wanted.items():
        root = f"heaters.h.gains.{name}" if name else "heaters.h"
        assert gains_root("h", target, ("c", "b", "a"), live.get) == root
    assert gains_root("h", 210.0, ("b", "a"), live.get).endswith(".a"), "of two equally near the first by name"
    assert gains_below("heaters.h", live.get) == PidGains(1.0, 0.1, 2.0)
    assert gains_below("heaters.h.gains.a", live.get) == PidGains(200.0, 0.0, 0.0)
