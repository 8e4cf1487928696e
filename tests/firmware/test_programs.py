"""Programs on the board: where they go and when, caps, order and room, nudges, holding, refusals, and what is told."""

from __future__ import annotations

import json
import math
import random
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import pytest

from tests.conftest import tern
from ublet.core.heat.pid import TICK_S
from ublet.core.machine.effective import board_settings
from ublet.core.motion.caps import Caps
from ublet.core.motion.patterns import Stroke, filament_for, square
from ublet.core.motion.program import Dwell, Lift, Park, ProbeMove, Program, Push, Segment, To, Warm, timetable
from ublet.core.settings import Value
from ublet.core.sockets import Level, Pace, Steps, Until
from ublet.firmware.events import Events
from ublet.firmware.filament import OUT, FilamentWatch
from ublet.firmware.moving import Mover
from ublet.firmware.programs import ROOM
from ublet.firmware.refusal import Refused
from ublet.link.segments import park_fields, park_from, segment_fields, segment_from

STROKE = Stroke()
START = {"x": 100.0, "y": 100.0, "z": 10.0}


class Plotter:
    """Sockets that write down what motors make of a path: mm of every motor, at any time. ``touches``: at what Z the
    probe's contact opens.
    """

    def __init__(self, live: Mapping[str, Value]) -> None:
        self.roots = {
            str(live[path]): path.removesuffix(".socket")
            for path in live
            if path.endswith(".socket") and (".motors." in path or path.startswith("extruder.motor"))
        }
        self.live = live
        self.mm: dict[str, float] = dict.fromkeys(self.roots.values(), 0.0)
        self.fastest: dict[str, float] = dict.fromkeys(self.roots.values(), 0.0)
        self.hardest: dict[str, float] = dict.fromkeys(self.roots.values(), 0.0)
        self.now_mm_s: dict[str, float] = {}
        self.touches: Callable[[], float | None] = lambda: None

    def _mm(self, steps: Steps) -> tuple[str, float]:
        root = self.roots[steps.socket]
        per_mm = float(self.live[f"{root.partition('.motor')[0]}.steps_per_mm"])  # type: ignore[arg-type]
        return root, steps.per_mm / per_mm * (-1 if self.live[f"{root}.reversed"] else 1)

    def turn(self, motors: Sequence[Steps], pace: Pace, until: Until | None = None) -> float | None:
        left = self.touches() if until is not None else None
        took = pace.seconds
        if left is not None and pace.gone(pace.seconds) > left:
            took = pace.reached(left)
        for steps in motors:
            root, fraction = self._mm(steps)
            self.mm[root] += fraction * pace.gone(took)
            self.fastest[root] = max(self.fastest[root], abs(fraction) * max(pace.speed_mm_s, pace.speed(took)))
            self.hardest[root] = max(self.hardest[root], abs(fraction * pace.acceleration_mm_s2))
        return took if took < pace.seconds else None

    def ratio(self, socket: str) -> float:
        return 0.5

    def level(self, socket: str) -> Level:
        return Level(False, 0)

    def heat(self, duties: Mapping[str, float]) -> None: ...
    def blow(self, duties: Mapping[str, float]) -> None: ...
    def pin(self, down: bool) -> None: ...
    def pass_time(self, seconds: float) -> None: ...


class Bench:
    """A mover on a plotter, homed at START."""

    def __init__(self, **changed: Value) -> None:
        self.live = {**board_settings(tern()), **{path.replace("__", "."): v for path, v in changed.items()}}
        self.plotter = Plotter(self.live)
        self.time_s = 0.0
        self.celsius: float | None = 215.0
        self.target: float | None = 215.0
        self.reported: list[Mapping[str, Any]] = []
        events = Events(lambda: self.time_s)
        events.listener = self.reported.append
        self.mover = Mover(
            self.plotter,
            events,
            lambda name: False,
            lambda heater: (self.celsius, self.target),
            lambda down: None,
            400_000,
        )
        self.mover.reset(self.live)
        self.mover.position = dict(START)
        self.caps = Caps(self.live, 400_000)

    def run(self, seconds: float = math.inf) -> float:
        """Let time pass, or until nothing moves; returns how long."""
        began = self.time_s
        while self.mover.moving and self.time_s - began < seconds - 1e-9:
            self.mover.advance(TICK_S)
            self.time_s += TICK_S
        return self.time_s - began

    def take(self, *segments: Segment, at: int = 0, last: bool = True, name: str = "p") -> None:
        self.mover.take(name, at, segments, last)

    def stream(self, program: Program) -> float:
        """Give a program as there is room, until it ends; returns how long it took."""
        given, began = 0, self.time_s
        while given < len(program.segments) or self.mover.moving:
            more = program.segments[given : given + self.mover.programs.room]
            if more:
                self.mover.take(program.name, given, more, given + len(more) == len(program.segments))
                given += len(more)
            self.mover.advance(TICK_S)
            self.time_s += TICK_S
        return self.time_s - began

    @property
    def carried(self) -> dict[str, float]:
        """Where the motors really carried the axes to, and the filament."""
        mm = self.plotter.mm
        axes = self.caps.kinematics.of_motors({root: mm[root] for root in self.caps.kinematics.motors})
        return {axis: START[axis] + axes.get(axis, 0.0) for axis in START} | {"e": mm["extruder.motor"]}

    def what(self, kind: str) -> list[Mapping[str, Any]]:
        return [event for event in self.reported if event["what"] == kind]


def wandering(seed: int, count: int) -> Program:
    """A random program inside the machine."""
    drawn = random.Random(seed)
    made: list[Segment] = []
    for _ in range(count):
        length = 10 ** drawn.uniform(-1, 1.7)
        at = {"x": min(270, max(10, drawn.uniform(0, length) + 130 - length / 2)), "y": drawn.uniform(90, 90 + length)}
        if drawn.random() < 0.1:
            at["z"] = drawn.uniform(1, 20)
        made.append(To(at, drawn.uniform(5, 400), drawn.choice((0.0, 0.02 * length))))
        if drawn.random() < 0.02:
            made.append(Dwell(drawn.uniform(0, 0.3)))
    return Program("wandering", made)


@pytest.mark.parametrize("cornering", ["junction", "jerk"])
def test_two_thousand_random_segments_go_where_and_when_they_were_predicted(cornering: str) -> None:
    bench, program = Bench(motion__cornering=cornering), wandering(3, 2000)
    predicted = timetable(program, START, bench.caps)
    took = bench.stream(program)
    assert took == pytest.approx(predicted.seconds, rel=0.03)
    ends = program.end(START)
    carried = bench.carried
    assert carried == pytest.approx({**ends, "e": program.filament_mm}, abs=1e-3)
    assert bench.mover.position == pytest.approx(ends, abs=1e-6)
    assert [event["how"] for event in bench.what("ended")] == ["done"] and not bench.what("starved")
    for root in ("axes.z.motors.left", "extruder.motor"):
        part = root.partition(".motor")[0]
        assert bench.plotter.fastest[root] <= float(bench.live[f"{part}.maximum_feed_mm_s"]) * 1.01  # type: ignore[arg-type]
        assert bench.plotter.hardest[root] <= float(bench.live[f"{part}.acceleration_mm_s2"]) * 1.01  # type: ignore[arg-type]


def test_every_place_on_the_way_is_within_a_micrometre_of_the_closed_form() -> None:
    """Corners are places that the path passes at speed: each is passed, and in order."""
    bench, program = Bench(), wandering(5, 60)
    corners = list(program.ends(START))
    bench.take(*program.segments)
    track = [bench.carried]
    while bench.mover.moving:
        bench.mover.advance(0.002)
        track.append(bench.carried)
    rest = iter(track)
    for corner in corners:
        wanted = [corner[axis] for axis in START]
        assert any(math.dist([here[axis] for axis in START], wanted) < 0.7 for here in rest), corner
    assert track[-1] == pytest.approx({**corners[-1], "e": program.filament_mm}, abs=1e-6)


def test_diagonals_of_a_corexy_keep_the_step_rate_of_one_motor() -> None:
    bench = Bench(axes__x__maximum_feed_mm_s=1500.0, axes__y__maximum_feed_mm_s=1500.0)
    steps = bench.live["axes.x.steps_per_mm"]
    assert isinstance(steps, float)
    slow = Caps(bench.live, 1600 * steps)  # one motor makes 1600 mm/s of belt
    line = slow.line({"x": 50.0, "y": 50.0}, 5000.0)
    assert line.capped_by == "steps_per_s" and line.top == pytest.approx(1600 / math.sqrt(2))
    assert slow.line({"x": 50.0}, 5000.0).capped_by == "axes.x.maximum_feed_mm_s"


def test_segments_come_in_order_once_and_as_there_is_room() -> None:
    bench = Bench()
    bench.take(To({"x": 110.0}, 50), last=False)
    for at, words in ((0, "out of order: the next one of “p” is 1"), (2, "out of order")):
        with pytest.raises(Refused, match=words):
            bench.take(To({"x": 120.0}, 50), at=at)
    with pytest.raises(Refused, match="“p” runs"):
        bench.take(To({"x": 120.0}, 50), name="other")
    with pytest.raises(Refused, match=f"room for {ROOM - 1} now"):
        bench.take(*[To({"x": 120.0}, 50)] * ROOM, at=1)
    bench.run(5)
    assert [event["segment"] for event in bench.what("starved")] == [1] and bench.mover.moving
    bench.take(To({"x": 120.0}, 50), at=1)
    bench.run()
    assert len(bench.what("fed")) == 1 and bench.what("ended")[0]["how"] == "done"
    with pytest.raises(Refused, match="begin at segment 0"):
        bench.take(To({"x": 120.0}, 50), at=2)
    assert bench.carried["x"] == pytest.approx(120)


@pytest.mark.parametrize(
    ("segment", "words"),
    [
        (To({"x": 999.0}, 50), "segment 1 of p would end at X 999.00 mm: allowed"),
        (ProbeMove({"z": -99.0}, 2), "Z -99.00 mm"),
        (Lift({"axes.z.motors.none": 1.0}, 1), "no motor"),
    ],
)
def test_limits_are_checked_before_anything_is_taken(segment: Segment, words: str) -> None:
    bench = Bench()
    with pytest.raises(Refused, match=words):
        bench.take(To({"x": 110.0}, 50), segment)
    assert not bench.mover.moving and bench.mover.programs.run is None


def test_not_homed_off_or_cold_is_refused() -> None:
    bench = Bench()
    bench.mover.position["y"] = None
    with pytest.raises(Refused, match="Y is not homed"):
        bench.take(To({"y": 10.0}, 50))
    bench.target = None
    with pytest.raises(Refused, match="waited for without end"):
        bench.take(Warm("hotend"))
    bench.celsius = 60.0
    with pytest.raises(Refused, match="at 60 °C: filament is pushed from 175 °C on"):
        bench.take(Push(5, 2))
    bench.target = 215.0
    bench.take(Push(5, 2), name="on its way")
    bench.run(1)
    ended = bench.what("ended")[0]
    assert ended["how"] == "refused" and "at 60 °C" in ended["why"] and bench.carried["e"] == 0


def test_a_wait_for_a_temperature_ends_when_it_is_there_and_when_the_heater_goes_off() -> None:
    bench = Bench()
    bench.celsius = 60.0
    bench.take(Warm("hotend", place="heat"), To({"x": 110.0}, 50))
    assert bench.run(5) == pytest.approx(5) and bench.carried["x"] == 100
    bench.celsius = 214.0
    bench.run()
    assert bench.carried["x"] == pytest.approx(110) and bench.what("place")[0]["place"] == "heat"
    bench.celsius = 60.0
    bench.take(Warm("hotend"), To({"x": 100.0}, 50), name="again")
    bench.run(1)
    bench.target = None
    bench.run(1)
    assert bench.what("ended")[-1]["how"] == "refused" and "switched off" in bench.what("ended")[-1]["why"]


def test_a_nudge_acts_on_what_is_under_way_and_is_told_at_the_end() -> None:
    bench = Bench()
    bench.take(To({"x": 200.0}, 20), To({"x": 100.0}, 20))
    bench.run(1)
    bench.mover.programs.adjust(None, None, -0.05)
    bench.run(1)
    assert bench.carried["z"] == pytest.approx(START["z"] - 0.05) and bench.mover.moving
    bench.mover.programs.adjust(None, None, -0.10)
    bench.run()
    assert bench.carried["z"] == pytest.approx(START["z"] - 0.10) == bench.mover.position["z"]
    assert bench.what("ended")[0]["height_mm"] == -0.10
    with pytest.raises(Refused, match="no program runs"):
        bench.mover.programs.adjust(None, None, 0.1)


def test_feed_and_flow_act_on_what_is_under_way() -> None:
    bench, slower = Bench(), Bench()
    for each in (bench, slower):
        each.take(To({"x": 200.0}, 20, 4.0))
        each.run(1)
    slower.mover.programs.adjust(0.5, 1.5, None)
    whole, longer = bench.run(), slower.run()
    assert longer == pytest.approx(2 * whole, rel=0.02)
    pushed = slower.carried["e"]
    assert 4.0 < pushed < 6.0 and pushed == pytest.approx(4.0 + 0.5 * 4.0 * (1 - 0.2 * 0.99), rel=0.02)
    bench.take(To({"x": 100.0}, 20), name="then")
    for words, feed, flow, height in (
        ("feed 9", 9.0, None, None),
        ("flow 0", None, 0.0, None),
        ("height", None, None, 9.0),
    ):
        with pytest.raises(Refused, match=words):
            bench.mover.programs.adjust(feed, flow, height)


def test_it_holds_along_its_path_and_goes_on_without_losing_its_place() -> None:
    bench = Bench()
    bench.take(*(To({"x": 100.0 + 10 * n, "y": 100.0 + 3 * (n % 2)}, 100) for n in range(1, 9)))
    bench.run(0.3)
    moving = bench.carried
    bench.mover.hold(True)
    bench.run(2)
    held = bench.carried
    bench.run(5)
    assert bench.carried == held != moving and bench.mover.moving and bench.mover.queue.speed == 0
    assert bench.mover.position["x"] == pytest.approx(held["x"], abs=1e-9)
    bench.mover.hold(False)
    bench.run()
    assert bench.carried["x"] == pytest.approx(180) and bench.carried["y"] == pytest.approx(100)
    assert [event["what"] for event in bench.reported] == ["held", "going on", "ended"]
    with pytest.raises(Refused, match="nothing to hold"):
        bench.mover.hold(True)


def test_stopped_in_its_middle_it_no_longer_knows_where_it_stands() -> None:
    bench = Bench()
    bench.take(To({"x": 200.0}, 50))
    bench.run(0.5)
    bench.mover.stop()
    assert bench.what("ended")[0]["how"] == "stopped" and bench.mover.position == dict.fromkeys("xyz")
    assert not bench.mover.moving and bench.run(1) == 0


def test_a_skewed_frame_is_leant_against_and_positions_know_nothing_of_it() -> None:
    skew = 0.5
    lean, bench = math.tan(math.radians(skew)), Bench(motion__skew_deg=skew)
    y = [float(bench.live[f"axes.y.{end}_mm"]) for end in ("minimum", "maximum")]  # type: ignore[arg-type]
    corners = ((150.0, 60.0), (150.0, 160.0), (60.0, 160.0), (60.0, 60.0))
    for number, (to_x, to_y) in enumerate(corners):
        bench.take(To({"x": to_x, "y": to_y}, 80), name=f"p{number}")
        bench.run()
        x_true = bench.carried["x"] + lean * (bench.carried["y"] - sum(y) / 2)
        assert x_true == pytest.approx(to_x, abs=1e-6), "the frame carries X on by as much as it was held back"
        assert bench.mover.position["x"] == pytest.approx(to_x) and bench.mover.position["y"] == pytest.approx(to_y)
    at_limit = float(bench.live["axes.x.maximum_mm"])  # type: ignore[arg-type]
    bench.take(To({"x": at_limit, "y": y[0]}, 80), name="edge")
    bench.run()
    assert bench.carried["x"] == pytest.approx(at_limit), "no axis is driven beyond its limits for it"


def test_homing_takes_a_skew_back_first_and_a_touch_keeps_it() -> None:
    bench = Bench(motion__skew_deg=0.5)
    bench.take(To({"y": 200.0}, 80))
    bench.run()
    leant = bench.carried["x"] - 100.0
    assert leant < -0.5
    bench.plotter.touches = lambda: max(0.0, bench.carried["z"] - 3.2)
    bench.take(ProbeMove({"z": 0.0}, 5, "down"), name="touch")
    bench.run()
    assert bench.carried["x"] == pytest.approx(100.0 + leant)
    bench.plotter.touches = lambda: 0.5
    bench.mover.home("y")
    bench.run(0.5)
    assert bench.carried["x"] == pytest.approx(100.0), "homing goes straight"


def test_a_touch_stops_where_it_touched_and_what_follows_starts_from_there() -> None:
    bench = Bench()
    bench.plotter.touches = lambda: max(0.0, bench.carried["z"] - 3.2)
    bench.take(
        ProbeMove({"z": 0.0}, 5, "down"), To({"z": 5.0, "x": 120.0}, 20), ProbeMove({"z": 4.0}, 5), To({"z": 8.0}, 20)
    )
    bench.run()
    touched, missed = bench.what("touched")[0], bench.what("missed")[0]
    assert touched["position"]["z"] == pytest.approx(3.2) and touched["segment"] == 0
    assert (
        missed["segment"] == 2 and bench.carried["z"] == pytest.approx(8) and bench.carried["x"] == pytest.approx(120)
    )


def test_a_nudge_outlasts_a_touch() -> None:
    bench = Bench()
    bench.plotter.touches = lambda: max(0.0, bench.carried["z"] - 3.0)
    bench.take(To({"x": 110.0}, 20), ProbeMove({"z": 0.0}, 5), To({"z": 5.0}, 20))
    bench.run(0.2)
    bench.mover.programs.adjust(None, None, -0.1)
    bench.run()
    assert bench.what("touched")[0]["position"]["z"] == pytest.approx(3.0)
    assert bench.carried["z"] == pytest.approx(4.9) and bench.what("ended")[0]["height_mm"] == -0.1


def test_a_nudge_in_the_last_moment_is_carried_out_whole() -> None:
    bench = Bench(axes__z__maximum_feed_mm_s=0.5)
    bench.take(To({"x": 110.0}, 20))
    while bench.mover.queue._gone < 9.5:
        bench.run(0.1)
    bench.mover.programs.adjust(None, None, -1.0)
    bench.run()
    assert bench.carried["z"] == pytest.approx(START["z"] - 1.0) == bench.mover.position["z"]
    assert [event["height_mm"] for event in bench.what("ended")] == [-1.0]


def test_single_lifts_are_driven_and_the_axis_is_still_called_the_same() -> None:
    bench = Bench()
    bench.take(Lift({"axes.z.motors.left": 0.3}, 1))
    bench.run()
    assert bench.plotter.mm["axes.z.motors.left"] == pytest.approx(0.3) and bench.mover.position["z"] == START["z"]


def test_the_square_pushes_what_its_strings_need_and_lands_where_it_should() -> None:
    bench, program = Bench(), square(tern())
    assert program.places[:2] == ("lift", "purge line") and program.places[-1] == "end"
    laid = [each for each in program.segments if isinstance(each, To) and each.filament]
    lengths = 60 + sum(8 * (20 - 0.45 * n) for n in range(3))
    drawn = tern().extruder.retract_mm  # type: ignore[union-attr]
    assert sum(each.filament for each in laid) == pytest.approx(filament_for(lengths, STROKE, 1.75))
    assert program.filament_mm == pytest.approx(filament_for(lengths, STROKE, 1.75) - drawn)
    took = bench.stream(program)
    assert took == pytest.approx(timetable(program, START, bench.caps).seconds, rel=0.03)
    assert [event["place"] for event in bench.what("place")] == list(program.places)
    with pytest.raises(ValueError, match="does not fit"):
        square(tern(), 900)


def segments() -> Iterator[Segment]:
    yield from (To({"x": 1.0}, 5, 0.1, "a"), To({"y": 1.0, "z": 2.0}, 5), Push(-1, 2), Dwell(0.5, "b"))
    yield from (Warm("bed", 3.0), ProbeMove({"z": -1.0}, 2, "c"), Lift({"axes.z.motors.left": -0.1}, 1))


@pytest.mark.parametrize("segment", list(segments()), ids=lambda each: type(each).__name__)
def test_segments_come_back_from_the_wire(segment: Segment) -> None:
    assert segment_from(segment_fields(segment)) == segment


@pytest.mark.parametrize(
    ("reported", "words"),
    [
        ([], "must be an object"),
        ({}, "one of to, push"),
        ({"to": {"x": 1}, "push": 2}, "one of"),
        ({"to": {"q": 1}, "mm_s": 5}, "no axis “q”"),
        ({"to": {"x": True}, "mm_s": 5}, "to.x must be a finite number"),
        ({"to": {"x": 1}}, "mm_s must be a number above 0"),
        ({"to": {}, "mm_s": 1}, "at least one number"),
        ({"rest_s": -1}, "rest_s must be a number from 0"),
        ({"warm": 5}, "name of a heater"),
        ({"push": float("nan"), "mm_s": 1}, "finite"),
        ({"rest_s": 1, "place": 5}, "place must be a word"),
    ],
)
def test_what_is_no_segment_is_named(reported: object, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        segment_from(reported)


PARK = Park(10.0, {"x": 0.0, "y": 258.0}, 80.0)


def printing(bench: Bench) -> None:
    """A long line of filament is laid, and is on its way at full speed."""
    lines = [
        To({"x": 150.0, "z": 0.2}, 100, 2.0),
        To({"x": 250.0}, 100, 3.0),
        Push(-1.0, 20),
        To({"x": 50.0}, 100, 5.0),
    ]
    bench.mover.take("p", 0, lines, True, PARK)
    bench.run(0.8)
    assert bench.mover.queue.speed > 10


@pytest.mark.parametrize("how", ["stop", "cold"])
def test_a_print_that_ends_early_brakes_lifts_and_parks_and_knows_where_it_stands(how: str) -> None:
    bench = Bench()
    printing(bench)
    if how == "stop":
        bench.mover.stop()
        bench.mover.stop()  # as a host does that cancels, then switches everything off
    else:
        bench.celsius = bench.target = 30.0
    filament = bench.carried["e"]
    bench.run()
    ended = bench.what("ended")
    assert [event["how"] for event in ended] == ["stopped" if how == "stop" else "refused"]
    assert [event["what"] for event in bench.reported][-2:] == ["parking", "ended"]
    at = bench.mover.position
    z = at["z"]
    assert (at["x"], at["y"]) == (pytest.approx(0.0), pytest.approx(258.0)) and z is not None and z >= 10.0
    assert {axis: bench.carried[axis] for axis in "xyz"} == pytest.approx(at, abs=1e-6)
    assert bench.carried["e"] - filament < (0.6 if how == "stop" else 3.0), "what was left of it is not printed"
    bench.take(To({"x": 100.0}, 50), name="next")


def test_while_it_parks_nothing_is_taken_and_a_halt_stops_it_where_it_is() -> None:
    bench = Bench()
    printing(bench)
    bench.mover.stop()
    bench.run(0.4)
    with pytest.raises(Refused, match="parks: no more is taken"):
        bench.take(To({"x": 120.0}, 50), at=4)
    with pytest.raises(Refused, match="nothing to change"):
        bench.mover.programs.adjust(None, None, 0.05)
    with pytest.raises(Refused, match="nothing to hold"):
        bench.mover.hold(True)
    bench.mover.stop(at_once=True)
    assert not bench.mover.moving and bench.mover.position == {"x": None, "y": None, "z": None}
    assert [event["how"] for event in bench.what("ended")] == ["stopped"]


def test_how_a_program_parks_comes_back_from_the_wire() -> None:
    assert park_from(json.loads(json.dumps(park_fields(PARK)))) == PARK
    for wrong in ({}, {"lift_mm": -1, "at": {"x": 1}, "mm_s": 5}, {"lift_mm": 1, "at": {"z": 1}, "mm_s": 5}, "up"):
        with pytest.raises(ValueError, match=r"park|at|lift_mm"):
            park_from(wrong)


def test_a_print_without_filament_is_held_lifted_and_goes_on_from_the_same_height() -> None:
    bench = Bench(filament__kind="switch", filament__lift_mm=5.0)
    out = [False]
    bench.mover.filament = FilamentWatch(lambda: (out[0], 0), lambda: bench.mover.pushed_mm)
    bench.mover.settled()
    printing(bench)
    bench.run(2.0)
    z = bench.carried["z"]
    out[0] = True
    bench.run(3.0)
    assert [event["why"] for event in bench.what("held")] == [OUT]
    assert bench.carried["z"] == pytest.approx(z + 5.0, abs=1e-6) and bench.mover.queue.held
    stands = bench.carried
    bench.run(5.0)
    assert bench.carried == stands, "it waits"
    with pytest.raises(Refused, match="the filament is out: load it"):
        bench.mover.hold(False)
    out[0] = False
    bench.mover.hold(False)
    bench.mover.hold(False)  # a second time, while it comes down
    bench.run(0.3)
    assert bench.mover.queue.held, "it goes on once it is down"
    bench.run()
    assert [event["how"] for event in bench.what("ended")] == ["done"]
    assert bench.carried == pytest.approx({"x": 50.0, "y": 100.0, "z": 0.2, "e": 9.0}, abs=1e-6)


def test_what_lays_no_filament_is_not_watched_and_what_is_stopped_while_lifted_parks() -> None:
    bench = Bench(filament__kind="switch", filament__lift_mm=5.0)
    bench.mover.filament = FilamentWatch(lambda: (True, 0), lambda: bench.mover.pushed_mm)
    bench.mover.settled()
    bench.take(To({"x": 150.0}, 100))
    bench.run()
    assert not bench.what("held")
    bench.mover.take("q", 0, [To({"x": 250.0, "z": 0.2}, 100, 2.0), To({"x": 50.0}, 100, 5.0)], True, PARK)
    bench.run(3.0)
    assert bench.what("held")
    bench.mover.stop()
    bench.run()
    assert [event["what"] for event in bench.reported][-2:] == ["parking", "ended"]
    assert bench.mover.position["x"] == pytest.approx(0.0)
