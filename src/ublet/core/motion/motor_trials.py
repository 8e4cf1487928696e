"""Trials that turn motors for the first time: each by itself, then each axis; which motors to reverse or exchange."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.machine.schema import MachineFile
from ublet.core.machine.wiring import plug_words
from ublet.core.mixed_up import cycles
from ublet.core.motion.lift_directions import LiftsSeen, lifts_of, look_at_lifts, turned_round
from ublet.core.observations import LookAtDirection, LookAtMotors
from ublet.core.questions import Question
from ublet.core.remedy import ByHand, GoTo, StartAgain
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialResult
from ublet.core.settings import Part, Value, setting
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes

DIRECTIONS: Mapping[str, tuple[str, int]] = {
    "right": ("x", 1),
    "left": ("x", -1),
    "back": ("y", 1),
    "front": ("y", -1),
    "up": ("z", 1),
    "down": ("z", -1),
}
"""What is seen, as an axis and a sign: X to the right, Y to the back, Z opens the gap between nozzle and bed."""

ANSWERS = (*DIRECTIONS, "diagonal", "nothing")


@dataclass(frozen=True)
class Mend:
    """What puts the directions right: motors to reverse, pairs of motors whose sockets to exchange."""

    reverse: tuple[str, ...] = ()
    exchange: tuple[tuple[str, str], ...] = ()
    problems: tuple[str, ...] = ()

    @property
    def needed(self) -> bool:
        """Whether anything is to be done."""
        return bool(self.reverse or self.exchange or self.problems)


def shared_belts_mend(
    shared: tuple[str, ...],
    saw: Mapping[str, str],
    motors: Mapping[str, tuple[str, ...]],
    reversed_now: Mapping[str, bool],
) -> Mend:
    """The motors A and B of two belts that carry two axes together, from what a forward move of each axis did.

    The first axis is (A + B) / 2 and the second (A - B) / 2: the first one drives both motors forward, the second one A
    forward and B back. What the first did gives the sign of each belt's motor; what the second did says whether the
    plugs are exchanged: then it goes the other way. reversed_now: whether each motor is declared reversed. A motor
    keeps its wiring when its plug goes to the other socket, so after an exchange the flags are worked out anew.
    """
    first, second = shared
    a, b = motors[first][0], motors[second][0]
    if problems := _unclear(saw[first], saw[second]):
        return Mend(problems=problems)
    signs = {(first, 1): (1, 1), (first, -1): (-1, -1), (second, 1): (1, -1), (second, -1): (-1, 1)}
    one, two = signs.get(DIRECTIONS[saw[first]]), signs.get(DIRECTIONS[saw[second]])
    if one is None or two is None:
        named = f"{first.upper()} or {second.upper()}"
        return Mend(problems=(f"{named} moved another axis: mixed-up plugs, prove the motors one by one first.",))
    sign_a, sign_b = one
    if two == (sign_a, -sign_b):
        wrong = [name for name, sign in ((a, sign_a), (b, sign_b)) if sign < 0]
        return Mend(reverse=tuple(wrong))
    if two == (-sign_a, sign_b):
        # belt A hangs on b's driver: its wiring is its sign with b's flag taken out, and must be right under a's flag
        wiring = {a: sign_a * _flag(reversed_now[b]), b: sign_b * _flag(reversed_now[a])}
        wrong = [name for name in (a, b) if wiring[name] * _flag(reversed_now[name]) < 0]
        return Mend(reverse=tuple(wrong), exchange=((a, b),))
    return Mend(
        problems=(
            f"The answers contradict each other: where two belts carry {first.upper()} and {second.upper()}, "
            f"+{second.upper()} cannot go {saw[second]} when +{first.upper()} goes {saw[first]}. Look again.",
        )
    )


def straight_mend(saw: Mapping[str, str], motors: Mapping[str, tuple[str, ...]]) -> Mend:
    """Axes of their own motors: saw and motors by axis; the whole axis is reversed, or single motors are exchanged."""
    problems = [word for axis, seen in saw.items() for word in _unclear(seen, axis=axis)]
    if problems:
        return Mend(problems=tuple(problems))
    moved = {axis: DIRECTIONS[seen][0] for axis, seen in saw.items()}
    if sorted(moved.values()) != sorted(moved):
        return Mend(problems=("The answers contradict each other: two axes moved the same way. Look again.",))
    exchange: list[tuple[str, str]] = []
    for axis, other in moved.items():
        if axis < other:
            if moved[other] != axis or len(motors[axis]) != 1 or len(motors[other]) != 1:
                return Mend(problems=("Motors of several axes are mixed up: prove the motors one by one first.",))
            exchange.append((motors[axis][0], motors[other][0]))
    wrong = [axis for axis, seen in saw.items() if DIRECTIONS[seen][1] < 0]
    if exchange:
        return Mend(exchange=tuple(exchange))  # the second round shows the signs
    return Mend(reverse=tuple(motor for axis in wrong for motor in motors[axis]))


def _flag(is_reversed: bool) -> int:
    return -1 if is_reversed else 1


def _unclear(*seen: str, axis: str = "") -> tuple[str, ...]:
    name = f"{axis.upper()}: " if axis else ""
    unclear = []
    if "nothing" in seen:
        unclear.append(
            f"{name}nothing moved: no current, a wire open, or no driver. Prove the motors one by one first."
        )
    if "diagonal" in seen:
        unclear.append(
            f"{name}it moved diagonally: one of two motors does not turn. Prove the motors one by one first."
        )
    return tuple(unclear)


class MotorParameters(Part):
    """How far and how fast each motor turns."""

    length_mm: float = setting("Travel each way.", unit="mm", low=0.5, high=20, default=4.0)
    speed_mm_s: float = setting("Speed.", unit="mm/s", low=0.5, high=20, default=4.0)


class DirectionParameters(Part):
    """How far and how fast each axis moves."""

    length_mm: float = setting("Travel of each axis.", unit="mm", low=1, high=20, default=10.0)
    speed_mm_s: float = setting("Speed.", unit="mm/s", low=0.5, high=20, default=10.0)


def motor_roots(machine: MachineFile) -> tuple[str, ...]:
    """The declared motors as paths: ``axes.x.motors.a``, ..., ``extruder.motor``."""
    axes = tuple(
        f"axes.{axis}.motors.{name}" for axis in ("x", "y", "z") for name in getattr(machine.axes, axis).motors
    )
    return (*axes, *(("extruder.motor",) if machine.extruder is not None else ()))


def motor_words(root: str) -> str:
    """A motor in words: ``X a``, ``Z left``, ``extruder``."""
    return plug_words(f"{root}.socket")


async def motors_one_by_one(bench: Bench, aim: MotorParameters) -> TrialResult:
    """Each motor a few millimetres back and forth; the builder says which one turned."""
    roots = motor_roots(bench.machine)
    names = tuple(motor_words(root) for root in roots)
    answers: dict[str, str | None] = {}
    stutters: list[str] = []
    for number, (root, name) in enumerate(zip(roots, names, strict=True)):
        bench.progress(Progress(name, number / len(roots), None, f"{number + 1} of {len(roots)}", root))
        for direction in (1, -1):
            await bench.motion.turn(root.removeprefix("axes."), direction * aim.length_mm, aim.speed_mm_s)
        text = f"The motor {name} was commanded back and forth. Which motor turned?"
        answer = await bench.builder.ask(Question(text, (*names, "it stuttered", "nothing"), LookAtMotors()))
        if answer == "it stuttered":
            stutters.append(name)
        answers[name] = None if answer == "nothing" else name if answer == "it stuttered" else answer
        turned = answers[name]
        seen = float(names.index(turned)) if turned is not None else math.nan
        bench.record.row("turned", (float(number), seen, float(answer == "it stuttered")))
    own = {name: name for name in names}
    findings = (Finding("motors_right", float(sum(answers[name] == name for name in names))),)
    still = [name for name in names if answers[name] is None]
    words = [f"Nothing turned for {name}: no current, a wire open, or nothing plugged in." for name in still]
    words += [f"The motor {name} stutters: too little current, or one coil open." for name in stutters]
    crossed = {name: seen for name, seen in answers.items() if seen not in (None, name)}
    words += [f"{name} was commanded, and {seen} turned instead." for name, seen in crossed.items()]
    if not words:
        return TrialResult("proven", f"{len(names)} motors turn when commanded.", {}, findings)
    wrong = {seen: name for name, seen in cycles(answers, own).items()}
    if not wrong:
        wired = ByHand("check the motor's plug and wires")
        current = GoTo("machine file", "the current of its driver (run_a)")
        return TrialResult("failed", " ".join(words), {}, findings, remedies=(wired, current))
    paths = dict(zip(names, roots, strict=True))
    sockets = {paths[name]: bench.settings.shown(f"{paths[name]}.socket") for name in wrong}
    parts = {paths[part]: paths[other] for part, other in wrong.items()}
    proposals = tuple(
        Proposal(
            f"{part}.socket", sockets[part], sockets[other], "", f"the motor {motor_words(part)} is plugged in there"
        )
        for part, other in parts.items()
    )
    option = Option("mend", "then turn them again", proposals, {})
    return TrialResult("failed", " ".join(words), {}, findings, (option,), "mend")


LIFTS = (GoTo("lead screws", "bring the sides together", "lead-screws-by-hand"),)


async def directions(bench: Bench, aim: DirectionParameters) -> TrialResult:
    """Each axis back and forth; what the builder saw gives the motors to reverse or to exchange."""
    machine = bench.machine
    saw: dict[str, str] = {}
    for number, axis in enumerate(("x", "y", "z")):
        bench.progress(Progress(f"axis {axis.upper()}", number / 3, None, f"{number + 1} of 3", axis))
        await bench.motion.move(axis, aim.length_mm, aim.speed_mm_s)
        text = (
            f"{axis.upper()} was commanded {aim.length_mm:g} mm forward. Which way did the nozzle move "
            "relative to the bed? "
            "(up: the gap between them opened)"
        )
        saw[axis] = await bench.builder.ask(Question(text, ANSWERS, LookAtDirection()))
        bench.record.row("seen", (float(number), float(ANSWERS.index(saw[axis]))))
        await bench.motion.move(axis, -aim.length_mm, aim.speed_mm_s)
    lifts = await look_at_lifts(bench) if lifts_of(machine) and saw["z"] == "up" else LiftsSeen()
    roots = motor_roots(machine)
    motors = {axis: tuple(root for root in roots if root.startswith(f"axes.{axis}.")) for axis in ("x", "y", "z")}
    flags = {root: bool(bench.settings.live(f"{root}.reversed")) for root in roots if root.startswith("axes.")}
    mends = _mends(machine, saw, motors, flags)
    findings = tuple(
        Finding("went_right", float(saw[axis] == wanted), subject={"axis": axis}, words=f"{axis} went {saw[axis]}")
        for axis, wanted in (("x", "right"), ("y", "back"), ("z", "up"))
    )
    if not lifts.good:
        mended = turned_round(bench, lifts)
        others = " ".join(problem for mend in mends for problem in mend.problems)
        if not any(mend.needed for mend in mends):
            return TrialResult("failed", lifts.words, {}, findings, mended, mended[0].name if mended else "", LIFTS)
        findings = (*findings, Finding("lifts_right", 0.0, words=f"{lifts.words} {others}".strip()))
    elif lifts_of(machine) and saw["z"] == "up":
        bench.motion.prove_lifts()
    if not any(mend.needed for mend in mends):
        return TrialResult("proven", "Right, back and up, as commanded.", {}, findings)
    words = [problem for mend in mends for problem in mend.problems]
    proposals: list[Proposal] = []
    for mend in mends:
        for one, two in mend.exchange:
            words.append(f"The motors {motor_words(one)} and {motor_words(two)} are exchanged.")
            for part, other in ((one, two), (two, one)):
                proposals.append(
                    _plug(part, bench.settings.shown(f"{part}.socket"), bench.settings.shown(f"{other}.socket"))
                )
        for root in mend.reverse:
            words.append(f"The motor {motor_words(root)} runs the wrong way.")
            proposals.append(Proposal(f"{root}.reversed", flags[root], not flags[root], "", "it turns the other way"))
    option = Option("mend", "then move them again", tuple(proposals), {})
    kept = (option,) if proposals else ()
    motors_first = () if kept else (GoTo("motors", "each motor by itself"), StartAgain())
    return TrialResult("failed", " ".join(words), {}, findings, kept, "mend" if kept else "", motors_first)


def _plug(motor: str, before: Value, after: Value) -> Proposal:
    return Proposal(f"{motor}.socket", before, after, "", f"the motor {motor_words(motor)} is plugged in there")


def _mends(
    machine: MachineFile, saw: Mapping[str, str], motors: Mapping[str, tuple[str, ...]], flags: Mapping[str, bool]
) -> tuple[Mend, ...]:
    shared = machine.machine.layout.shared
    if not shared:
        return (straight_mend(saw, motors),)
    alone = {axis: seen for axis, seen in saw.items() if axis not in shared}
    return (shared_belts_mend(shared, saw, motors, flags), straight_mend(alone, motors))


def _needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (Need(f"{len(motor_roots(machine))} motors declared", True),)


def _announce_motors(machine: MachineFile, aim: MotorParameters) -> str:
    names = ", ".join(motor_words(root) for root in motor_roots(machine))
    return (
        f"Turns {names}: each {aim.length_mm:g} mm back and forth at {aim.speed_mm_s:g} mm/s. "
        "Carriages in the middle, a hand on F8. Nothing heats."
    )


def _announce_directions(machine: MachineFile, aim: DirectionParameters) -> str:
    return (
        f"Moves X, then Y, then Z: each {aim.length_mm:g} mm back and forth at {aim.speed_mm_s:g} mm/s. "
        "Carriages in the middle, a hand on F8. Nothing heats."
    )


def _lasts(machine: MachineFile, aim: MotorParameters, times: TrialTimes) -> float:
    return len(motor_roots(machine)) * (2 * aim.length_mm / aim.speed_mm_s + 1.0)


A_LIFTS_S = 3.0
"""Opening Z by its lead screws one by one, s."""


def _lasts_directions(machine: MachineFile, aim: DirectionParameters, times: TrialTimes) -> float:
    opened_s = A_LIFTS_S if len(machine.axes.z.motors) > 1 else 0.0
    return 3 * (2 * aim.length_mm / aim.speed_mm_s + 1.0) + opened_s


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "motors-one-by-one",
        "motors",
        "Each motor a few millimetres back and forth; which one turned?",
        MotorParameters,
        motors_one_by_one,
        (Stream("turned", ("commanded", "turned", "stuttered"), ("", "", ""), number="f4"),),
        _announce_motors,
        _needs,
        verify="motors-one-by-one",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=always("motion"),
        facts=facts("plugs"),
    ),
    TrialSpec(
        "directions",
        "directions",
        "Each axis back and forth: which motor to reverse, which two to exchange.",
        DirectionParameters,
        directions,
        (Stream("seen", ("axis", "answer"), ("", ""), number="i2"),),
        _announce_directions,
        _needs,
        verify="directions",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts_directions,
        uses=always("motion"),
    ),
)
