"""How a path is followed: speeds within caps, round corners, and ahead to where it ends. Closed forms, no ticks."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from ublet.core.machine.layouts import AXES
from ublet.core.sockets import Pace

ENDED_MM = 1e-9
"""Less than this of a line left is none."""

STRAIGHT = 1 - 1e-9
"""Cosine beyond which two lines are one."""


@dataclass(frozen=True)
class Cap:
    """The most that a part of a move may do: speed in mm/s, acceleration in mm/s²; and the setting that says so."""

    speed: float
    acceleration: float
    setting: str


@dataclass(frozen=True)
class LinearMove:
    """A straight line to be followed. way: its direction, by axis (and ``e``); at ``top`` mm/s at the most."""

    direction: Mapping[str, float]
    length: float
    top: float
    acceleration: float
    capped_by: str = ""


def line_of(travel: Mapping[str, float], feed: float, caps: Mapping[str, Cap]) -> LinearMove:
    """A line with the speed and acceleration that keep every part within its cap.

    Args:
        travel: mm of each axis, of the filament (``e``) and of each motor that is capped by itself.
        feed: speed asked for along the path of the axes, mm/s; along the filament or motor where no axis moves.
        caps: caps of what ``travel`` names; what has none is not capped.

    Raises:
        ValueError: nothing travels.
    """
    length = math.sqrt(sum(travel.get(axis, 0.0) ** 2 for axis in AXES))
    length = length or max((abs(mm) for mm in travel.values()), default=0.0)
    if length <= 0:
        raise ValueError("a line without length")
    direction = {name: mm / length for name, mm in travel.items() if mm}
    top, by, acceleration = feed, "", math.inf
    for name, fraction in direction.items():
        if (cap := caps.get(name)) is None:
            continue
        if cap.speed < top * abs(fraction) * (1 - 1e-12):
            top, by = cap.speed / abs(fraction), cap.setting
        acceleration = min(acceleration, cap.acceleration / abs(fraction))
    return LinearMove(direction, length, top, acceleration, by)


Corner = Callable[[LinearMove, LinearMove], float]
"""The speed at which the corner between two lines is taken, mm/s."""


def by_deviation(before: LinearMove, after: LinearMove, deviation: float) -> float:
    """A corner taken as if it were rounded by a circle that leaves it by ``deviation`` mm.

    The centripetal acceleration on that circle is the lines' own (junction deviation; Jeon 2011):
    ``v^2 = a d sin(t/2) / (1 - sin(t/2))``, t the angle between the lines. Filament takes no part in the angle; a line
    of the filament alone begins and ends standing.
    """
    if not all(any(axis in line.direction for axis in AXES) for line in (before, after)):
        return 0.0
    cosine = -sum(before.direction.get(axis, 0.0) * after.direction.get(axis, 0.0) for axis in AXES)
    if cosine < -STRAIGHT:
        return min(before.top, after.top)
    if cosine > STRAIGHT:
        return 0.0
    half = math.sqrt((1 - cosine) / 2)
    turning = min(before.acceleration, after.acceleration) * deviation * half / (1 - half)
    return min(before.top, after.top, math.sqrt(turning))


def by_jerk(before: LinearMove, after: LinearMove, jerks: Mapping[str, float]) -> float:
    """A corner taken so fast that no axis, nor the filament, changes its speed by more than its jerk, mm/s."""
    fastest = min(before.top, after.top)
    for part, jerk in jerks.items():
        change = abs(after.direction.get(part, 0.0) - before.direction.get(part, 0.0))
        fastest = min(fastest, jerk / change) if change > 0 else fastest
    return fastest


def leaving_speeds(lines: Sequence[LinearMove], corners: Sequence[float], speed: float = 1.0) -> list[float]:
    """The speed, mm/s, at which each line is left so that what follows can be kept: look-ahead from a standing end.

    Args:
        lines: n lines.
        corners: n - 1 speeds of the corners between them.
        speed: share of the lines' top speeds that is driven.
    """
    speeds, entering = [0.0] * len(lines), 0.0
    for number in range(len(lines) - 1, -1, -1):
        line = lines[number]
        top = line.top * speed
        speeds[number] = entering = min(entering, top)
        fastest = min(top, math.sqrt(entering**2 + 2 * line.acceleration * line.length))
        entering = min(fastest, corners[number - 1]) if number else fastest
    return speeds


def next_pace(speed: float, left: float, leaving: float, top: float, acceleration: float) -> Pace:
    """The next piece of even acceleration on a line, from where it is now.

    Args:
        speed: now, mm/s. left: of the line, mm, above 0. leaving: speed at its end.
        top: speed that it may have. acceleration: mm/s².

    Returns:
        A pace that ends where another begins. A line entered too fast for its end is braked as hard as it needs.
    """
    leaving = min(leaving, math.sqrt(speed**2 + 2 * acceleration * left))
    braking = (speed**2 - leaving**2) / (2 * acceleration)
    if braking >= left - ENDED_MM:
        slower = (speed**2 - leaving**2) / (2 * left)
        return Pace(speed, -slower, 2 * left / (speed + leaving))
    if speed > top * (1 + 1e-9):
        return Pace(speed, -acceleration, (speed - top) / acceleration)
    peak = min(top, math.sqrt((2 * acceleration * left + speed**2 + leaving**2) / 2))
    if speed < peak * (1 - 1e-9):
        return Pace(speed, acceleration, (peak - speed) / acceleration)
    even = left - max(0.0, peak**2 - leaving**2) / (2 * acceleration)
    if even > ENDED_MM:
        return Pace(speed, 0.0, even / speed)
    return Pace(speed, -acceleration, (speed - leaving) / acceleration)


def paces(line: LinearMove, entering: float, leaving: float, speed: float = 1.0) -> Iterator[Pace]:
    """The pieces in which a line is followed from one end to the other."""
    left, now = line.length, entering
    while left > ENDED_MM:
        pace = next_pace(now, left, leaving, line.top * speed, line.acceleration)
        left -= pace.gone(pace.seconds)
        now = pace.speed(pace.seconds)
        yield pace


def along(lines: Sequence[LinearMove], corner: Corner) -> Iterator[tuple[int, Pace]]:
    """A whole path from standstill to standstill: each piece with the number of its line."""
    corners = [corner(a, b) for a, b in pairwise(lines)]
    now = 0.0
    for number, (line, leaving) in enumerate(zip(lines, leaving_speeds(lines, corners), strict=True)):
        for pace in paces(line, now, leaving):
            now = pace.speed(pace.seconds)
            yield number, pace


def duration(lines: Sequence[LinearMove], corner: Corner) -> float:
    """How long lines take from standstill to standstill, s."""
    return sum(pace.seconds for _, pace in along(lines, corner))
