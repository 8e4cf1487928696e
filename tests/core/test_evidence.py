"""Staleness with reasons: exactly what moved beyond its tolerance; and the route."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
import pytest

from ublet.core.catalogue import TRIALS
from ublet.core.evidence import Dependency, Now, Present, Trace, stale_reasons
from ublet.core.route import ROUTE, station_of
from ublet.core.settings import Value


def settings(**values: Value) -> tuple[Dependency, ...]:
    """Rests on settings; __ stands for a dot."""
    return tuple(Dependency("setting", path.replace("__", "."), value) for path, value in values.items())


def among(values: Mapping[str, Value]) -> Present:
    """What settings are now, by path; whatever else a run rests on is unknown there."""

    def present(rest: Dependency) -> Now:
        if rest.kind != "setting":
            return Now(unknown=True)
        return Now(values[rest.path]) if rest.path in values else Now(gone=True)

    return present


def test_a_changed_setting_makes_stale_and_says_so() -> None:
    then = settings(heaters__hotend__kp=0.1, sensors__hotend__socket="T1")
    assert stale_reasons(then, among({"heaters.hotend.kp": 0.1, "sensors.hotend.socket": "T1"})) == ()
    (reason,) = stale_reasons(then, among({"heaters.hotend.kp": 0.2, "sensors.hotend.socket": "T1"}))
    assert reason == "heaters.hotend.kp was 0.1, is now 0.2"
    assert "sensors.hotend.socket was T1, is now T2" in stale_reasons(then, among({"sensors.hotend.socket": "T2"}))


def test_rounding_in_a_store_is_no_change_and_a_little_more_is() -> None:
    assert stale_reasons(settings(a__b=0.1), among({"a.b": 0.1 * (1 + 0.9e-6)})) == ()
    (reason,) = stale_reasons(settings(a__b=280.0), among({"a.b": 280.0 * (1 + 2e-6)}))
    assert reason == "a.b was 280, is now 280.001"
    assert stale_reasons(settings(a__b=0.0), among({"a.b": 1e-12})) == ("a.b was 0, is now 1e-12",)


def test_truth_is_no_number_and_what_is_gone_is_gone() -> None:
    assert stale_reasons(settings(a__b=True), among({"a.b": 1})) == ("a.b was yes, is now 1",)
    assert stale_reasons(settings(a__b=None), among({"a.b": 2.0})) == ("a.b was –, is now 2",)
    assert stale_reasons(settings(a__b=1.0), among({"c.d": 1.0})) == ("a.b was 1, and is there no longer",)
    assert stale_reasons((Dependency("fact", "nozzle", 3),), among({})) == (), "nobody can tell: no reason"


def test_an_array_that_moved_is_told_by_how_much() -> None:
    mesh = ((0.1, 0.2), (0.3, 0.4))
    rest = (Dependency("setting", "meshes.smooth.heights_mm", mesh),)
    assert stale_reasons(rest, among({"meshes.smooth.heights_mm": mesh})) == ()
    (reason,) = stale_reasons(rest, among({"meshes.smooth.heights_mm": ((0.1, 0.2), (0.3, 0.45))}))
    assert reason.startswith("meshes.smooth.heights_mm was 2 x 2") and "0.05" in reason


def test_what_the_work_itself_had_changed_counts_as_it_is_read_next() -> None:
    trace = Trace()
    trace.note("fact", "belt.y", 0)
    trace.note("fact", "belt.x", 0)
    for path in ("belt.y", "belt.x"):
        trace.changed("fact", path)
    trace.note("fact", "belt.y", 1)
    trace.note("fact", "belt.y", 2)
    assert [(rest.path, rest.value) for rest in trace.rests] == [("belt.y", 1), ("belt.x", 0)], "X was not read again"


def test_what_is_read_aside_is_not_rested_on_and_the_first_value_stays() -> None:
    trace = Trace()
    with trace.aside():
        trace.note("setting", "a", 1.0)
        with trace.aside():
            trace.note("setting", "b", 1.0)
        assert not trace.noting
    trace.note("setting", "c", 1.0, 0.5)
    trace.note("setting", "c", 2.0)
    assert trace.rests == (Dependency("setting", "c", 1.0, 0.5),)


@pytest.mark.parametrize("seed", range(40))
def test_stale_if_and_only_if_something_moved_beyond_its_tolerance(seed: int) -> None:
    """Random worlds, read at random moments, changed at random: against a model that only remembers and compares."""
    random = np.random.default_rng(seed)
    paths = [f"part{number}.key" for number in range(6)]
    slack = {path: float(random.choice([0.0, 0.0, 0.5, 3.0])) for path in paths}
    world: dict[str, Value] = {path: float(random.normal(0, 5)) for path in paths}
    world[paths[4]], world[paths[5]] = "a", True
    facts = {"nozzle": 0, "surface": "smooth"}
    runs: list[tuple[Trace, dict[str, Value]]] = []
    changed = 0
    for _ in range(120):
        path = paths[int(random.integers(len(paths)))]
        match int(random.integers(7)):
            case 0:
                runs.append((Trace(), {}))
            case 1 | 2 if runs:  # a run reads something, as it is at that moment
                trace, remembered = runs[-1]
                if path in world:
                    trace.note("setting", path, world[path], slack[path])
                    remembered.setdefault(path, world[path])
                trace.note("fact", "nozzle", facts["nozzle"])
                remembered.setdefault("nozzle", facts["nozzle"])
            case 3:  # a value moves: by much, by a little, or not at all
                value = world.get(path)
                if isinstance(value, float):
                    world[path] = value + float(random.choice([0.0, 1e-9, 0.2, 0.7, 5.0]))
                elif value is None:
                    world[path] = float(random.normal(0, 5))
                else:
                    world[path] = ("b" if value == "a" else "a") if isinstance(value, str) else not value
            case 4 if random.random() < 0.3:
                world.pop(path, None)
            case 5 if random.random() < 0.3:
                changed += 1
                facts["nozzle"] = changed

        def present(rest: Dependency) -> Now:
            if rest.kind == "fact":
                return Now(facts[rest.path], words="changed")
            return Now(world[rest.path]) if rest.path in world else Now(gone=True)

        for trace, remembered in runs:
            moved = [name for name, then in remembered.items() if _moved(name, then, world, facts, slack)]
            assert len(stale_reasons(trace.rests, present)) == len(moved), (moved, trace.rests)


def _moved(name: str, then: Value, world: dict[str, Value], facts: dict[str, Value], slack: dict[str, float]) -> bool:
    """The plain model: is it another thing now?"""
    if name in facts:
        return facts[name] != then
    if name not in world:
        return True
    now = world[name]
    if isinstance(then, float) and isinstance(now, float):
        return not (math.isclose(then, now, rel_tol=1e-6) or abs(then - now) <= slack[name])
    return type(then) is not type(now) or then != now


def test_every_trial_has_its_station_and_every_leg_its_place() -> None:
    for name, spec in TRIALS.items():
        assert station_of(name).name == spec.station
        assert spec.streams, "every trial records something"
    legs = list(dict.fromkeys(station.leg for station in ROUTE))
    assert legs == ["Declare", "Wire", "Move", "Heat", "Level", "Extrude", "Shake", "Record"]
    assert len({station.name for station in ROUTE}) == len(ROUTE)
    with pytest.raises(KeyError):
        station_of("nothing")
