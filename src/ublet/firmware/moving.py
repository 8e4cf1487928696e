"""The board's side of motion: moves, homing, positions; what may be asked for, and what is reported to the host."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass

from ublet.core.machine.layouts import AXES
from ublet.core.motion.caps import EXTRUDER, UNHOMED_MM, UNHOMED_MM_S
from ublet.core.motion.planner import LinearMove, duration
from ublet.core.motion.program import Park, Segment
from ublet.core.settings import Value
from ublet.core.sockets import Sockets, Until
from ublet.firmware.drivers import Drivers
from ublet.firmware.events import Events
from ublet.firmware.filament import FilamentWatch
from ublet.firmware.following import PathCorrections
from ublet.firmware.live_values import number_in
from ublet.firmware.melt import HeatOf
from ublet.firmware.programs import Programs, Run
from ublet.firmware.queue import MotionQueue, Move, Pause
from ublet.firmware.refusal import NOT_ALLOWED, Refused

MARGIN_MM = 10.0
"""Distance beyond the axis's length that homing seeks its end before it gives up, mm."""


@dataclass(frozen=True)
class HomingPlan:
    """How one axis homes: way towards its end (-1 or 1), distances in mm, speeds in mm/s, and the end's position."""

    axis: str
    direction: int
    length_mm: float
    fast_mm_s: float
    slow_mm_s: float
    back_off_mm: float
    end_mm: float


@dataclass(frozen=True)
class HomingStage:
    """A piece of a homing: signed length, speed, and whether it ends when the switch triggers. motor, input: of a lift
    that goes to its own end alone; empty: the whole axis, and its input.
    """

    mm: float
    speed_mm_s: float
    until_triggered: bool
    motor: str = ""
    input: str = ""


Course = Generator[HomingStage, bool, str]
"""Yields pieces, is sent whether each ended at the switch, and returns why the end was not found; empty: it was."""


def homing_course(plan: HomingPlan, triggered: Callable[[], bool]) -> Course:
    """One axis on its way to its end."""
    if triggered():
        yield HomingStage(-plan.direction * 2 * plan.back_off_mm, plan.slow_mm_s, False)
        if triggered():
            return "its switch reads triggered and stays so: polarity, a broken wire, or a mixed-up plug"
    seek = plan.length_mm + MARGIN_MM
    if not (yield HomingStage(plan.direction * seek, plan.fast_mm_s, True)):
        return (
            f"no switch triggered in {seek:g} mm: it runs the wrong way, its switch does not answer, its motor turns "
            "and the axis stays behind (too little current, something binds, a loose pulley), or it moves less "
            "than commanded (steps per mm, lead of the screw)"
        )
    yield HomingStage(-plan.direction * plan.back_off_mm, plan.fast_mm_s, False)
    if triggered():
        return f"its switch stays triggered {plan.back_off_mm:g} mm away from the end: back off further"
    if not (yield HomingStage(plan.direction * 2 * plan.back_off_mm, plan.slow_mm_s, True)):
        return "it triggered at the fast approach and not at the slow one"
    return ""


LIFT_APART_MM, LIFT_PIECE_MM = 20.0, 0.5
"""The largest distance between lifts before each has found its own end, mm; together they seek the first in pieces of
this.
"""


@dataclass(frozen=True)
class LiftEnd:
    """A lift with an endstop of its own: its motor's root, its input, how far it goes away from it afterwards, mm."""

    motor: str
    input: str
    off_mm: float


def lifts_course(plan: HomingPlan, lifts: Sequence[LiftEnd], triggered: Callable[[str], bool]) -> Course:
    """Lifts together until the first finds its end, then each alone to its own: fast, back, and slowly once more."""
    toward, names = plan.direction, {lift.input: lift.motor.rpartition(".")[2] for lift in lifts}
    pressed = [lift for lift in lifts if triggered(lift.input)]
    if pressed:
        yield HomingStage(-toward * 2 * plan.back_off_mm, plan.slow_mm_s, False)
        if stuck := [names[lift.input] for lift in pressed if triggered(lift.input)]:
            return f"the endstop of {', '.join(stuck)} reads triggered and stays so: polarity, a broken wire, or a plug"
    gone, seek = 0.0, plan.length_mm + MARGIN_MM
    while not any(triggered(lift.input) for lift in lifts):
        if gone > seek:
            return f"no endstop of a lift triggered in {seek:g} mm: it runs the wrong way, or none of them answers"
        yield HomingStage(toward * LIFT_PIECE_MM, plan.fast_mm_s, False)
        gone += LIFT_PIECE_MM
    for lift in lifts:
        if triggered(lift.input):
            continue
        if not (yield HomingStage(toward * LIFT_APART_MM, plan.fast_mm_s, True, lift.motor, lift.input)):
            name = names[lift.input]
            return f"the endstop of the lift {name} did not trigger within {LIFT_APART_MM:g} mm of the first one"
    yield HomingStage(-toward * (plan.back_off_mm + LIFT_PIECE_MM), plan.fast_mm_s, False)
    if held := [names[lift.input] for lift in lifts if triggered(lift.input)]:
        return f"the endstop of {', '.join(held)} stays triggered {plan.back_off_mm:g} mm away: back off further"
    for lift in lifts:
        if not (yield HomingStage(toward * 3 * plan.back_off_mm, plan.slow_mm_s, True, lift.motor, lift.input)):
            return f"the lift {names[lift.input]} triggered at the fast approach and not at the slow one"
    for lift in lifts:
        if abs(lift.off_mm) > NO_MM:
            yield HomingStage(-toward * lift.off_mm, plan.slow_mm_s, False, lift.motor, lift.input)
    return ""


INSIDE_MM, NO_MM = 1e-6, 1e-6
PLACING = (".minimum_mm", ".maximum_mm", ".steps_per_mm", ".microsteps", ".socket", ".reversed", ".homing.end")
"""Settings that decide what a position means."""


@dataclass(frozen=True)
class AcceptedMove:
    """What is answered to whoever asked for a move: its number, by which its end will be reported, how long it takes,
    how fast it is, and what made it slower.
    """

    motion: int
    seconds: float
    speed_mm_s: float
    capped_by: str


class Mover:
    """Moves axes by live settings. It knows positions only from homing.

    triggered reads an input by name (``endstops.NAME``, ``probe``); pin deploys or stows the probe; steps_per_s is the
    most that the board makes on one motor.
    """

    def __init__(
        self,
        sockets: Sockets,
        events: Events,
        triggered: Callable[[str], bool],
        heat_of: HeatOf,
        pin: Callable[[bool], None],
        steps_per_s: float,
    ) -> None:
        self._steps_per_s = steps_per_s
        self.advances = True
        """Whether the image that runs has the module for pressure advance."""
        self._triggered, self._pin = triggered, pin
        self._events = events
        self._motion = 0  # counts what was begun since the board was made; a number never comes again
        self.following = PathCorrections(lambda: self.position)
        self.queue = MotionQueue(sockets, self._moved, self.following)
        self.programs = Programs(self.queue, events, lambda: self.position, heat_of, self._touches, self._end_program)
        self.live: Mapping[str, Value] = {}
        self.pushed_mm = 0.0
        """Filament that was commanded since power-on, mm."""
        self.filament = FilamentWatch(lambda: None, lambda: self.pushed_mm)
        self._lift_due = self._lifted_mm = 0.0  # because no filament comes
        self._lowering = False
        self._course: Course | None = None
        self._homes: HomingPlan | None = None
        self._input = ""
        self.reset({})

    def reset(self, live: Mapping[str, Value]) -> None:
        """Power-on: nothing moves, nothing is homed."""
        self.live = live
        self.queue.clear()
        self._course = self._homes = None
        self.position: dict[str, float | None] = dict.fromkeys(AXES)
        self.home_results: dict[str, tuple[str, float | None]] = dict.fromkeys(AXES, ("", None))
        self.programs.forget()
        self.following.forget("x", "z")
        self.settled()

    @property
    def moving(self) -> bool:
        """Whether something is to be moved, or is on its way."""
        return self.queue.busy or self.programs.run is not None

    @property
    def touching(self) -> bool:
        """Whether something comes down and looks out for the probe."""
        probe = self._until("probe") if "probe.socket" in self.live else None
        return probe is not None and self.queue.looks_out_for(probe.socket)

    def stop(self, at_once: bool = False) -> None:
        """Stop at once. What was stopped in the middle no longer knows where it stands; a program that is held does.

        A program that can park brakes, lifts and parks instead, and is not stopped in that, unless it must be at once.
        """
        run = self.programs.run
        if run is not None and not at_once and (run.ending is not None or self._can_park(run)):
            self._end_program("stopped")
            return
        if not self.moving:
            return
        if run is not None:
            run.park = run.ending = None
        if run is None or not self.queue.held or self.queue.speed > 0:
            self.position = dict.fromkeys(AXES)
        self.queue.clear()
        self._course = self._homes = None
        if self.programs.run is not None:
            self._end_program("stopped")
        else:
            self._end("stopped")

    def changed(self, paths: Iterable[str]) -> None:
        """Live settings changed: an axis whose millimetres mean something else now no longer knows where it stands."""
        paths = tuple(paths)
        if {"probe.offset_z_mm", "bed.offset_z_mm"} & set(paths):
            self.position["z"] = None
        placing = [path for path in paths if path.startswith("axes.") and path.endswith(PLACING)]
        for axis in {path.split(".")[1] for path in placing}:
            caps = self.drivers.caps
            for motor in caps.of_axis[axis]:
                for moved_axis in caps.kinematics.axes_of(motor):
                    self.position[moved_axis] = None
            self.position[axis] = None

    def settled(self) -> None:
        """Live settings have changed: what the drivers are commanded follows."""
        self.drivers = self.programs.drivers = Drivers(self.live, self._steps_per_s)
        self.programs.settled(self.advances)
        caps = self.drivers.caps
        motors = {axis: caps.motors({axis: 1.0}) if caps.of_axis[axis] else {} for axis in ("x", "z")}
        self.queue.shaping.settled(self.live)
        self.filament.settled(self.live)
        self.following.settled(self.live, {axis: self.drivers.steps(of, 1.0) for axis, of in motors.items()})
        self.queue.corner = self.drivers.caps.corner

    def let_go(self) -> None:
        """No motor holds: no axis knows where it stands any more, since a hand can move it.

        Raises:
            Refused: something moves.
        """
        self._must_stand()
        self.position = dict.fromkeys(AXES)
        self.following.forget("x", "z")

    # what may be asked for; the caller has seen to it that the board is ready

    def turn_motor(self, motor: str, mm: float, speed_mm_s: float) -> AcceptedMove:
        """Turn one motor by itself, as far as would carry its axis by ``mm``.

        Raises:
            Refused: moving already, no such motor, too far or too fast.
        """
        root = motor if motor == EXTRUDER else f"axes.{motor}"
        self._must_stand()
        self.drivers.must_have(root)
        _must_be_short(mm, speed_mm_s)
        accepted = self._start(self.drivers.caps.motor_line({root: mm}, speed_mm_s), {root: mm})
        self.position = dict.fromkeys(AXES)  # the carriages no longer stand where they were
        return accepted

    def move_axis(self, axis: str, mm: float, speed_mm_s: float) -> AcceptedMove:
        """Move an axis by so much, with all its motors.

        Raises:
            Refused: moving already, no such axis, beyond its limits; before homing: too far or too fast.
        """
        self._must_be_axis(axis)
        self._must_stand()
        here = self.position[axis]
        if here is None:
            _must_be_short(mm, speed_mm_s)
        else:
            self._must_be_inside(axis, here, mm)
            if not speed_mm_s > 0 or not mm:
                raise Refused(NOT_ALLOWED, f"a move of {mm:g} mm at {speed_mm_s:g} mm/s is none")
        caps = self.drivers.caps
        return self._start(caps.line({axis: mm}, speed_mm_s), caps.motors({axis: mm}))

    def home(self, axis: str) -> int:
        """Seek an axis's end and set its position there; ``home_results`` has how it went. Returns the motion's number.

        Raises:
            Refused: moving already, no such axis, no input at its end, Z with the probe before X and Y.
        """
        self._must_stand()
        self._must_be_axis(axis)
        root = f"axes.{axis}.homing"
        end = str(self.live[f"{root}.end"])
        if end == "probe" and (self.position["x"] is None or self.position["y"] is None):
            raise Refused(NOT_ALLOWED, "Z homes with the probe: X and Y must be homed first")
        name = "probe" if end == "probe" else f"endstops.{self.live.get(f'{root}.endstop')}"
        lifts = self._lift_ends(axis) if end != "probe" else ()
        if f"{name}.socket" not in self.live and not lifts:
            raise Refused(NOT_ALLOWED, f"{axis.upper()} homes to its {end} end, and this board has no input there")
        low, high = (self._number(f"axes.{axis}.{key}") for key in ("minimum_mm", "maximum_mm"))
        limit = 0.0 if end == "probe" else high if end == "high" else low
        at = limit - self._offset_z(end) if axis == "z" else limit
        fast, slow, back_off = (self._number(f"{root}.{key}") for key in ("fast_mm_s", "slow_mm_s", "back_off_mm"))
        self._homes = HomingPlan(axis, 1 if end == "high" else -1, high - low, fast, slow, back_off, at)
        self._input = name
        if end == "probe":
            self._pin(True)
        self.home_results[axis] = ("", None)
        self._course = homing_course(self._homes, lambda: self._triggered(name))
        if lifts:
            self._course = lifts_course(self._homes, lifts, self._triggered)
        motion = self._begin()
        self._go_on_homing(None)
        return motion

    def take(self, name: str, at: int, segments: Sequence[Segment], last: bool, park: Park | None = None) -> Run:
        """Take segments of a program.

        Raises:
            Refused: as :meth:`Programs.add`.
        """
        return self.programs.add(name, at, segments, last, self._begin, park)

    def hold(self, held: bool) -> None:
        """Brake along the path and stand there, or go on from there; nothing is lost by it.

        Raises:
            Refused: no program runs, or it is to go on without filament.
        """
        run = self.programs.run
        if run is None or run.ending is not None:
            raise Refused(NOT_ALLOWED, "no program runs: there is nothing to hold")
        if not held and self.queue.held and (self._lifted_mm or self._lift_due):
            self.filament.begin()
            if trouble := self.filament.trouble():
                raise Refused(NOT_ALLOWED, f"{trouble}: load it until the hob grips it, then go on")
            if not self._lowering:
                self._lift_due, self._lowering = 0.0, True
                self._raise(-self._lifted_mm, run)
            return
        if held != self.queue.held:
            self.queue.hold(held)
            self._events.emit("held" if held else "going on", motion=run.motion, program=run.name)

    # time

    def advance(self, seconds: float) -> None:
        """Let time pass for whatever moves."""
        self.queue.advance(seconds)
        self._watch_filament()
        run = self.programs.run
        if run is not None and run.ending is not None and not run.parking and self.queue.speed <= 0:
            self._park(run)

    # inside

    def _watch_filament(self) -> None:
        """A print is held when no filament comes, and lifted once it stands."""
        run = self.programs.run
        if run is None or run.ending is not None:
            self._lift_due, self._lifted_mm, self._lowering = 0.0, 0.0, False
            self.filament.begin()
            return
        if self._lift_due and self.queue.held and self.queue.speed <= 0:
            due, self._lift_due = self._lift_due, 0.0
            room = self._number("axes.z.maximum_mm") - (self.position["z"] or 0.0)
            self._raise(max(0.0, min(due, room)), run)
        elif not self.queue.held and run.park is not None and (trouble := self.filament.trouble()):
            self.queue.hold(True)
            self._lift_due = self.filament.lift_mm
            self._events.emit("held", motion=run.motion, program=run.name, why=trouble)

    def _raise(self, mm: float, run: Run) -> None:
        """Lift a print that is held, or lower it again and let it go on."""
        goes_on = mm <= 0
        self._lifted_mm = self._lifted_mm if goes_on else mm

        def done(hit: bool) -> None:
            if goes_on and self.programs.run is run:
                self._lifted_mm, self._lowering = 0.0, False
                self.queue.hold(False)
                self._events.emit("going on", motion=run.motion, program=run.name)

        if abs(mm) < NO_MM:
            done(False)
            return
        line = self.drivers.caps.line({"z": mm}, self._number("axes.z.maximum_feed_mm_s"))
        steps = self.drivers.steps(self.drivers.caps.motors({"z": mm}), line.length)
        self.queue.beside(Move(line, steps, done=done))

    def _start(self, line: LinearMove, motors: Mapping[str, float]) -> AcceptedMove:
        self.queue.add(Move(line, self.drivers.steps(motors, line.length), done=lambda hit: self._end("done")))
        return AcceptedMove(self._begin(), duration([line], self.queue.corner), line.top, line.capped_by)

    def _begin(self) -> int:
        """The number of what begins now."""
        self._motion += 1
        return self._motion

    def _end_program(self, how: str, **more: object) -> None:
        """A program ends: one that can park and is not done does that first. What it had nudged is reported; where it
        stands is known unless it was stopped on its way.
        """
        run, height = self.programs.run, self.programs.height_mm
        if run is not None and run.ending is not None:
            return  # it brakes or parks: its end is reported after that
        if run is not None and how != "done" and self._can_park(run):
            run.ending, run.last = (how, more), True
            run.waiting.clear()
            self.queue.hold(True)
            self._events.emit("parking", motion=run.motion, program=run.name, why=str(more.get("why", "")))
            return
        if self.queue.speed > 0:
            self.position = dict.fromkeys(AXES)
        self.queue.clear()
        self.programs.forget()
        if run is not None:
            self._end(how, program=run.name, segment=run.ended, height_mm=height, **more)

    def _can_park(self, run: Run) -> bool:
        """Whether a program can park: it is to, and everything knows where it stands."""
        return run.park is not None and None not in self.position.values()

    def _park(self, run: Run) -> None:
        """It stands: up from where it is, and away to its place; then its end is reported."""
        assert run.park is not None and run.ending is not None
        run.parking, park, caps = True, run.park, self.drivers.caps
        self.queue.clear()
        here = {axis: mm or 0.0 for axis, mm in self.position.items()}

        def inside(axis: str, mm: float) -> float:
            return min(max(mm, self._number(f"axes.{axis}.minimum_mm")), self._number(f"axes.{axis}.maximum_mm"))

        up = max(0.0, inside("z", here["z"] + park.lift_mm) - here["z"])
        away = {axis: inside(axis, mm) - here[axis] for axis, mm in park.at.items()}
        for travel, mm_s in (({"z": up}, self._number("axes.z.maximum_feed_mm_s")), (away, park.mm_s)):
            if any(travel.values()):
                line, motors = caps.line(travel, mm_s), caps.motors(travel)
                self.queue.add(Move(line, self.drivers.steps(motors, line.length), stands=True))
        self.queue.add(Pause(0.0, done=lambda hit: self._parked(run)))

    def _parked(self, run: Run) -> None:
        how, more = run.ending or ("stopped", {})
        run.park = run.ending = None
        self._end_program(how, **more)

    def _touches(self) -> Until | None:
        """What ends a touch; None where there is no probe that could."""
        return self._until("probe") if "probe.socket" in self.live else None

    def _end(self, how: str, **more: object) -> None:
        self._events.emit("ended", motion=self._motion, how=how, **more)

    def _moved(self, direction: Mapping[str, float], mm: float) -> None:
        self.pushed_mm += direction.get("e", 0.0) * mm
        for axis in AXES:
            here = self.position[axis]
            if here is not None and axis in direction:
                self.position[axis] = here + direction[axis] * mm

    def _lift_ends(self, axis: str) -> tuple[LiftEnd, ...]:
        """The lifts of an axis with an endstop of their own, where all have one."""
        roots = self.drivers.caps.of_axis[axis]
        ends = [(root, f"endstops.{self.live.get(f'{root}.endstop')}") for root in roots]
        if len(roots) < 2 or any(f"{name}.socket" not in self.live for _, name in ends):
            return ()
        offs = (f"{root}.endstop_off_mm" for root in roots)
        return tuple(
            LiftEnd(root, name, self._number(off) if off in self.live else 0.0)
            for (root, name), off in zip(ends, offs, strict=True)
        )

    def _go_on_homing(self, hit: bool | None) -> None:
        """The next piece of the homing, or its end."""
        course, plan = self._course, self._homes
        assert course is not None and plan is not None
        try:
            approach: HomingStage = next(course) if hit is None else course.send(hit)
        except StopIteration as end:
            self._homed(plan, str(end.value))
            return
        caps, travel = self.drivers.caps, {plan.axis: approach.mm}
        if approach.motor:
            motors: Mapping[str, float] = {approach.motor: approach.mm}
            line = caps.motor_line(motors, approach.speed_mm_s)
        else:
            line, motors = caps.line(travel, approach.speed_mm_s), caps.motors(travel)
        until = self._until(approach.input or self._input) if approach.until_triggered else None
        self.queue.add(Move(line, self.drivers.steps(motors, line.length), until, done=self._go_on_homing))

    def _until(self, name: str) -> Until | None:
        """What ends an approach: the contact at an input opens, or closes. Without a pull-up an open one reads as low,
        and one that is closed at rest never triggers.
        """
        opens = bool(self.live[f"{name}.normally_closed"])
        if opens and not self.live.get(f"{name}.pull_up", True):
            return None
        return Until(str(self.live[f"{name}.socket"]), opens)

    def _homed(self, plan: HomingPlan, failed: str) -> None:
        former = self.position[plan.axis]
        shift = None if failed or former is None else former - plan.end_mm
        if plan.axis in ("x", "z"):
            self.following.forget(plan.axis)
        self.home_results[plan.axis] = (failed, shift)
        self.position[plan.axis] = None if failed else plan.end_mm
        self._course = self._homes = None
        self._pin(False)
        self._end("done")

    def _must_stand(self) -> None:
        if self.moving:
            raise Refused(NOT_ALLOWED, "another move runs: wait for its end, or halt")

    def _must_be_axis(self, axis: str) -> None:
        if axis not in AXES:
            raise Refused(NOT_ALLOWED, f"no axis “{axis}” on this board; known: x, y, z")

    def _must_be_inside(self, axis: str, here: float, mm: float) -> None:
        low, high = (self._number(f"axes.{axis}.{key}") for key in ("minimum_mm", "maximum_mm"))
        soft = self.live.get(f"axes.{axis}.soft_limits", True)
        if soft and not low - INSIDE_MM <= here + mm <= high + INSIDE_MM:
            raise Refused(
                NOT_ALLOWED,
                f"{axis.upper()} stands at {here:.2f} mm, {mm:+g} would end at {here + mm:.2f}: allowed {low:g} to "
                f"{high:g} mm",
            )

    def _offset_z(self, end: str) -> float:
        """The Z offset, where it counts: of the probe that Z homes with, or of the bed beside an endstop."""
        own = end == "probe" or self.live.get("probe.kind") == "nozzle"
        counts = (("probe.offset_z_mm", own), ("bed.offset_z_mm", end != "probe"))
        return sum(self._number(path) for path, does in counts if does and path in self.live)

    def _number(self, path: str) -> float:
        return number_in(self.live, path)


def _must_be_short(mm: float, speed_mm_s: float) -> None:
    if not 0 < abs(mm) <= UNHOMED_MM or not 0 < speed_mm_s <= UNHOMED_MM_S:
        raise Refused(
            NOT_ALLOWED,
            f"a move of {mm:g} mm at {speed_mm_s:g} mm/s: before homing at most {UNHOMED_MM:g} mm at "
            f"{UNHOMED_MM_S:g} mm/s",
        )
