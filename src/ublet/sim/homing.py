"""Homing as the board does it: fast approach until the switch triggers, back off, slow approach."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

MARGIN_MM = 10.0
"""So much beyond the axis's length it seeks its end, then gives up, mm."""

SUBSTEP_MM, LONGEST_SUBSTEP_S, SHORTEST_SUBSTEP_S = 0.008, 0.02, 0.001
"""While seeking, the switch is looked at every so many mm, within these times."""


@dataclass(frozen=True)
class HomingPlan:
    """How one axis homes: way towards its end (-1 or 1), distances in mm, speeds in mm/s, and the end's position."""

    axis: str
    way: int
    length_mm: float
    fast_mm_s: float
    slow_mm_s: float
    back_off_mm: float
    end_mm: float


@dataclass
class Segment:
    """A piece of a homing: signed length, speed, whether it ends when the switch triggers, and what to say if not."""

    mm: float
    speed_mm_s: float
    until_triggered: bool
    missing: str = ""


class Homing:
    """One axis on its way to its end. ``failed`` says why it did not find it."""

    def __init__(self, plan: HomingPlan, triggered: Callable[[], bool]) -> None:
        self.plan = plan
        self.failed = ""
        self.done = False
        self._triggered = triggered
        self._pieces = self._course()
        self._piece: Segment | None = next(self._pieces, None)
        self._gone = 0.0

    def _course(self) -> Iterator[Segment]:
        plan = self.plan
        if self._triggered():
            yield Segment(-plan.way * 2 * plan.back_off_mm, plan.slow_mm_s, False)
            if self._triggered():
                self.failed = "its switch reads triggered and stays so: polarity, a broken wire, or a mixed-up plug"
                return
        seek = plan.length_mm + MARGIN_MM
        never = (
            f"no switch triggered in {seek:g} mm: it runs the wrong way, its switch does not answer, its motor turns "
            "and the axis stays behind (too little current, something binds, a loose pulley), or it moves less than it "
            "is told (steps per mm, lead of the screw)"
        )
        yield Segment(plan.way * seek, plan.fast_mm_s, True, never)
        yield Segment(-plan.way * plan.back_off_mm, plan.fast_mm_s, False)
        if self._triggered():
            self.failed = f"its switch stays triggered {plan.back_off_mm:g} mm away from the end: back off further"
            return
        again = "it triggered at the fast approach and not at the slow one"
        yield Segment(plan.way * 2 * plan.back_off_mm, plan.slow_mm_s, True, again)

    def advance(self, seconds: float, carry: Callable[[float, float], None]) -> None:
        """Let time pass; carry moves the axis by so many mm at a speed in mm/s."""
        left = seconds
        while left > 1e-12 and self._piece is not None and not self.done:
            piece = self._piece
            fine = min(LONGEST_SUBSTEP_S, max(SHORTEST_SUBSTEP_S, SUBSTEP_MM / piece.speed_mm_s))
            step_s = min(fine, left)
            way = 1 if piece.mm > 0 else -1
            step = min(piece.speed_mm_s * step_s, abs(piece.mm) - self._gone)
            carry(way * step, piece.speed_mm_s)
            self._gone += step
            left -= step_s
            hit = piece.until_triggered and self._triggered()
            if hit or self._gone >= abs(piece.mm) - 1e-9:
                if piece.until_triggered and not hit:
                    self.failed = piece.missing
                    break
                self._piece, self._gone = next(self._pieces, None), 0.0
        self.done = self.done or self._piece is None or bool(self.failed)
