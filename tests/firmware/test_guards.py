"""Each guard trips when it must, within its window, and not before."""

from __future__ import annotations

from ublet.firmware.guards import GuardLimits, HeaterGuard, Trip

LIMITS = GuardLimits(285, 5, 15, 15, 30, 1.0)
TICK = 0.1


def watch(readings: list[tuple[float, float | None, float, float | None]]) -> tuple[Trip | None, float]:
    """The trip and its time for (ratio, celsius, duty, target) at each tick."""
    guard = HeaterGuard("hotend", "nose", TICK)
    for number, (ratio, celsius, duty, target) in enumerate(readings):
        trip = guard.watch(LIMITS, ratio, celsius, duty, target)
        if trip:
            return trip, number * TICK
    return None, 0.0


def test_an_open_and_a_shorted_sensor_trip_in_three_readings() -> None:
    good = [(0.5, 25.0, 1.0, 215.0)] * 5
    for ratio, word in ((1.0, "open"), (0.0, "shorted")):
        trip, at = watch(good + [(ratio, None, 1.0, 215.0)] * 5)
        assert trip is not None and trip.guard == f"sensor {word}" and "nose" in trip.why
        assert round(at, 3) == 0.7
    assert watch(good + [(1.0, None, 1.0, 215.0)] * 2 + good)[0] is None  # a glitch is no fault


def test_an_unheated_sensor_may_be_unplugged() -> None:
    assert watch([(1.0, None, 0.0, None)] * 50)[0] is None


def test_over_maximum_trips_even_when_off() -> None:
    trip, _ = watch([(0.05, 285.5, 0.0, None)])
    assert trip is not None and trip.guard == "over maximum"


def test_a_driven_heater_that_reads_freezing_trips() -> None:
    trip, _ = watch([(0.9, 3.0, 1.0, 215.0)])
    assert trip is not None and trip.guard == "under minimum"
    assert watch([(0.9, 3.0, 0.0, None)])[0] is None


def test_no_rise_at_full_power_trips_after_its_window() -> None:
    trip, at = watch([(0.5, 25.0, 1.0, 215.0)] * 400)
    assert trip is not None and trip.guard == "no rise"
    assert 15.0 <= at <= 15.2
    rising = [(0.5, 25.0 + 0.04 * n, 1.0, 215.0) for n in range(400)]  # 6 °C in 15 s
    assert watch(rising)[0] is None
    assert watch([(0.5, 25.0, 0.5, 215.0)] * 400)[0] is None  # not at full power


def test_drift_trips_only_once_the_target_was_reached() -> None:
    heat_up = [(0.3, 100.0, 0.9, 215.0)] * 600
    assert watch(heat_up)[0] is None
    trip, at = watch([(0.1, 215.0, 0.4, 215.0)] * 10 + [(0.1, 195.0, 0.9, 215.0)] * 400)
    assert trip is not None and trip.guard == "drift"
    assert 30.9 <= at <= 31.2
    dip = [(0.1, 215.0, 0.4, 215.0)] * 10 + [(0.1, 195.0, 0.9, 215.0)] * 290 + [(0.1, 215.0, 0.4, 215.0)] * 300
    assert watch(dip)[0] is None
