"""Which motor to reverse, and which plugs to exchange, from what a builder saw when an axis was told to move."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

WAYS: Mapping[str, tuple[str, int]] = {
    "right": ("x", 1),
    "left": ("x", -1),
    "back": ("y", 1),
    "front": ("y", -1),
    "up": ("z", 1),
    "down": ("z", -1),
}
"""What is seen, as an axis and a sign: X to the right, Y to the back, Z opens the gap between nozzle and bed."""

ANSWERS = (*WAYS, "diagonal", "nothing")


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
    one, two = signs.get(WAYS[saw[first]]), signs.get(WAYS[saw[second]])
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
    moved = {axis: WAYS[seen][0] for axis, seen in saw.items()}
    if sorted(moved.values()) != sorted(moved):
        return Mend(problems=("The answers contradict each other: two axes moved the same way. Look again.",))
    exchange: list[tuple[str, str]] = []
    for axis, other in moved.items():
        if axis < other:
            if moved[other] != axis or len(motors[axis]) != 1 or len(motors[other]) != 1:
                return Mend(problems=("Motors of several axes are mixed up: prove the motors one by one first.",))
            exchange.append((motors[axis][0], motors[other][0]))
    wrong = [axis for axis, seen in saw.items() if WAYS[seen][1] < 0]
    if exchange:
        return Mend(exchange=tuple(exchange))  # the second round tells the signs
    return Mend(reverse=tuple(motor for axis in wrong for motor in motors[axis]))


def _flag(is_reversed: bool) -> int:
    return -1 if is_reversed else 1


def _unclear(*seen: str, axis: str = "") -> tuple[str, ...]:
    name = f"{axis.upper()}: " if axis else ""
    found = []
    if "nothing" in seen:
        found.append(f"{name}nothing moved: no current, a wire open, or no driver. Prove the motors one by one first.")
    if "diagonal" in seen:
        found.append(f"{name}it moved diagonally: one of two motors does not turn. Prove the motors one by one first.")
    return tuple(found)
