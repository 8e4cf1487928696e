"""Staleness with reasons, and the route."""

from __future__ import annotations

import pytest

from ublet.core.catalogue import TRIALS
from ublet.core.evidence import stale_reasons
from ublet.core.route import ROUTE, station_of


def test_a_changed_setting_makes_stale_and_says_so() -> None:
    then = {"heaters.hotend.kp": 0.1, "sensors.hotend.socket": "T1", "target_c": 215.0}
    assert stale_reasons(then, {"heaters.hotend.kp": 0.1, "sensors.hotend.socket": "T1"}) == ()
    (reason,) = stale_reasons(then, {"heaters.hotend.kp": 0.2, "sensors.hotend.socket": "T1"})
    assert reason == "heaters.hotend.kp was 0.1, is now 0.2"
    assert "sensors.hotend.socket was T1, is now T2" in stale_reasons(then, {"sensors.hotend.socket": "T2"})


def test_rounding_in_a_store_is_no_change_and_a_little_more_is() -> None:
    assert stale_reasons({"a.b": 0.1}, {"a.b": 0.1 * (1 + 0.9e-6)}) == ()
    (reason,) = stale_reasons({"a.b": 280.0}, {"a.b": 280.0 * (1 + 2e-6)})
    assert reason == "a.b was 280, is now 280.001"
    assert stale_reasons({"a.b": 0.0}, {"a.b": 1e-12}) == ("a.b was 0, is now 1e-12",)


def test_truth_is_no_number_and_what_is_gone_is_gone() -> None:
    assert stale_reasons({"a.b": True}, {"a.b": 1}) == ("a.b was yes, is now 1",)
    assert stale_reasons({"a.b": None}, {"a.b": 2.0}) == ("a.b was –, is now 2",)
    assert stale_reasons({"a.b": 1.0}, {"c.d": 1.0}) == ("a.b was 1, and the board has it no longer",)


def test_every_trial_has_its_station_and_every_leg_its_place() -> None:
    for name, spec in TRIALS.items():
        assert station_of(name).name == spec.station
    legs = list(dict.fromkeys(station.leg for station in ROUTE))
    assert legs == ["Declare", "Wire", "Move", "Heat", "Level", "Extrude", "Shake", "Record"]
    assert len({station.name for station in ROUTE}) == len(ROUTE)
    with pytest.raises(KeyError):
        station_of("nothing")
