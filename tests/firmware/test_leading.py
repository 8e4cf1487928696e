"""Pressure advance on the board: how far the extruder leads, how fast, and for how long a program’s value counts."""

from __future__ import annotations

from collections.abc import Sequence

import pytest

from tests.conftest import tern
from ublet.core.heat.pid import TICK_S
from ublet.core.machine.effective import board_settings
from ublet.core.motion.caps import Caps
from ublet.core.motion.program import Program, Segment, SetAdvance, To, timetable
from ublet.core.settings import Value
from ublet.core.sockets import Level, Pace, Steps, Until
from ublet.firmware.events import Events
from ublet.firmware.leading import Lead
from ublet.firmware.moving import Mover
from ublet.firmware.refusal import Refused
from ublet.link.segments import segment_fields, segment_from

K_S, R = 0.05, 0.04


class Extruder:
    """Sockets that write down where path and extruder are: (time, path in mm, filament in mm, path's speed)."""

    def __init__(self, live: dict[str, Value]) -> None:
        self.per_mm = float(live["extruder.steps_per_mm"])  # type: ignore[arg-type]
        self.socket = str(live["extruder.motor.socket"])
        self.seconds = self.path = self.filament = self.fastest = 0.0
        self.rows: list[tuple[float, float, float, float]] = []

    def turn(self, motors: Sequence[Steps], pace: Pace, until: Until | None = None) -> None:
        own = next((steps for steps in motors if steps.socket == self.socket), None)
        self.seconds += pace.seconds
        self.path += pace.gone(pace.seconds)
        if own is not None:
            self.filament += (own.per_mm * pace.gone(pace.seconds) + own.ahead_per_s * pace.seconds) / self.per_mm
            speeds = (own.per_mm * speed + own.ahead_per_s for speed in (pace.speed_mm_s, pace.speed(pace.seconds)))
            self.fastest = max(self.fastest, *(abs(speed) / self.per_mm for speed in speeds))
        self.rows.append((self.seconds, self.path, self.filament, pace.speed(pace.seconds)))

    def level(self, socket: str) -> Level:
        return Level(False, 0)


def a_board(advance_s: float = 0.0, advances: bool = True) -> tuple[Mover, Extruder, dict[str, Value]]:
    live = dict(board_settings(tern())) | {"extruder.advance_s": advance_s, "extruder.motor.reversed": False}
    sockets = Extruder(live)
    mover = Mover(sockets, Events(lambda: 0.0), lambda name: False, lambda name: (210.0, 210.0), lambda down: None, 1e6)  # type: ignore[arg-type]
    mover.advances = advances
    mover.reset(live)
    mover.position.update({"x": 20.0, "y": 20.0, "z": 1.0})
    return mover, sockets, live


def follow(mover: Mover, segments: Sequence[Segment]) -> None:
    mover.take("lines", 0, segments, True)
    while mover.moving:
        mover.advance(TICK_S)


LINE = (To({"x": 120.0}, 60.0, 100 * R),)


def test_at_speed_the_extruder_is_ahead_by_k_and_at_the_end_by_nothing() -> None:
    mover, sockets, _ = a_board(K_S)
    follow(mover, LINE)
    assert sockets.filament == pytest.approx(100 * R)
    for _, path, filament, speed in sockets.rows:
        assert filament - R * path == pytest.approx(R * K_S * speed, abs=1e-6)
    assert max(speed for *_, speed in sockets.rows) == pytest.approx(60.0)


def test_without_it_the_extruder_keeps_to_the_path() -> None:
    for mover, sockets, _ in (a_board(0.0), a_board(K_S, advances=False)):
        follow(mover, LINE)
        assert all(filament == pytest.approx(R * path) for _, path, filament, _ in sockets.rows)


def test_a_programs_value_counts_until_its_end_and_the_live_one_after_that() -> None:
    mover, sockets, _ = a_board(0.0)
    follow(mover, (SetAdvance(0.1), *LINE))
    assert max(filament - R * path for _, path, filament, _ in sockets.rows) == pytest.approx(R * 0.1 * 60, rel=1e-6)
    sockets.rows.clear()
    sockets.path = sockets.filament = 0.0
    follow(mover, (To({"x": 20.0}, 60.0, 100 * R),))
    assert all(filament == pytest.approx(R * path) for _, path, filament, _ in sockets.rows)


def test_its_jumps_stay_within_the_jerk_and_it_never_is_faster_than_it_may_be() -> None:
    for k_s in (0.05, 0.5, 3.0):
        mover, sockets, live = a_board(0.0)
        follow(mover, (SetAdvance(k_s), *LINE))
        assert sockets.filament == pytest.approx(100 * R)
        assert sockets.fastest <= float(live["extruder.maximum_feed_mm_s"]) * (1 + 1e-9)  # type: ignore[arg-type]
        caps = Caps(live, 1e6).with_advance(k_s)
        line = caps.line({"x": 100.0, "e": 100 * R}, 60.0)
        jump = R * k_s * line.acceleration
        assert jump <= float(live["extruder.jerk_mm_s"]) * (1 + 1e-9) or line.acceleration == 50.0  # type: ignore[arg-type]


def test_it_takes_as_long_as_the_timetable_says() -> None:
    mover, sockets, live = a_board(0.0)
    segments = (SetAdvance(0.4), *LINE, SetAdvance(0.01), To({"x": 20.0}, 90.0, 100 * R))
    table = timetable(Program("lines", segments), {"x": 20.0, "y": 20.0, "z": 1.0}, Caps(live, 1e6))
    follow(mover, segments)
    assert sockets.seconds == pytest.approx(table.seconds, rel=1e-6)


def test_a_corner_to_a_way_without_filament_is_made_up_and_nothing_is_lost() -> None:
    mover, sockets, _ = a_board(K_S)
    follow(mover, (*LINE, To({"x": 160.0}, 100.0), To({"x": 200.0}, 60.0, 40 * R)))
    assert sockets.filament == pytest.approx(140 * R, abs=1e-6)


def test_an_image_without_the_module_refuses_a_value_on_the_way() -> None:
    mover, _, _ = a_board(K_S, advances=False)
    with pytest.raises(Refused, match="no module for pressure advance"):
        mover.take("lines", 0, (SetAdvance(0.1), *LINE), True)


def test_it_goes_over_the_line_and_bad_values_do_not() -> None:
    segment = SetAdvance(0.045, "line 3")
    assert segment_from(segment_fields(segment)) == segment
    for bad in (-0.1, 3.5, "much", None, float("nan")):
        with pytest.raises(ValueError, match="advance_s"):
            segment_from({"advance_s": bad})


def test_a_lead_of_nothing_leaves_the_motors_as_they_are() -> None:
    lead, motors = Lead(), (Steps("M6", 10.0, 16, 0.7),)
    lead.limit("M6", 1e5)
    assert lead.with_lead(motors, {"x": 1.0, "e": 0.04}, Pace(10.0, 0.0, 1.0)) is motors
