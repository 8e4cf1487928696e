"""The board's queue of motion: pieces followed one after the other, joined at corners, held and sped on the way."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from ublet.core.motion.planner import ENDED_MM, Corner, LinearMove, leaving_speeds, next_pace
from ublet.core.motion.sweep_motion import GRID_HZ, SweepCourse
from ublet.core.sockets import Pace, Sockets, Steps, Until
from ublet.firmware.following import PathCorrections
from ublet.firmware.leading import Lead
from ublet.firmware.shaping import Shaping

SOON_S = 1e-12
"""Less time than this is none."""


@dataclass
class Piece:
    """Something that the queue does. begun: called when it begins. done: called when it has ended, and whether
    what it looked out for came true.
    """

    done: Callable[[bool], None] = field(default=lambda hit: None, kw_only=True)
    begun: Callable[[], None] = field(default=lambda: None, kw_only=True)
    under_way: bool = field(default=False, kw_only=True)


@dataclass
class Move(Piece):
    """A line, with the steps that its motors make for each mm of it; ``until`` ends it early.

    motors: how far each motor travels in all, mm. stands: it begins and ends standing, as one with ``until`` does.
    """

    line: LinearMove
    steps: tuple[Steps, ...]
    until: Until | None = None
    motors: Mapping[str, float] = field(default_factory=dict, kw_only=True)
    stands: bool = field(default=False, kw_only=True)


@dataclass
class SweepMotion(Piece):
    """To and fro about where it stands, with the steps of its motors for each mm; it begins with a control period."""

    course: SweepCourse
    direction: Mapping[str, float]
    steps: tuple[Steps, ...]
    at: int = 0


@dataclass
class Pause(Piece):
    """Standing still for a time, s."""

    left_s: float


@dataclass
class Waiting(Piece):
    """Standing still until something has come true."""

    ready: Callable[[], bool]


class MotionQueue:
    """Follows pieces in closed form. moved: called for every bit of a line that was gone.

    feed: share of its speed at which every line is followed. held: it brakes along its path, and stands.
    """

    def __init__(
        self, sockets: Sockets, moved: Callable[[Mapping[str, float], float], None], following: PathCorrections
    ) -> None:
        self._sockets = sockets
        self._following = following
        self.shaping = Shaping()
        self.lead = Lead()
        self._moved = moved
        self.corner: Corner = lambda before, after: 0.0
        self.pieces: deque[Piece] = deque()
        self.speed = 0.0
        self._gone = 0.0
        self._feed, self._held = 1.0, False
        self._period_s = 0.0  # that is let pass just now
        self._leaving: list[float] | None = None
        self._beside: deque[Move] = deque()
        self._beside_gone = self._beside_speed = 0.0

    @property
    def busy(self) -> bool:
        """Whether anything is to be done."""
        return bool(self.pieces or self._beside)

    def looks_out_for(self, socket: str) -> bool:
        """Whether the line under way ends at an input."""
        piece = self.pieces[0] if self.pieces else None
        return isinstance(piece, Move) and piece.until is not None and piece.until.socket == socket

    def beside(self, move: Move) -> None:
        """Follow a short line beside whatever goes on, as soon as may be."""
        self._beside.append(move)

    def add(self, piece: Piece) -> None:
        """Append a piece; what was to be the end is no longer braked for."""
        self.pieces.append(piece)
        self._leaving = None

    def clear(self) -> None:
        """Stop dead: nothing is left, and nothing turns."""
        self.pieces.clear()
        self._beside.clear()
        self._beside_gone = self._beside_speed = 0.0
        self.speed = self._gone = 0.0
        self._held, self._leaving = False, None
        self.lead.forget()

    @property
    def held(self) -> bool:
        """Whether it brakes or stands on somebody's word."""
        return self._held

    def hold(self, held: bool) -> None:
        """Brake along the path and stand there; or go on from there."""
        self._held = held

    @property
    def feed(self) -> float:
        """Share of its speed at which every line is followed."""
        return self._feed

    @feed.setter
    def feed(self, fraction: float) -> None:
        self._feed, self._leaving = fraction, None

    def advance(self, seconds: float) -> None:
        """Let time pass."""
        self._follow_beside(seconds)
        self._period_s = left = seconds
        while left > SOON_S and self.pieces:
            piece = self.pieces[0]
            sweep_moves = isinstance(piece, SweepMotion)  # which cannot be held: it is stopped, or ends
            if self._held and self.speed <= 0 and not (sweep_moves and piece.under_way):
                return
            if sweep_moves and not piece.under_way and left < seconds - SOON_S:
                return
            if not piece.under_way:
                piece.under_way = True
                piece.begun()
                if not self.pieces or self.pieces[0] is not piece:
                    continue  # a listener put an end to it
            if isinstance(piece, Move):
                used = self._following.leave(self._sockets, piece.line.direction, piece.until)
                used += self._follow(piece, left)
            elif isinstance(piece, SweepMotion):
                used = self._sweep_move(piece, left)
            elif isinstance(piece, Pause):
                used = min(left, piece.left_s)
                piece.left_s -= used
                if piece.left_s <= SOON_S:
                    self._end(False)
            else:
                assert isinstance(piece, Waiting)
                used = 0.0 if piece.ready() else left
                if not used:
                    self._end(True)
            left -= used

    def _follow(self, move: Move, left_s: float) -> float:
        """Follow a line until its pace changes, or so long; returns the time that it took, s."""
        line, left_mm = move.line, move.line.length - self._gone
        if self._held:
            pace = Pace(self.speed, -line.acceleration, min(self.speed / line.acceleration, left_s))
            if pace.gone(pace.seconds) > left_mm:
                pace = Pace(pace.speed_mm_s, pace.acceleration_mm_s2, pace.reached(left_mm))
        else:
            pace = next_pace(self.speed, left_mm, self._leave(), line.top * self._feed, line.acceleration)
            pace = Pace(pace.speed_mm_s, pace.acceleration_mm_s2, min(pace.seconds, left_s))
        steps = move.steps if move.until is not None else self.lead.with_lead(move.steps, line.direction, pace)
        met_s = self._following.turn(self._sockets, steps, line.direction, pace, move.until)
        took = pace.seconds if met_s is None else met_s
        if self.shaping.awake:
            self.shaping.follow(
                line.direction, self._period_s - left_s, Pace(self.speed, pace.acceleration_mm_s2, took)
            )
        gone = min(pace.gone(took), left_mm)
        self.speed, self._gone = pace.speed(took), self._gone + gone
        self._moved(line.direction, gone)
        if met_s is not None:
            self.speed = 0.0
        if met_s is not None or left_mm - gone <= ENDED_MM:
            self._end(met_s is not None)
        return max(took, SOON_S)

    def _sweep_move(self, sweep_move: SweepMotion, left_s: float) -> float:
        """Swing on for so long; returns the time that it took, s. Motors are turned by what it leaves."""
        count = min(round(left_s * GRID_HZ), sweep_move.course.count - sweep_move.at)
        speeds = sweep_move.course.speeds(sweep_move.at, count + 1)
        if self.shaping.awake:
            self.shaping.stepped(sweep_move.direction, round((self._period_s - left_s) * GRID_HZ), speeds)
        seconds = count / GRID_HZ
        gone = float((speeds[1:] + speeds[:-1]).sum()) / (2 * GRID_HZ)
        if gone and seconds:
            back = gone < 0
            steps = tuple(replace(step, per_mm=-step.per_mm) for step in sweep_move.steps) if back else sweep_move.steps
            self._sockets.turn(steps, Pace(abs(gone) / seconds, 0.0, seconds))
            self._moved(sweep_move.direction, gone)
        sweep_move.at += count
        if sweep_move.at >= sweep_move.course.count:
            self._end(False)
        return max(seconds, SOON_S)

    def _follow_beside(self, seconds: float) -> None:
        left = seconds
        while left > SOON_S and self._beside:
            move = self._beside[0]
            left_mm = move.line.length - self._beside_gone
            pace = next_pace(self._beside_speed, left_mm, 0.0, move.line.top, move.line.acceleration)
            pace = Pace(pace.speed_mm_s, pace.acceleration_mm_s2, min(pace.seconds, left))
            self._sockets.turn(move.steps, pace)
            gone = min(pace.gone(pace.seconds), left_mm)
            self._beside_speed, self._beside_gone = pace.speed(pace.seconds), self._beside_gone + gone
            self._moved(move.line.direction, gone)
            left -= max(pace.seconds, SOON_S)
            if left_mm - gone <= ENDED_MM:
                self._beside.popleft()
                self._beside_gone = self._beside_speed = 0.0
                move.done(False)

    def _end(self, hit: bool) -> None:
        piece = self.pieces.popleft()
        self._gone = 0.0
        if self._leaving:
            self._leaving.pop(0)
        if self._leaving == [] or not self.pieces:
            self._leaving = None
        following = self.pieces[0] if self.pieces else None
        if not isinstance(following, Move) or following.stands or following.until:
            self.speed = 0.0  # but for rounding it was
        piece.done(hit)

    def _leave(self) -> float:
        """The speed at which the piece under way is to be left."""
        if self._leaving is None:
            lines: list[LinearMove] = []
            corners: list[float] = []
            for piece in self.pieces:  # as far as the path goes on without standing still
                if not isinstance(piece, Move) or (lines and (piece.stands or piece.until)):
                    break
                if lines:
                    corners.append(self.corner(lines[-1], piece.line))
                lines.append(piece.line)
                if piece.stands or piece.until:
                    break
            self._leaving = leaving_speeds(lines, corners, self._feed)
        return self._leaving[0]
