"""The board's side of motion: moves, homing, positions; what may be asked for, and what the motors are told."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from ublet.core.heat.pid import TICK_S
from ublet.core.settings import Value
from ublet.sim.homing import Homing, HomingPlan
from ublet.sim.motion import UNHOMED_MM, UNHOMED_MM_S, Effort, Leg, Mechanics
from ublet.sim.refusal import NOT_ALLOWED, Refused
from ublet.sim.trapezoid import Move

AXES = ("x", "y", "z")
PLACING = (".minimum_mm", ".maximum_mm", ".steps_per_mm", ".microsteps", ".socket", ".reversed", ".homing.end")
"""Settings that decide what a position means."""


class Mover:
    """Moves carriages by live settings. It knows positions only from homing; ``mechanics`` is where they really are.

    triggered reads an input by name (``endstops.NAME``, ``probe``); follow lets switches see the carriages; pin deploys
    or stows the probe; steps_per_s is the most that the board makes.
    """

    def __init__(
        self,
        mechanics: Mechanics,
        triggered: Callable[[str], bool],
        follow: Callable[[Mapping[str, float]], None],
        pin: Callable[[bool], None],
        steps_per_s: float,
    ) -> None:
        self.mechanics = mechanics
        self._steps_per_s = steps_per_s
        self._triggered, self._follow, self._pin = triggered, follow, pin
        self.live: Mapping[str, Value] = {}
        self._unit: tuple[Leg, ...] = ()  # what the motors do for one mm of the axis that homes
        self.reset({})

    def reset(self, live: Mapping[str, Value]) -> None:
        """Power-on: nothing moves, nothing is homed."""
        self.live = live
        self.move: Move | None = None
        self.homing: Homing | None = None
        self.moves_done = 0
        self.position: dict[str, float | None] = dict.fromkeys(AXES)
        self.told: dict[str, tuple[str, float | None]] = dict.fromkeys(AXES, ("", None))

    @property
    def moving(self) -> bool:
        """Whether any motor turns."""
        return self.move is not None or self.homing is not None

    def stop(self) -> None:
        """Stop at once. What was stopped in the middle no longer knows where it stands."""
        if self.moving:
            self.position = dict.fromkeys(AXES)
            self.moves_done += 1
        self.move = self.homing = None

    def changed(self, paths: Iterable[str]) -> None:
        """Live settings changed: an axis whose millimetres mean something else now no longer knows where it stands."""
        pairs = {"x", "y"} if self.live.get("machine.kinematics") == "corexy" else set()
        for path in paths:
            if path.startswith("axes.") and path.endswith(PLACING):
                axis = path.split(".")[1]
                for each in pairs if axis in pairs else {axis}:
                    self.position[each] = None

    # what may be asked for; the caller has seen to it that the board is ready

    def turn_motor(self, motor: str, mm: float, speed_mm_s: float) -> Move:
        """Turn one motor by itself, as far as would carry its axis by ``mm``.

        Raises:
            Refused: moving already, no such motor, too far or too fast.
        """
        root = motor if motor == "extruder.motor" else f"axes.{motor}"
        move = self._start((self._leg(root, mm),), mm, speed_mm_s, root.partition(".motor")[0], "")
        self.position = dict.fromkeys(AXES)  # the carriages no longer stand where they were
        return move

    def move_axis(self, axis: str, mm: float, speed_mm_s: float) -> Move:
        """Move an axis by so much, with all its motors.

        Raises:
            Refused: moving already, no such axis, beyond its limits; before homing: too far or too fast.
        """
        self._must_be_axis(axis)
        return self._start(self._axis_legs(axis, mm), mm, speed_mm_s, f"axes.{axis}", axis)

    def home(self, axis: str) -> None:
        """Seek an axis's end and set its position there; how it went is in ``told``.

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
        if f"{name}.socket" not in self.live:
            raise Refused(NOT_ALLOWED, f"{axis.upper()} homes to its {end} end, and this board has no input there")
        low, high = (self._number(f"axes.{axis}.{key}") for key in ("minimum_mm", "maximum_mm"))
        at = -self._number("probe.offset_z_mm") if end == "probe" else high if end == "high" else low
        fast, slow, back_off = (self._number(f"{root}.{key}") for key in ("fast_mm_s", "slow_mm_s", "back_off_mm"))
        plan = HomingPlan(axis, 1 if end == "high" else -1, high - low, fast, slow, back_off, at)
        if end == "probe":
            self._pin(True)
        self.mechanics.begin()
        self.told[axis] = ("", None)
        self._unit = self._axis_legs(axis, 1.0)
        self.homing = Homing(plan, lambda: self._triggered(name))

    # time

    def tick(self) -> None:
        """One control period of whatever moves."""
        if self.move is not None:
            move = self.move
            before = move.share(move.done_s)
            ended = move.advance(TICK_S, self.mechanics)
            here = self.position.get(move.axis)
            if here is not None:
                self.position[move.axis] = here + (move.share(move.done_s) - before) * move.signed_mm
            self._follow(self.mechanics.where)
            if ended:
                self.move = None
                self.moves_done += 1
        elif self.homing is not None:
            homing, plan = self.homing, self.homing.plan
            homing.advance(TICK_S, lambda mm, speed: self._carry(plan.axis, mm, speed))
            if homing.done:
                former = self.position[plan.axis]
                shift = None if homing.failed or former is None else former - plan.end_mm
                self.told[plan.axis] = (homing.failed, shift)
                self.position[plan.axis] = None if homing.failed else plan.end_mm
                self.homing = None
                self.moves_done += 1
                self._pin(False)

    # inside

    def _start(self, legs: tuple[Leg, ...], mm: float, speed_mm_s: float, part: str, axis: str) -> Move:
        self._must_stand()
        here = self.position.get(axis)
        if here is not None:
            self._must_be_inside(axis, here, mm)
            if not speed_mm_s > 0 or not mm:
                raise Refused(NOT_ALLOWED, f"a move of {mm:g} mm at {speed_mm_s:g} mm/s is none")
        elif not 0 < abs(mm) <= UNHOMED_MM or not 0 < speed_mm_s <= UNHOMED_MM_S:
            raise Refused(
                NOT_ALLOWED,
                f"a move of {mm:g} mm at {speed_mm_s:g} mm/s: before homing at most {UNHOMED_MM:g} mm at "
                f"{UNHOMED_MM_S:g} mm/s",
            )
        speed, capped_by = self._capped(part, speed_mm_s)
        self.mechanics.begin()
        acceleration = self._number(f"{part}.acceleration_mm_s2")
        self.move = Move(legs, abs(mm), speed, acceleration, axis=axis, signed_mm=mm, capped_by=capped_by)
        return self.move

    def _capped(self, part: str, speed_mm_s: float) -> tuple[float, str]:
        """The speed that will be used, and what made it slower than asked for."""
        feed = self._number(f"{part}.maximum_feed_mm_s")
        rate = self._steps_per_s / self._number(f"{part}.steps_per_mm") if self._steps_per_s else feed
        speed = min(speed_mm_s, feed, rate)
        if speed == speed_mm_s:
            return speed, ""
        return speed, f"{part}.maximum_feed_mm_s" if speed == feed else "steps_per_s"

    def _carry(self, axis: str, mm: float, speed_mm_s: float) -> None:
        """Turn an axis's motors as far as carries it by so much."""
        legs = (Leg(leg.socket, leg.steps * mm, leg.microsteps, leg.amps) for leg in self._unit)
        self.mechanics.turn(legs, Effort(axis, speed_mm_s))
        here = self.position[axis]
        if here is not None:
            self.position[axis] = here + mm
        self._follow(self.mechanics.where)

    def _axis_legs(self, axis: str, mm: float) -> tuple[Leg, ...]:
        """What the motors do when an axis moves by so much."""
        share = dict.fromkeys(self._roots(axis), mm)
        if self.live.get("machine.kinematics") == "corexy" and axis in ("x", "y"):
            share = dict.fromkeys(self._roots("x"), mm)
            share.update(dict.fromkeys(self._roots("y"), mm if axis == "x" else -mm))
        return tuple(self._leg(root, length) for root, length in share.items())

    def _leg(self, root: str, mm: float) -> Leg:
        if f"{root}.socket" not in self.live:
            known = ", ".join(name.removeprefix("axes.") for axis in AXES for name in self._roots(axis))
            raise Refused(NOT_ALLOWED, f"no motor “{root.removeprefix('axes.')}” on this board; known: {known}")
        part = root.partition(".motor")[0]
        steps = mm * self._number(f"{part}.steps_per_mm") * (-1 if self.live[f"{root}.reversed"] else 1)
        microsteps = int(self._number(f"{root}.microsteps"))
        return Leg(str(self.live[f"{root}.socket"]), steps, microsteps, self._number(f"{root}.run_a"))

    def _roots(self, axis: str) -> list[str]:
        start, ending = f"axes.{axis}.motors.", ".microsteps"
        return [path.removesuffix(ending) for path in self.live if path.startswith(start) and path.endswith(ending)]

    def _must_stand(self) -> None:
        if self.moving:
            raise Refused(NOT_ALLOWED, "another move runs: wait for its end, or halt")

    def _must_be_axis(self, axis: str) -> None:
        if axis not in AXES:
            raise Refused(NOT_ALLOWED, f"no axis “{axis}” on this board; known: x, y, z")

    def _must_be_inside(self, axis: str, here: float, mm: float) -> None:
        low, high = (self._number(f"axes.{axis}.{key}") for key in ("minimum_mm", "maximum_mm"))
        if self.live.get(f"axes.{axis}.soft_limits", True) and not low - 1e-6 <= here + mm <= high + 1e-6:
            raise Refused(
                NOT_ALLOWED,
                f"{axis.upper()} stands at {here:.2f} mm, {mm:+g} would end at {here + mm:.2f}: allowed {low:g} to "
                f"{high:g} mm",
            )

    def _number(self, path: str) -> float:
        value = self.live[path]
        return float(value) if isinstance(value, (int, float)) else 0.0
